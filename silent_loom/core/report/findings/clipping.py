"""Lights and darks that hold nothing any more, and where."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.parallel import Task
from silent_loom.core.report.finding import Finding, Seen, cure

PLACE = 2
"""Where it comes among the findings."""


CELLS = 16
"""Places along a side by which it is told where."""


def _by_place(mask: NDArray[np.bool_]) -> Floats:
    return cv2.resize(mask.astype(np.float32), (CELLS, CELLS), interpolation=cv2.INTER_AREA)


def _where(cells: Floats) -> str:
    """Words for the part of the picture that holds most of something."""
    v, u = np.mgrid[0:CELLS, 0:CELLS] / (CELLS - 1.0)
    total = float(cells.sum())
    if total <= 0:
        return ""
    x, y = float((cells * u).sum() / total), float((cells * v).sum() / total)
    spread = float(np.sqrt((cells * ((u - x) ** 2 + (v - y) ** 2)).sum() / total))
    if spread > 0.33:
        return "all over"
    down = "top" if y < 0.36 else "bottom" if y > 0.64 else ""
    across = "left" if x < 0.36 else "right" if x > 0.64 else ""
    return f"at the {down} {across}".strip().replace("  ", " ") if down or across else "in the middle"


def find(seen: Seen, task: Task) -> list[Finding]:
    """What there is to say of it.

    >>> from silent_loom.core.base.parallel import IDLE
    >>> from silent_loom.core.files.profile import SRGB
    >>> from silent_loom.core.report.finding import seen
    >>> import numpy as np
    >>> from silent_loom.core.files import Picture
    >>> codes = np.full((64, 128, 3), 90, np.uint8)
    >>> codes[:, 64:] = 255
    >>> photo = seen(Picture(codes, None, SRGB, 8, "png"), None, IDLE)
    >>> [f.code for f in find(photo, IDLE)]
    ['lights']
    """
    findings: list[Finding] = []
    w, h = seen.size
    step = max(1, int(np.sqrt(w * h / 4e6)))
    sampled = seen.whole[::step, ::step]
    lights = np.asarray((sampled >= seen.top * 0.996).any(2))
    darks = np.asarray((sampled <= seen.top * 0.008).all(2))
    light_cells, dark_cells = seen.clipped = _by_place(lights), _by_place(darks)
    for code, mask, cells, word in (("lights", lights, light_cells, "lights"), ("darks", darks, dark_cells, "darks")):
        share = float(mask.mean())
        seen.figures[f"clipped_{code}"] = round(share, 5)
        if share > 0.002:
            findings.append(
                Finding(
                    code,
                    "bad" if share > 0.02 else "note",
                    f"{100 * share:.1f} % clipped {word}, {_where(cells)}",
                    "Nothing can be read there: flat spots in every map. Clean them, or crop them away."
                    if code == "lights"
                    else "No detail there: read as deepest. Clean or crop where it matters.",
                    share,
                    cure("fill", {"by": code}, "Fill them from the rest of the surface") if share < 0.05 else None,
                )
            )
    return findings
