"""The largest area without odd places."""

from __future__ import annotations

import cv2
import numpy as np

from silent_loom.core.base.colour import lab
from silent_loom.core.base.images import Floats
from silent_loom.core.base.parallel import Task
from silent_loom.core.report.finding import Finding, Seen, box_corners, cure

PLACE = 7
"""Where it comes among the findings."""


def even_area(planes: Floats) -> tuple[float, float, float, float]:
    """Largest rectangle without odd places: left, top, right, bottom as parts of the picture.

    Cells of a 24 × 24 grid are odd when their mean or their contrast lies far from the median; the largest rectangle of
    the others is found by the histogram method.

    >>> planes = np.random.default_rng(1).random((480, 480, 3), np.float32)
    >>> planes[:120] += 9
    >>> [round(side, 2) for side in even_area(planes)]
    [0.0, 0.29, 1.0, 1.0]
    """
    n = 24
    h, w, _ = planes.shape
    mean = cv2.resize(planes, (n, n), interpolation=cv2.INTER_AREA)
    around = cv2.resize(mean, (w, h), interpolation=cv2.INTER_LINEAR)  # differences first: squares of L* would lose them
    contrast = np.sqrt(cv2.resize(np.square(planes - around), (n, n), interpolation=cv2.INTER_AREA)).mean(2)
    odd = np.zeros((n, n))
    for k in range(3):
        middle = np.median(mean[..., k])
        odd = np.maximum(odd, np.abs(mean[..., k] - middle) / (1.4826 * np.median(np.abs(mean[..., k] - middle)) + 0.6))
    middle = np.median(contrast)
    odd = np.maximum(
        odd, np.abs(contrast - middle) / (1.4826 * np.median(np.abs(contrast - middle)) + 0.15 * middle + 0.05) * 0.8
    )
    good = odd < 4.0
    best, area = (0, 0, n, n), 0
    heights = np.zeros(n, int)
    for y in range(n):
        heights = np.where(good[y], heights + 1, 0)
        for x in range(n):
            low = n
            for x2 in range(x, n):
                low = min(low, heights[x2])
                if low == 0:
                    break
                if low * (x2 - x + 1) > area:
                    area, best = low * (x2 - x + 1), (x, y - low + 1, x2 + 1, y + 1)
    left, top, right, bottom = (float(v) / n for v in best)
    return left, top, right, bottom


def find(seen: Seen, task: Task) -> list[Finding]:
    """What there is to say of it.

    >>> from silent_loom.core.base.parallel import IDLE
    >>> from silent_loom.core.files.profile import SRGB
    >>> from silent_loom.core.report.finding import seen
    >>> import numpy as np
    >>> from silent_loom.core.files import Picture
    >>> codes = np.random.default_rng(1).integers(80, 100, (256, 256, 3)).astype(np.uint8)
    >>> codes[:64, :64] = 240
    >>> photo = seen(Picture(codes, None, SRGB, 8, "png"), None, IDLE)
    >>> [f.code for f in find(photo, IDLE)]
    ['crop']
    """
    findings: list[Finding] = []
    area = even_area(lab(seen.image.pixels))
    size = (area[2] - area[0]) * (area[3] - area[1])
    seen.figures["even_area"] = [round(v, 4) for v in area]
    if size < 0.8:
        findings.append(
            Finding(
                "crop",
                "note",
                f"The largest even area is {100 * size:.0f} % of the photo",
                "Outside it are odd places that the eye finds again in every repeat.",
                size,
                cure("straighten", {"corners": box_corners(*area)}, "Crop to it") if size > 0.08 else None,
            )
        )
    return findings
