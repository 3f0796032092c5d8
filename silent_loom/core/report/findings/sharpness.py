"""Sharpness, noise and JPEG blocks, from full-size parts."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.files import Picture
from silent_loom.core.look.quality import Sharpness, blockiness, noise_level, sharpness
from silent_loom.core.report.finding import Finding, Seen, cure, seen

PLACE = 1
"""Where it comes among the findings."""
BLURRED = 0.1
"""Below this figure a photo is called blurred: by one and a half pixels or more, whatever it shows."""


def _crops(codes: NDArray[Any], size: int = 512) -> list[NDArray[Any]]:
    """Four full-size parts, spread over the picture, on the grid of eight that JPEG works on."""
    h, w = codes.shape[:2]
    sh, sw = min(size, h), min(size, w)
    ys, xs = ({int(round(t * (n - s) / 8) * 8) for t in (0.15, 0.85)} for n, s in ((h, sh), (w, sw)))
    return [codes[y : y + sh, x : x + sw] for y in sorted(ys) for x in sorted(xs)]


def blurred(picture: Picture, task: Task = IDLE) -> str:
    """In words, how blurred a photo is; nothing where it is not.

    >>> from silent_loom.core.files.profile import SRGB
    >>> blurred(Picture(np.random.default_rng(1).integers(0, 255, (64, 64, 3)).astype(np.uint8), None, SRGB, 8, "png"))
    ''
    """
    found = _sharp(sharpness(_planes(seen(picture, None, task))), max(picture.width, picture.height))
    return found.says if found.level == "bad" else ""


def _planes(photo: Seen) -> list[Floats]:
    return [p.mean(2).astype(np.float32) / np.float32(photo.top) for p in _crops(photo.whole)]


def _sharp(sharp: Sharpness, side: int) -> Finding:
    if sharp.octave < 0:
        words = "What there is of fine detail is no stronger than the noise: how sharp the photo is cannot be told."
        return Finding("sharpness", "note", "Hardly any fine detail", words, 0.0)
    title = f"Sharpness {sharp.figure:.2f}"
    if sharp.lacking == sharp.octave:
        if sharp.octave == 0:
            return Finding("sharpness", "good", title, "Fine detail is there.", sharp.figure)
        words = f"The photo is sharp at about {max(1, side >> sharp.octave)} texels along the longer side. "
        words += "What is finer is no stronger than the noise."
        return Finding("sharpness", "note", title, words, sharp.figure)
    # Where noise hides the finest detail and the next is missing too, the blur is wide
    bad = sharp.figure < BLURRED or sharp.octave > 0
    words = "Blurred" if bad else "A little soft"
    words += ": fine detail is missing, and height and normals stay soft. "
    words += f"About {max(1, side >> sharp.lacking)} texels along the longer side hold all there is; or shoot again."
    return Finding("sharpness", "bad" if bad else "note", title, words, sharp.figure)


def find(photo: Seen, task: Task) -> list[Finding]:
    """What there is to say of it.

    >>> from silent_loom.core.files.profile import SRGB
    >>> import numpy as np
    >>> from silent_loom.core.files import Picture
    >>> codes = np.full((64, 128, 3), 90, np.uint8)
    >>> grey = seen(Picture(codes, None, SRGB, 8, "png"), None, IDLE)
    >>> [f.code for f in find(grey, IDLE)]
    ['sharpness']
    """
    findings: list[Finding] = []
    parts = _planes(photo)
    sharp, noise = sharpness(parts), float(np.median([noise_level(p) for p in parts]))
    blocks = float(np.median([blockiness(p) for p in parts]))
    photo.figures |= {"sharpness": round(sharp.figure, 3), "noise_codes": round(noise * 255, 3), "jpeg_blocks": round(blocks, 3)}
    findings.append(_sharp(sharp, max(photo.size)))
    if noise * 255 > 2.0:
        findings.append(
            Finding(
                "noise",
                "bad" if noise * 255 > 5 else "note",
                f"Noise of {noise * 255:.1f} codes",
                "It will look like a rough surface: weigh the finest feature size down in Height.",
                noise * 255,
                cure("depth", {"fine": 0.3}, "Lower the fine features of Height", at_most=True),
            )
        )
    if blocks > 0.2:
        findings.append(
            Finding(
                "blocks",
                "bad" if blocks > 0.5 else "note",
                f"JPEG blocks, strength {blocks:.2f}",
                "Squares of eight pixels will show in height and normals: use a file with less compression, or fewer texels.",
                blocks,
                cure("depth", {"fine": 0.4}, "Lower the fine features of Height", at_most=True),
            )
        )
    return findings
