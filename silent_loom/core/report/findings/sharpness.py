"""Sharpness, noise and JPEG blocks, from full-size parts."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.parallel import Task
from silent_loom.core.look.quality import blockiness, noise_level, sharpness
from silent_loom.core.report.finding import Finding, Seen, cure

PLACE = 1
"""Where it comes among the findings."""


def _crops(codes: NDArray[Any], size: int = 512) -> list[NDArray[Any]]:
    """Four full-size parts, spread over the picture, on the grid of eight that JPEG works on."""
    h, w = codes.shape[:2]
    sh, sw = min(size, h), min(size, w)
    ys, xs = ({int(round(t * (n - s) / 8) * 8) for t in (0.15, 0.85)} for n, s in ((h, sh), (w, sw)))
    return [codes[y : y + sh, x : x + sw] for y in sorted(ys) for x in sorted(xs)]


def find(seen: Seen, task: Task) -> list[Finding]:
    """What there is to say of it.

    >>> from silent_loom.core.base.parallel import IDLE
    >>> from silent_loom.core.files.profile import SRGB
    >>> from silent_loom.core.report.finding import seen
    >>> import numpy as np
    >>> from silent_loom.core.files import Picture
    >>> codes = np.full((64, 128, 3), 90, np.uint8)
    >>> photo = seen(Picture(codes, None, SRGB, 8, "png"), None, IDLE)
    >>> [f.code for f in find(photo, IDLE)]
    ['sharpness']
    """
    findings: list[Finding] = []
    parts = [p.mean(2).astype(np.float32) / np.float32(seen.top) for p in _crops(seen.whole)]
    sharp, noise = float(np.median([sharpness(p) for p in parts])), float(np.median([noise_level(p) for p in parts]))
    blocks = float(np.median([blockiness(p) for p in parts]))
    seen.figures |= {"sharpness": round(sharp, 3), "noise_codes": round(noise * 255, 3), "jpeg_blocks": round(blocks, 3)}
    level = "good" if sharp >= 4 else "note" if sharp >= 1.8 else "bad"
    findings.append(
        Finding(
            "sharpness",
            level,
            f"Sharpness {sharp:.1f}",
            "Fine detail is there."
            if level == "good"
            else "Fine detail is missing: height and normals stay soft. Take fewer texels, or shoot again.",
            sharp,
        )
    )
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
