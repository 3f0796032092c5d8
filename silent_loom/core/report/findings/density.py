"""How many pixels there are to a centimetre."""

from __future__ import annotations

from silent_loom.core.base.parallel import Task
from silent_loom.core.report.finding import Finding, Seen

PLACE = 0
"""Where it comes among the findings."""


def find(seen: Seen, task: Task) -> list[Finding]:
    """What there is to say of it.

    >>> from silent_loom.core.base.parallel import IDLE
    >>> from silent_loom.core.files.profile import SRGB
    >>> from silent_loom.core.report.finding import seen
    >>> import numpy as np
    >>> from silent_loom.core.files import Picture
    >>> codes = np.full((64, 128, 3), 90, np.uint8)
    >>> photo = seen(Picture(codes, None, SRGB, 8, "png"), 1000.0, IDLE)
    >>> [f.code for f in find(photo, IDLE)]
    ['density']
    """
    findings: list[Finding] = []
    w, _ = seen.size
    if seen.width_mm:
        density = w / (seen.width_mm / 10)
        seen.figures["pixels_per_cm"] = round(density, 3)
        level = "good" if density >= 20 else "note" if density >= 8 else "bad"
        findings.append(
            Finding(
                "density",
                level,
                f"{density:.3g} pixels a centimetre",
                "Enough for close views." if level == "good" else "Close views will show its pixels; fine from farther away.",
                density,
            )
        )
    return findings
