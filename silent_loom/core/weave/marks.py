"""Places that an artist marked on a sheet: outlines, brush lines, tones."""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

import cv2
import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from silent_loom.core.base.colour import lab
from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.lazy_modules import later
from silent_loom.core.weave.settings import Settings

ndimage = later("scipy.ndimage")
sparse = later("scipy.sparse")

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
    regions: tuple[Region, ...],
    base: Image | None,
    width: int,
    height: int,
    ids: NDArray[np.int32] | None = None,
    *,
    wraps: bool = False,
) -> NDArray[np.bool_]:
    """Texels inside any of the regions, those that erase taken away in their turn.

    Parameters
    ----------
    base : Image or None
        Where tones are picked.
    ids : int32 array, shape (height, width), or None
        Labels of elements that are picked.
    wraps : bool
        The sheet goes on at its other side: what is marked across an edge, or on a repeat, counts on the sheet itself.

    >>> mask_of((), None, 4, 2).sum()
    np.int64(0)
    >>> below = Region(kind="outline", points=((0, 0.8), (1, 0.8), (1, 1.2), (0, 1.2)))
    >>> mask_of((below,), None, 1, 10, wraps=True)[:, 0].astype(int).tolist()
    [1, 1, 1, 0, 0, 0, 0, 0, 1, 1]
    """
    whole = np.zeros((height, width), bool)
    for region in regions:
        if region.points:
            one = _one(region, base, width, height, ids, wraps)
            whole = whole & ~one if region.erase else whole | one
    return whole


def _one(
    region: Region, base: Image | None, width: int, height: int, ids: NDArray[np.int32] | None, wraps: bool
) -> NDArray[np.bool_]:
    at = np.array(region.points, np.float64)
    if region.kind == "outline" and len(at) >= 3:
        return _drawn(at, 0.0, (width, height), wraps, lambda mask, points: cv2.fillPoly(mask, [points], 1, shift=4))
    if region.kind == "brush":
        thick = max(1, round(2 * region.radius * max(width, height)))

        def paint(mask: NDArray[np.uint8], points: NDArray[np.int32]) -> None:
            cv2.polylines(mask, [points], False, 1, thick, shift=4)

        line = at if len(at) > 1 else np.concatenate([at, at])
        return _drawn(line, region.radius, (width, height), wraps, paint) | _ends(line, region.radius, (width, height), wraps)
    # Places that are picked: a place on a repeat is the same place of the sheet
    rows, columns = _texels(at, width, height, wraps)
    if region.kind == "element" and ids is not None:
        return np.isin(ids, ids[rows, columns])
    mask = np.zeros((height, width), bool)
    if region.kind == "tone" and base is not None and base.kind is Kind.COLOUR:
        planes = lab(base.pixels)
        for i, j in zip(rows, columns, strict=True):
            mask |= _alike(planes, int(i), int(j), region, wraps)
    return mask


def _texels(at: NDArray[np.float64], width: int, height: int, wraps: bool) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Rows and columns of places in parts of the sheet."""
    columns, rows = (np.floor(at[:, k] * n).astype(np.int64) for k, n in ((0, width), (1, height)))
    if wraps:
        return rows % height, columns % width
    return np.clip(rows, 0, height - 1), np.clip(columns, 0, width - 1)


def _drawn(
    at: NDArray[np.float64],
    margin: float,
    size: tuple[int, int],
    wraps: bool,
    draw: Callable[[NDArray[np.uint8], NDArray[np.int32]], object],
) -> NDArray[np.bool_]:
    """What is drawn through places, once for every repeat that it reaches into."""
    width, height = size
    mask = np.zeros((height, width), np.uint8)
    for way in _repeats(at, margin, size, wraps):
        draw(mask, np.rint(((at + np.array(way)) * (width, height) - 0.5) * 16).astype(np.int32))
    return mask.astype(bool)


def _repeats(at: NDArray[np.float64], margin: float, size: tuple[int, int], wraps: bool) -> list[tuple[int, int]]:
    """By how many whole sheets places have to be moved so that each part of what they bound comes to lie on the sheet."""
    if not wraps:
        return [(0, 0)]
    ways = []
    for k in (0, 1):
        room = margin * max(size) / size[k] + 1 / size[k]
        low, high = float(at[:, k].min()) - room, float(at[:, k].max()) + room
        first, last = int(np.floor(low)), int(np.floor(high))
        ways.append(range(-last, -first + 1) if last - first <= MOST_REPEATS else range(-first - MOST_REPEATS, -first + 1))
    return [(du, dv) for du in ways[0] for dv in ways[1]]


def _ends(line: NDArray[np.float64], radius: float, size: tuple[int, int], wraps: bool) -> NDArray[np.bool_]:
    """Round ends of a brush line."""
    width, height = size
    far = radius * max(width, height)
    v, u = np.mgrid[0:height, 0:width]
    mask = np.zeros((height, width), bool)
    for x, y in line[[0, -1]] * (width, height) - 0.5:
        across, down = np.abs(u - x), np.abs(v - y)
        if wraps:
            across, down = (np.minimum(d % n, n - d % n) for d, n in ((across, width), (down, height)))
        mask |= np.hypot(across, down) <= far
    return mask


def _alike(planes: NDArray[np.float32], i: int, j: int, region: Region, wraps: bool) -> NDArray[np.bool_]:
    """Texels of about the tone at a place, in L*a*b*; those that hang together with it, unless it counts everywhere."""
    h, w = planes.shape[:2]
    beside = [np.arange(k - 1, k + 2) for k in (i, j)]
    rows, columns = (b % n if wraps else b[(b >= 0) & (b < n)] for b, n in zip(beside, (h, w), strict=True))
    near = planes[np.ix_(rows, columns)].reshape(-1, 3).mean(0)
    alike: NDArray[np.bool_] = np.sqrt(np.square(planes - near).sum(2)) <= region.tolerance
    if region.everywhere:
        return alike
    labels, count = ndimage.label(alike)
    if not labels[i, j]:
        return np.zeros_like(alike)
    if not wraps:
        return np.asarray(labels == labels[i, j])
    one = _joined(labels, count)
    return np.asarray(one[labels] == one[labels[i, j]]) & alike


def _joined(labels: NDArray[np.int32], count: int) -> NDArray[np.int32]:
    """Which labels are one across the edges of a sheet that repeats: a number for each."""
    pairs = np.concatenate([np.stack([labels[0], labels[-1]], 1), np.stack([labels[:, 0], labels[:, -1]], 1)])
    pairs = pairs[(pairs > 0).all(1)]
    links = sparse.coo_matrix((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=(count + 1, count + 1))
    return np.asarray(sparse.csgraph.connected_components(links, directed=False)[1], np.int32)


MOST_REPEATS = 64
"""Whole sheets that one mark may reach over; more of them would only cover the same again."""
