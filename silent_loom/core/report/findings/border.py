"""A border of one colour around a photo."""

from __future__ import annotations

import numpy as np

from silent_loom.core.base.images import Floats
from silent_loom.core.base.parallel import Task
from silent_loom.core.report.finding import Finding, Seen, box_corners, cure

PLACE = 4
"""Where it comes among the findings."""
AGAIN, MOSTLY = 0.08, 0.85
"""How far a colour may be from the border's, and which part of a line it must fill, for the border to come again."""


def border(grey: Floats, colour: Floats) -> tuple[float, float, float, float]:
    """Parts of the picture, left, top, right, bottom, that are a border of one constant colour.

    >>> grey = np.random.default_rng(1).random((64, 64), np.float32)
    >>> grey[:8] = 1
    >>> [round(float(b), 3) for b in border(grey, np.repeat(grey[..., None], 3, 2))]
    [0.0, 0.125, 0.0, 0.0]
    """

    def run(lines: Floats) -> int:
        edge = np.median(lines[0], 0)
        n = 0
        for line in lines[: len(lines) // 3]:
            if np.percentile(np.abs(line - edge).max(1), 97) > 0.03:
                break
            n += 1
        # A surface that is all one colour has no border; nor has one whose lines come again farther in, such as tiles in grout
        if n >= len(lines) // 3 or (n and _comes_again(lines[n : len(lines) - n], edge)):
            return 0
        return n

    h, w = grey.shape
    sides = (colour.transpose(1, 0, 2), colour, colour.transpose(1, 0, 2)[::-1], colour[::-1])
    found = [run(np.ascontiguousarray(s)) for s in sides]
    out = [n / length if n >= 2 else 0.0 for n, length in zip(found, (w, h, w, h), strict=True)]
    return out[0], out[1], out[2], out[3]


def _comes_again(lines: Floats, colour: Floats) -> bool:
    """Whether whole lines farther in are of the same colour, beyond what is soft at the side of the border."""
    beyond = lines[max(2, len(lines) // 20) :]
    like = (np.abs(beyond - colour).max(2) <= AGAIN).mean(1) if len(beyond) else np.zeros(1)
    return bool(like.max() >= MOSTLY)


def find(seen: Seen, task: Task) -> list[Finding]:
    """What there is to say of it.

    >>> from silent_loom.core.base.parallel import IDLE
    >>> from silent_loom.core.files.profile import SRGB
    >>> from silent_loom.core.report.finding import seen
    >>> import numpy as np
    >>> from silent_loom.core.files import Picture
    >>> codes = np.random.default_rng(1).integers(40, 200, (64, 128, 3)).astype(np.uint8)
    >>> codes[:8] = 255
    >>> photo = seen(Picture(codes, None, SRGB, 8, "png"), None, IDLE)
    >>> [f.code for f in find(photo, IDLE)]
    ['border']
    """
    findings: list[Finding] = []
    left, up, right, low = border(seen.grey, seen.codes)
    sh, sw = seen.codes.shape[:2]
    seen.figures["border"] = [round(v, 4) for v in (left, up, right, low)]
    if max(left, up, right, low) > 0:
        inset = 0.5 / max(sw, sh)
        box = (left + inset * (left > 0), up + inset * (up > 0), 1 - right - inset * (right > 0), 1 - low - inset * (low > 0))
        findings.append(
            Finding(
                "border",
                "bad",
                "A border of one colour",
                "It would print as stripes in every repeat.",
                max(left, up, right, low),
                cure("straighten", {"corners": box_corners(*box)}, "Trim it"),
            )
        )
    return findings
