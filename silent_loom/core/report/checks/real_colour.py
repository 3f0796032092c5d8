"""Base colours that no real surface has: dielectrics lie at about sRGB 50 to 240."""

from __future__ import annotations

import numpy as np

from silent_loom.core.files.codes import quantise
from silent_loom.core.report.check import Checked

PLACE = 2
"""Where it comes among the checks."""


def found(what: Checked) -> list[str]:
    if what.meaning.name != "base":
        return []
    # Judged by the middle of the picture, not by its extremes
    codes, _ = quantise(what.image.pixels, "8", colour=True)
    low, high = np.percentile(codes.max(2), [10, 90])
    return [*(["darker than real surfaces"] if high < 50 else []), *(["brighter than real surfaces"] if low > 240 else [])]
