"""Bricks, stones, slates, planks told apart: where the borders between elements run."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.bounded_memory import MemoryOfArrays
from silent_loom.core.base.colour import lab
from silent_loom.core.base.images import Floats, Image
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.maps.flood import Labels, connected, flooded
from silent_loom.core.moving.resample import at_most, blur

FINEST, BROADEST = 1 / 28, 1 / 4
"""Sizes of elements that are looked for when nothing is said, as parts of the longer side."""
SEARCHED = 384
"""Texels along the longer side at which they are looked for."""
FULL = 93
"""Part of all texels, in %, that is no clear border."""
BEND = 0.35
"""Where borders are bent over: the square of a sign, beside its full strength, at which it counts by half."""
STEP, TINT = 1.3, 0.5
"""How much a step of height, or of colour, counts beside a valley."""
_WIDE = 1 / 10
"""Width up to which a valley is a joint, as a part of an element."""


Neighbours = tuple[NDArray[Any], NDArray[Any], NDArray[Any], int]
"""Pairs of basins side by side, each as one number; barriers along their borders, summed; lengths; count of labels."""


@dataclass(frozen=True)
class Borders:
    """How much each texel looks like a border between elements.

    Attributes
    ----------
    strength : float32 array, shape (H, W)
        About 0 within elements, about 1 on their borders.
    valley : float32 array, shape (H, W)
        How deep it lies in a narrow valley, 1 at the usual depth of joints.
    """

    strength: Floats
    valley: Floats


def _even(plane: Floats) -> Floats:
    """Brought to 1 at its 97th percentile, and bent over there: a strong border is no more than a border."""
    most = float(np.percentile(plane, FULL))
    if most < 1e-9:
        return np.zeros_like(plane)
    t = np.square(plane / np.float32(most))
    return t / (t + np.float32(BEND)) * np.float32(1 + BEND)


def _filled(plane: Floats, radius: int, wraps: bool) -> Floats:
    """Closing by a disc: valleys narrower than it are filled."""
    size = 2 * radius + 1
    disc = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (size, size))
    if not wraps:
        return cv2.morphologyEx(plane, cv2.MORPH_CLOSE, disc, borderType=cv2.BORDER_REPLICATE).astype(np.float32)
    pad = min(2 * radius, min(plane.shape))
    out = cv2.morphologyEx(np.pad(plane, pad, mode="wrap"), cv2.MORPH_CLOSE, disc)
    return np.ascontiguousarray(out[pad:-pad, pad:-pad], np.float32)


def _steep(plane: Floats, wraps: bool) -> Floats:
    mode = "wrap" if wraps else "edge"
    wide = np.pad(plane, 1, mode=mode)  # type: ignore[call-overload]
    gx, gy = wide[1:-1, 2:] - wide[1:-1, :-2], wide[2:, 1:-1] - wide[:-2, 1:-1]
    out: Floats = np.hypot(gx, gy)
    return out


def borders(height: Image | None, colour: Image | None, size: float, depth: float, tone: float, task: Task = IDLE) -> Borders:
    """Borders told from height and colour.

    Parameters
    ----------
    height, colour : Image or None
        One of them at least; the same size.
    size : float
        Width of an element in texels.
    depth, tone : float
        How much height and colour count.

    Notes
    -----
    Three signs: a narrow valley (a closing by a disc, less what was there), a step of height, a step of colour. Each is
    brought to 1 at its 97th percentile, as units differ.

    >>> from silent_loom.core.base.images import Kind
    >>> groove = np.zeros((32, 32, 1), np.float32)
    >>> groove[:, 16] = -5
    >>> told = borders(Image(groove, Kind.DATA), None, 16.0, 1.0, 0.0)
    >>> int(told.strength[8].argmax()) in (15, 16, 17)
    True
    """
    like = height if height is not None else colour
    assert like is not None
    strength = np.zeros((like.height, like.width), np.float32)
    valley = strength.copy()
    radius = max(1, round(size * _WIDE))
    soft = max(0.6, size / 40)
    if height is not None and depth > 0:
        plane = blur(height.plane(), soft, height.wraps, task)
        valley = _even(_filled(plane, radius, height.wraps) - plane)
        strength = np.float32(depth) * np.maximum(valley, np.float32(STEP) * _even(_steep(plane, height.wraps)))
    if colour is not None and tone > 0:
        planes = blur(lab(colour.pixels, task), soft, colour.wraps, task)
        step = np.sqrt(sum(np.square(_steep(np.ascontiguousarray(planes[..., k]), colour.wraps)) for k in range(3)))
        light = np.ascontiguousarray(planes[..., 0])
        odd = _even(np.maximum(_filled(light, radius, colour.wraps) - light, 0))
        pale = _even(np.maximum(_filled(-light, radius, colour.wraps) + light, 0))
        told = np.maximum(np.maximum(odd, pale), np.float32(TINT) * _even(step.astype(np.float32)))
        strength = strength + np.float32(tone) * told
        if height is None or depth <= 0:
            valley = np.maximum(odd, pale)
    return Borders(_even(strength), valley)


@kernel("f4[:,::1], i4[:,::1], b1, i8[::1], i8[::1], f4[::1]")
def _edges(strength, labels, wraps, a, b, s):  # type: ignore[no-untyped-def]
    # Every pair of neighbouring texels in different basins: their labels, and the higher of both barriers
    rows, cols = labels.shape
    n = 0
    for y in range(rows):
        for x in range(cols):
            here = labels[y, x]
            for k in range(2):
                yy, xx = (y + 1, x) if k == 0 else (y, x + 1)
                if wraps:
                    yy, xx = yy % rows, xx % cols
                elif yy >= rows or xx >= cols:
                    continue
                there = labels[yy, xx]
                if there != here:
                    a[n], b[n] = min(here, there), max(here, there)
                    s[n] = max(strength[y, x], strength[yy, xx])
                    n += 1
    return n


def basins(strength: Floats, size: float, wraps: bool) -> Labels:
    """Many small basins, none that spans two elements: the minima of the smoothed barriers, flooded.

    >>> strength = np.zeros((6, 6), np.float32)
    >>> strength[:, 2] = strength[:, 5] = 1
    >>> len(np.unique(basins(strength, 3.0, True)))
    2
    """
    soft = blur(strength, max(0.8, size / 14), wraps)
    window = max(3, 2 * round(size / 12) + 1)
    pad = window // 2
    wide = np.pad(soft, pad, mode="wrap" if wraps else "edge")
    low = cv2.erode(wide, np.ones((window, window), np.uint8))[pad:-pad, pad:-pad]
    markers, _ = connected(soft <= low + 1e-7, wraps)
    return flooded(soft, markers, wraps)


def merged(labels: Labels, strength: Floats, wraps: bool, join: float, least: float) -> Labels:
    """Basins put together across weak borders, the weakest first.

    Parameters
    ----------
    labels : int32 array, shape (H, W)
    join : float
        0…1: how strong a border may be and still be none; 0.5 parts weak from strong borders where they part best (Otsu 1979).
    least : float
        Texels below which a basin is no element and goes to the neighbour behind its weakest border.

    >>> labels = np.array([[1, 1, 2, 2]] * 4, np.int32)
    >>> merged(labels, np.ones((4, 4), np.float32), False, 0.5, 1.0)[0].tolist()
    [1, 1, 2, 2]
    """
    return _merged(labels, _borders_of(labels, strength, wraps), join, least)


def _merged(labels: Labels, told: Neighbours, join: float, least: float) -> Labels:
    keys, total, length, count = told
    area = np.bincount(labels.ravel(), minlength=count).astype(float)
    limit, _ = _parting(total / length, length, join)
    return _united(labels, keys // count, keys % count, total, length, area, limit, least)


def _borders_of(labels: Labels, strength: Floats, wraps: bool) -> Neighbours:
    """Every pair of neighbours as one number, the sum of barriers along their border, its length; and the count of labels."""
    room = 2 * labels.size
    a, b, s = np.empty(room, np.int64), np.empty(room, np.int64), np.empty(room, np.float32)
    n = _edges(strength, labels, wraps, a, b, s)
    count = int(labels.max()) + 1
    keys, inverse = np.unique(a[:n] * count + b[:n], return_inverse=True)
    return keys, np.bincount(inverse, s[:n]), np.bincount(inverse).astype(float), count


def _parting(mean: NDArray[np.float64], length: NDArray[np.float64], join: float) -> tuple[float, float]:
    """Strength that parts borders from none, weighed by length; and which part of the variance that parting explains."""
    if len(mean) < 2:
        return 0.0, 0.0
    order = np.argsort(mean)
    v, w = mean[order], length[order]
    below, sums = np.cumsum(w), np.cumsum(w * v)
    whole, all_of = below[-1], sums[-1]
    lower = below[:-1] / whole
    between = lower * (1 - lower) * (sums[:-1] / below[:-1] - (all_of - sums[:-1]) / np.maximum(whole - below[:-1], 1e-9)) ** 2
    k = int(np.argmax(between))
    variance = float((w * np.square(v - all_of / whole)).sum() / whole)
    return float((v[k] + v[k + 1]) / 2 * 2.0 ** ((join - 0.5) * 4)), float(between[k] / max(variance, 1e-12))


def _united(
    labels: Labels,
    one: NDArray[np.int64],
    other: NDArray[np.int64],
    total: NDArray[np.float64],
    length: NDArray[np.float64],
    area: NDArray[np.float64],
    limit: float,
    least: float,
) -> Labels:
    import heapq

    beside: dict[int, dict[int, list[float]]] = {}
    heap: list[tuple[float, int, int, int]] = []
    age = [0] * len(area)
    for i, j, t, n in zip(one.tolist(), other.tolist(), total.tolist(), length.tolist(), strict=True):
        beside.setdefault(i, {})[j] = [t, n]
        beside.setdefault(j, {})[i] = [t, n]
    sizes = area.tolist()
    parent = list(range(len(sizes)))

    def price(i: int, j: int) -> float:
        t, n = beside[i][j]
        small = min(sizes[i], sizes[j])
        return t / n if small >= least else t / n * 0.25 * (small / least) - 1.0

    for i, near in beside.items():
        for j in near:
            if i < j:
                heap.append((price(i, j), i, j, 0))
    heapq.heapify(heap)
    stamp: dict[tuple[int, int], int] = {}
    while heap:
        cost, i, j, at = heapq.heappop(heap)
        if parent[i] != i or parent[j] != j or stamp.get((i, j), 0) != at:
            continue
        if cost > limit:
            break
        if len(beside[i]) < len(beside[j]):
            i, j = j, i
        parent[j] = i
        sizes[i] += sizes[j]
        age[i] += 1
        for k, (t, n) in beside.pop(j).items():
            if k == i:
                continue
            del beside[k][j]
            was = beside[i].get(k, [0.0, 0.0])
            both = [was[0] + t, was[1] + n]
            beside[i][k], beside[k][i] = both, both
        beside[i].pop(j, None)
        for k in beside[i]:
            pair = (min(i, k), max(i, k))
            stamp[pair] = stamp.get(pair, 0) + 1
            heapq.heappush(heap, (price(*pair), *pair, stamp[pair]))
    roots = np.array([_root(parent, i) for i in range(len(parent))])
    kept = np.unique(roots[np.unique(labels)])
    names = np.zeros(len(parent), np.int32)
    names[kept] = np.arange(1, len(kept) + 1)
    return names[roots][labels].astype(np.int32)


def _root(parent: list[int], i: int) -> int:
    while parent[i] != i:
        i = parent[i]
    return i


def usual_size(height: Image | None, colour: Image | None, depth: float, tone: float, task: Task = IDLE) -> float:
    """Width of an element as a part of the longer side: the one at which borders and what is none part most clearly.

    >>> from silent_loom.core.base.images import Kind
    >>> y, x = np.mgrid[0:128, 0:128]
    >>> tiles = np.minimum(np.minimum(x % 32, 31 - x % 32), np.minimum(y % 32, 31 - y % 32)).clip(0, 4).astype(np.float32)
    >>> 0.1 < usual_size(Image(tiles[..., None], Kind.DATA, wraps=True), None, 1.0, 0.0) < 0.4
    True
    """
    return _SIZES.of(
        _arrays(height, colour), (_wraps(height, colour), depth, tone), lambda: _usual_size(height, colour, depth, tone, task)
    )


def _usual_size(height: Image | None, colour: Image | None, depth: float, tone: float, task: Task) -> float:
    height, colour = (None if i is None else at_most(i, SEARCHED, task) for i in (height, colour))
    like = height if height is not None else colour
    assert like is not None
    best, found = -1.0, 1 / 8
    size = FINEST
    while size <= BROADEST:
        wide = size * max(like.width, like.height)
        told = borders(height, colour, wide, depth, tone, task)
        _, total, length, count = _borders_of(basins(told.strength, wide, like.wraps), told.strength, like.wraps)
        clear = _parting(total / length, length, 0.5)[1] if count > 5 else 0.0
        if clear > best:
            best, found = clear, size
        size *= 1.5
    return found


def parted(
    height: Image | None,
    colour: Image | None,
    size: float,
    join: float,
    depth: float,
    tone: float,
    task: Task = IDLE,
) -> tuple[Labels, Borders]:
    """Labels of elements from 1, shape (H, W), and the borders they were told by; see `borders` and `merged`.

    >>> from silent_loom.core.base.images import Kind
    >>> y, x = np.mgrid[0:128, 0:128]
    >>> tiles = np.minimum(np.minimum(x % 32, 31 - x % 32), np.minimum(y % 32, 31 - y % 32)).clip(0, 4).astype(np.float32)
    >>> labels, borders = parted(Image(tiles[..., None], Kind.DATA, wraps=True), None, 0.25, 0.5, 1.0, 0.0)
    >>> int(labels.max())  # sixteen tiles, and what lies between them
    17
    """
    like = height if height is not None else colour
    assert like is not None

    def work() -> tuple[Borders, Labels, Neighbours]:
        told = borders(height, colour, size, depth, tone, task)
        fine = basins(told.strength, size, like.wraps)
        return told, fine, _borders_of(fine, told.strength, like.wraps)

    told, fine, beside = _BASINS.of(_arrays(height, colour), (_wraps(height, colour), size, depth, tone), work)
    return _merged(fine, beside, join, (size / 4) ** 2), told


def _arrays(height: Image | None, colour: Image | None) -> tuple[Floats | None, Floats | None]:
    return None if height is None else height.pixels, None if colour is None else colour.pixels


def _wraps(*images: Image | None) -> tuple[bool, ...]:
    """The same samples are another sheet where their edges meet."""
    return tuple(i is not None and i.wraps for i in images)


_SIZES: MemoryOfArrays[float] = MemoryOfArrays()
_BASINS: MemoryOfArrays[tuple[Borders, Labels, Neighbours]] = MemoryOfArrays(2)
"""Both are the longest part of telling elements apart, and do not hang on how readily they join: the control is dragged."""
