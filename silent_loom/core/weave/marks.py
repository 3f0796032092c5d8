"""Places that an artist marked on a sheet: outlines, brush lines, tones."""

from __future__ import annotations

from typing import Literal

import cv2
import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from silent_loom.core.base.colour import lab
from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.later import later
from silent_loom.core.weave.settings import Settings

ndimage = later("scipy.ndimage")

Point = tuple[float, float]


class Region(Settings):
    """One marked region, in parts of the sheet."""

    kind: Literal["outline", "brush", "tone", "element"] = "outline"
    points: tuple[Point, ...] = Field((), max_length=5000)
    radius: float = Field(0.02, ge=0.0005, le=0.5, description="Of a brush; part of the longer side.")
    tolerance: float = Field(8.0, ge=0.5, le=100, description="Of a tone: CIE L*a*b* distance.")
    erase: bool = Field(False, description="Takes away from what was marked before it.")
    everywhere: bool = Field(False, description="A tone counts wherever it is, not only where it hangs together.")


def mask_of(
    regions: tuple[Region, ...], base: Image | None, width: int, height: int, ids: NDArray[np.int32] | None = None
) -> NDArray[np.bool_]:
    """Texels inside any of the regions, those that erase taken away in their turn.

    Parameters
    ----------
    base : Image or None
        Where tones are picked.
    ids : int32 array, shape (height, width), or None
        Labels of elements that are picked.

    >>> mask_of((), None, 4, 2).sum()
    np.int64(0)
    """
    whole = np.zeros((height, width), bool)
    for region in regions:
        if region.points:
            one = _one(region, base, width, height, ids)
            whole = whole & ~one if region.erase else whole | one
    return whole


def _one(region: Region, base: Image | None, width: int, height: int, ids: NDArray[np.int32] | None) -> NDArray[np.bool_]:
    mask = np.zeros((height, width), np.uint8)
    at = np.array(region.points) * (width, height) - 0.5
    fixed = np.rint(at * 16).astype(np.int32)
    if region.kind == "outline" and len(at) >= 3:
        cv2.fillPoly(mask, [fixed], 1, shift=4)
    elif region.kind == "brush":
        radius = region.radius * max(width, height)
        v, u = np.mgrid[0:height, 0:width]
        line = at if len(at) > 1 else np.concatenate([at, at])
        thick = max(1, round(2 * radius))
        cv2.polylines(mask, [np.rint(line * 16).astype(np.int32)], False, 1, thick, shift=4)
        for x, y in (line[0], line[-1]):
            mask |= (np.hypot(u - x, v - y) <= radius).astype(np.uint8)
    elif region.kind == "element" and ids is not None:
        rows = np.clip(np.rint(at[:, 1]).astype(int), 0, height - 1)
        mask |= np.isin(ids, ids[rows, np.clip(np.rint(at[:, 0]).astype(int), 0, width - 1)]).astype(np.uint8)
    elif region.kind == "tone" and base is not None and base.kind is Kind.COLOUR:
        planes = lab(base.pixels)
        for x, y in at:
            i, j = int(np.clip(round(y), 0, height - 1)), int(np.clip(round(x), 0, width - 1))
            near = planes[max(0, i - 1) : i + 2, max(0, j - 1) : j + 2].reshape(-1, 3).mean(0)
            alike = np.sqrt(np.square(planes - near).sum(2)) <= region.tolerance
            if not region.everywhere:
                labels, _ = ndimage.label(alike)
                alike = labels == labels[i, j] if labels[i, j] else np.zeros_like(alike)
            mask |= alike.astype(np.uint8)
    return mask.astype(bool)
