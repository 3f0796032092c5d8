"""Lines brought together before a cut: how far both ends of an overlap move along it so that what runs across it meets."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.moving.bend import CELL
from silent_loom.core.moving.resample import blur, reduce_area
from silent_loom.core.moving.slide import slid
from silent_loom.core.tiling.cutting.contour import Lines, contour_prices, lines_of, quiet_below
from silent_loom.core.tiling.cutting.cut import FAR, Prices, lowest_cut, price_by_row, reached, roughness
from silent_loom.core.tiling.cutting.layers import FULL, Layers, layers_of, window_at

SIZES = (256, 512, 1024)
"""Texels along the longer side of the sheet at which shifts are looked for, and at which they are told more exactly."""
MOST = 0.12
"""Shift as a part of the overlap, at the first size: within it both ends lean by about a fifth at most."""
EVERY = 4
"""Rows to a step of shift by one texel, at least."""
PER_STEP = 0.5
"""What such a step costs, in mean rows of the cut without a shift: what is straight shall stay straight …"""
PER_TEXEL = 0.02
"""… and what a texel of shift costs in every row, at the first size."""
AROUND = (2, 1)
"""Texels each way within which a shift is told more exactly."""
SOFT = 3.0
"""Rows, a standard deviation, over which steps are smoothed."""
WORTH = 0.85
"""A shift is looked at more closely where the cut costs less than this part of what it does without one."""
LINED = 0.015
"""Part of the overlap that is lines, from which on there is something to meet."""
LEAST = 32
"""Texels of overlap and of rows at the first size, below which nothing is moved."""


@kernel("f4[:,:,::1], f4[:,:,::1], f4[:,:,::1], i8, f4, i8, i8, f4[:,::1], i4[:,:,::1], i2[:,:,::1]")
def _sweep(across, rightward, leftward, every, step, start, shift, total, back, moved):  # type: ignore[no-untyped-def]
    # As the sweep of a plain cut, in layers of one shift each; from layer to layer at every few rows only, at a price
    layers, rows, n = across.shape
    for k in range(layers):
        for c in range(n):
            total[k, c] = across[k, 0, c] if start < 0 or (c == start and k == shift) else FAR
    best = np.empty((layers, n), np.float32)
    origin = np.empty((layers, n), np.int32)
    for y in range(1, rows):
        for k in range(layers):
            reached(total[k], rightward[k, y - 1], leftward[k, y - 1], best[k], origin[k])
        change = y % every == 0
        for k in range(layers):
            for c in range(n):
                v, m = best[k, c], k
                if change and k > 0 and best[k - 1, c] + step < v:
                    v, m = best[k - 1, c] + step, k - 1
                if change and k + 1 < layers and best[k + 1, c] + step < v:
                    v, m = best[k + 1, c] + step, k + 1
                total[k, c] = min(v + across[k, y, c], FAR)
                back[y, k, c], moved[y, k, c] = origin[m, c], m


def way(prices: Prices, step: float, start: tuple[int, int] | None = None) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    """The cheapest path and the layer it runs in, by row; from and to a place when one is given (layer, column).

    >>> prices = Prices(*(np.ones((3, 8, 5), np.float32) for _ in Prices._fields))
    >>> prices.across[1] = 0.1
    >>> path, layer = way(prices, 1.0)
    >>> layer.tolist()
    [1, 1, 1, 1, 1, 1, 1, 1]
    """
    layers, rows, n = prices.across.shape
    total = np.empty((layers, n), np.float32)
    back, moved = np.empty((rows, layers, n), np.int32), np.empty((rows, layers, n), np.int16)
    k, c = (-1, -1) if start is None else start
    _sweep(*prices, EVERY, np.float32(step), c, k, total, back, moved)
    if start is None:
        k, c = (int(i) for i in np.unravel_index(int(total.argmin()), total.shape))
    path, layer = np.empty(rows, np.int32), np.empty(rows, np.int32)
    for y in range(rows - 1, -1, -1):
        path[y], layer[y] = c, k
        if y:
            c, k = int(back[y, k, c]), int(moved[y, k, c])
    return path, layer


def _shifted(side: Layers, lines: Lines, by: NDArray[np.int64], closed: bool) -> tuple[Layers, Lines]:
    rows = len(side.line)
    at = np.arange(rows) + by
    at = at % rows if closed else np.clip(at, 0, rows - 1)
    return (
        Layers(*(np.ascontiguousarray(a[at]) for a in (side.base, side.detail, side.line))),
        Lines(*(np.ascontiguousarray(a[at]) for a in (lines.detail, lines.line, lines.price))),
    )


def _priced(
    sides: tuple[Layers, Layers],
    lines: tuple[Lines, Lines],
    by: NDArray[np.int64],
    scale: float,
    closed: bool,
    quiet: float,
    task: Task,
) -> Prices:
    """Prices where the second picture is moved up by so many rows and the first down, by half each."""
    half = by // 2
    first, first_lines = _shifted(sides[0], lines[0], -half, closed)
    second, second_lines = _shifted(sides[1], lines[1], by - half, closed)
    return contour_prices(first, second, scale, closed, task, quiet=quiet, lines=(first_lines, second_lines))


def _searched(
    sides: tuple[Layers, Layers],
    around: NDArray[np.int64],
    reach: int,
    scale: float,
    margin: int,
    closed: bool,
    stiff: float,
    task: Task,
) -> tuple[NDArray[np.int64], float]:
    """Shift by row, and by how much the cut gains: what it costs with the shift as a part of what it costs around it."""
    rows = len(around)
    shifts = around + np.arange(-reach, reach + 1)[:, None]
    quiet = quiet_below(*sides, task)
    lines = lines_of(sides[0], scale, closed, task), lines_of(sides[1], scale, closed, task)
    tried = []
    for by in shifts:
        task.checkpoint()
        tried.append(_priced(sides, lines, by, scale, closed, quiet, task))
    prices = Prices(*(np.stack(each) for each in zip(*tried, strict=True)))
    plain = tried[reach]
    straight = lowest_cut(plain, margin=margin, closed=closed)
    usual = float(price_by_row(plain, straight).mean())
    step = stiff * PER_STEP * usual
    own = prices.across.copy()
    if not around.any():
        prices.across[:] += (PER_TEXEL * usual * np.abs(shifts))[..., None].astype(np.float32)
    prices.across[:, :, :margin], prices.across[:, :, prices.across.shape[2] - margin :] = FAR, FAR
    if not closed:  # nothing comes in from beyond the ends
        prices.across[(shifts != 0) & ((np.arange(rows) == 0) | (np.arange(rows) == rows - 1))] = FAR
    if closed:
        half = rows // 2
        path, layer = way(Prices(*(np.ascontiguousarray(np.roll(a, -half, 1)) for a in prices)), step)
        start = int(layer[rows - half]), int(path[rows - half])
        again = Prices(*(np.ascontiguousarray(np.concatenate([a, a[:, :1]], 1)) for a in prices))
        path, layer = (line[:-1] for line in way(again, step, start))
    else:
        path, layer = way(prices, step)
    at = layer, np.arange(rows)
    taken = Prices(*(np.ascontiguousarray(a[at]) for a in (own, *prices[1:])))
    return shifts[at], roughness(taken, path) / roughness(plain, straight)


def met_sides(sides: tuple[Layers, Layers], shift: Floats, closed: bool, task: Task = IDLE) -> tuple[Layers, Layers]:
    """Both pictures of an overlap, taken apart, where `slide.slid` takes them.

    >>> from silent_loom.core.tiling.cutting.layers import layers_of
    >>> even = layers_of(np.full((32, 32, 1), 0.5, np.float32), 1.0)
    >>> one, other = met_sides((even, even), np.zeros((4, 2), np.float32), False)
    >>> bool(np.allclose(one.base, 0.5))
    True
    """
    first, second = ((side.base, side.detail, side.line[..., None]) for side in sides)
    moved = [slid(near, far, None, 1, shift, closed, task) for near, far in zip(first, second, strict=True)]
    near, far = (Layers(base, detail, np.clip(line[..., 0], 0, 1)) for base, detail, line in zip(*moved, strict=True))
    return near, far


def _reduced(planes: Floats, keep: int, f: int, scale: float, toned: int, task: Task) -> tuple[Layers, Layers]:
    """Both pictures of the overlap, of a sheet with f × f texels for one."""
    rows, n = planes.shape[0] // f, (planes.shape[1] - keep) // f
    beside = min(window_at(scale), (keep - n * f) // (2 * f))
    ends = np.concatenate([planes[: rows * f, : (n + beside) * f], planes[: rows * f, keep - beside * f : keep + n * f]], 1)
    small = reduce_area(np.ascontiguousarray(ends), ends.shape[1] // f, rows)
    layers = layers_of(small, scale, toned, task)
    return layers.part(slice(0, n)), layers.part(slice(small.shape[1] - n, None))


def meeting(
    planes: Floats,
    sides: tuple[Layers, Layers],
    keep: int,
    scale: float,
    toned: int,
    margin: float,
    closed: bool,
    task: Task = IDLE,
    *,
    stiff: float = 1.0,
) -> Floats | None:
    """By how much to bend both ends of an overlap along it so that lines that run across the cut meet there.

    Parameters
    ----------
    planes : array, shape (rows, W, K)
        Features of a sheet that will be closed from left to right.
    sides : tuple of Layers
        Both pictures of its overlap, taken apart.
    keep : int
        Width of the closed sheet; what is beyond it is the overlap.
    scale, toned, closed
        See `contour.layers_of` and `contour.contour_prices`.
    margin : float
        Part of the overlap at both borders that the cut keeps away from.
    stiff : float
        How many times the usual price a change of the shift has.

    Returns
    -------
    array, shape (R, N), or None
        Shift for `slide.slid`, as parts of the rows; None where there are no lines, or the cut gains too little by it.

    Notes
    -----
    No cut helps where the joints of both ends do not lie opposite each other. So the lowest-error cut is looked for in all
    rows, columns and shifts of one end along the other at once: by dynamic programming over one set of prices for every
    shift (`contour.contour_prices`), which may change by a texel every few rows and at a price. Moving matched features
    together before cutting is due to Wu & Yu (Feature matching and deformation for texture synthesis, SIGGRAPH 2004).

    >>> from silent_loom.core.tiling.cutting.layers import layers_of
    >>> planes = np.full((64, 96, 1), 0.5, np.float32)
    >>> side = layers_of(np.ascontiguousarray(planes[:, :32]), 1.0)
    >>> meeting(planes, (side, side), 64, 1.0, 1, 0.1, False, stiff=1.0) is None
    True
    """
    rows, width = planes.shape[:2]
    n = width - keep
    if sum(float(side.line.mean()) for side in sides) < 2 * LINED:
        return None
    by = np.zeros(1)
    f = 1
    for i, size in enumerate(SIZES):
        before, f = f, max(1, round(FULL * scale / size))
        if i and f == before:
            break
        small_n, small_rows = n // f, rows // f
        if min(small_n, small_rows) < LEAST:
            return None
        small = sides if f == 1 else _reduced(planes, keep, f, scale / f, toned, task)
        around = np.rint(
            np.interp((np.arange(small_rows) + 0.5) / small_rows, (np.arange(len(by)) + 0.5) / len(by), by * before / f)
        )
        reach = AROUND[i - 1] if i else max(1, round(MOST * small_n))
        edge = int(margin * small_n)
        shift, left = _searched(small, around.astype(np.int64), reach, scale / f, edge, closed, stiff, task)
        if i == 0 and left > WORTH:
            return None
        by = shift.astype(np.float64)
    soft = blur(np.ascontiguousarray(by[:, None], np.float32), (0.0, SOFT), closed)[:, 0] * f
    return _field(soft, rows, n, closed)


def _field(by: Floats, rows: int, n: int, closed: bool) -> Floats:
    """Shifts by row, in texels, as a field over the strip."""
    high, wide = max(2, rows // CELL), max(2, n // CELL)
    t = (np.arange(wide) + 0.5) / wide
    share = t * t * (3 - 2 * t)
    at = (np.arange(high) + 0.5) * rows / high
    known = (np.arange(len(by)) + 0.5) * rows / len(by)
    # A shift belongs where both ends are moved by half of it, which further to a side is a little above or below
    here = np.interp(at, known, by, period=rows if closed else None)
    there = np.interp(at[:, None] - (0.5 - share) * here[:, None], known, by, period=rows if closed else None)
    return (there / rows).astype(np.float32)
