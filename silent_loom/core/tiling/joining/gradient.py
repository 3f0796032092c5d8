"""Closing a sheet in the gradient domain: what parts its edges is spread over all of it, thinly."""

from __future__ import annotations

from functools import partial

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats, Kind
from silent_loom.core.base.kernels import kernel, subkernel
from silent_loom.core.base.lazy_modules import later
from silent_loom.core.base.parallel import Task, over_rows
from silent_loom.core.moving.blocks import Form, means_of_blocks
from silent_loom.core.moving.resample import blur, reduce_area
from silent_loom.core.moving.slopes import normals_of, slopes_of

fft = later("scipy.fft")

GRID = 256
"""Cells along the longer side of the finished sheet on which the correction is solved."""


def correction(low: Floats, keep: tuple[int, int], path_x: NDArray[np.int64], path_y: NDArray[np.int64], task: Task) -> Floats:
    """What to add to every cell of a sheet so that it closes without a step along two paths.

    Parameters
    ----------
    low : array, shape (rows, cols, C)
        The sheet, overlap included.
    keep : tuple of int
        Columns and rows of the finished sheet.
    path_x : int array, shape (rows,)
        In row y, columns below path_x[y] show what lies ``keep`` columns on.
    path_y : int array, shape (keep[0],)
        In column x, rows below path_y[x] show what lies ``keep`` rows on.

    Notes
    -----
    Poisson editing (Pérez, Gangnet & Blake 2003) on the torus, by one FFT: the gradients wanted are those of the picture
    itself, across a path the mean of what either side goes on with. The constant is chosen so that the mean stays.

    >>> from silent_loom.core.base.parallel import IDLE
    >>> low = np.full((20, 20, 1), 0.5, np.float32)
    >>> float(np.abs(correction(low, (16, 16), np.full(20, 2), np.full(16, 2), IDLE)).max())
    0.0
    """
    rows, cols, channels = low.shape
    kx, ky = keep
    y, x = np.mgrid[0:ky, 0:kx]
    r = np.where(y < path_y[None, :], y + ky, y)
    r = np.minimum(r, rows - 1)
    c = np.where(x < path_x[r], x + kx, x)
    c = np.minimum(c, cols - 1)
    shown = low[r, c]
    wanted = []
    for axis, (dr, dc) in ((1, (0, 1)), (0, (1, 0))):
        after_r, after_c = np.roll(r, -1, axis), np.roll(c, -1, axis)
        on = low[np.minimum(r + dr, rows - 1), np.minimum(c + dc, cols - 1)] - shown
        before = np.roll(shown, -1, axis) - low[np.maximum(after_r - dr, 0), np.maximum(after_c - dc, 0)]
        wanted.append(0.5 * (on + before))
    gx, gy = wanted
    divergence = gx - np.roll(gx, 1, 1) + gy - np.roll(gy, 1, 0)
    task.checkpoint()
    eigen = (2 * np.cos(2 * np.pi * np.arange(ky) / ky) - 2)[:, None] + (2 * np.cos(2 * np.pi * np.arange(kx // 2 + 1) / kx) - 2)
    eigen[0, 0] = 1
    total = np.zeros((rows, cols, channels), np.float32)
    known = np.zeros((rows, cols), np.float32)
    known[r, c] = 1  # every place is shown once
    for k in range(channels):
        spectrum = fft.rfft2(divergence[..., k]) / eigen
        spectrum[0, 0] = shown[..., k].sum()
        solved = fft.irfft2(spectrum, (ky, kx))
        total[r, c, k] = solved - shown[..., k]
    # Beside a path the other picture's correction is needed as far as the transition reaches: it is smooth, so go on with it
    filled, done = total.copy(), known > 0
    for sigma in (1.5, 4.0, 12.0, 40.0):
        weight = blur(known, sigma, False)
        spread = blur(np.ascontiguousarray(total), sigma, False) / np.maximum(weight, 1e-6)[..., None]
        fresh = ~done & (weight > 1e-3)
        filled[fresh] = spread[fresh]
        done |= fresh
    return np.ascontiguousarray(filled, np.float32)


@subkernel
def _cells(at, n):  # type: ignore[no-untyped-def]
    base = int(np.floor(at))
    t = np.float32(at - base)
    return min(max(base, 0), n - 1), min(max(base + 1, 0), n - 1), t


@subkernel
def _add(src, line, at, part, ratio, x0, x1, shift, weight, out):  # type: ignore[no-untyped-def]
    # One span of a row: source times (plus) its correction, times a weight for every texel
    channels = src.shape[1]
    for x in range(x0, x1):
        c = x + shift
        i, t, q = at[c], part[c], weight[x]
        for k in range(channels):
            v = line[i, k] + t * (line[i + 1, k] - line[i, k])
            out[x, k] += q * (src[c, k] * v if ratio else src[c, k] + v)


@subkernel
def _whole(src, line, at, part, ratio, x0, x1, shift, out):  # type: ignore[no-untyped-def]
    # One span of a row where a single picture shows, cell by cell of the correction
    channels = src.shape[1]
    x = x0 + shift
    while x < x1 + shift:
        i, end = at[x], x + 1
        while end < x1 + shift and at[end] == i:
            end += 1
        if channels == 3:
            a, b, c = line[i, 0], line[i, 1], line[i, 2]
            p, q, r = line[i + 1, 0] - a, line[i + 1, 1] - b, line[i + 1, 2] - c
            if ratio:
                for u in range(x, end):
                    t, v = part[u], u - shift
                    out[v, 0], out[v, 1], out[v, 2] = src[u, 0] * (a + t * p), src[u, 1] * (b + t * q), src[u, 2] * (c + t * r)
            else:
                for u in range(x, end):
                    t, v = part[u], u - shift
                    out[v, 0], out[v, 1], out[v, 2] = src[u, 0] + (a + t * p), src[u, 1] + (b + t * q), src[u, 2] + (c + t * r)
        else:
            for k in range(channels):
                a, p = line[i, k], line[i + 1, k] - line[i, k]
                for u in range(x, end):
                    v = a + part[u] * p
                    out[u - shift, k] = src[u, k] * v if ratio else src[u, k] + v
        x = end


@subkernel
def _weighted(src, line, at, part, ratio, x0, x1, shift, weight, out):  # type: ignore[no-untyped-def]
    # Most of an overlap shows one of both pictures alone: there it is written, where both show it is added
    x = x0
    while x < x1:
        w, end = weight[x], x + 1
        if w == np.float32(0):
            while end < x1 and weight[end] == np.float32(0):
                end += 1
        elif w == np.float32(1):
            while end < x1 and weight[end] == np.float32(1):
                end += 1
            _whole(src, line, at, part, ratio, x, end, shift, out)
        else:
            while end < x1 and np.float32(0) < weight[end] < np.float32(1):
                end += 1
            _add(src, line, at, part, ratio, x, end, shift, weight, out)
        x = end


@kernel("f4[:,:,::1], f4[:,:,::1], b1, f4[:,::1], f4[:,::1], i8, i8, f8, f8, f4[:,:,::1], i8, i8")
def _sum(src, field, ratio, mask_x, mask_y, keep_x, keep_y, cell_x, cell_y, out, y0, y1):  # type: ignore[no-untyped-def]
    rows, cols, channels = field.shape
    width, over_x, over_y = out.shape[1], mask_x.shape[1], mask_y.shape[0]
    at, part = np.empty(src.shape[1], np.int64), np.empty(src.shape[1], np.float32)
    for x in range(src.shape[1]):
        i, _, t = _cells((x + 0.5) / cell_x - 0.5, cols)
        at[x], part[x] = min(i, cols - 2), t if i < cols - 1 else np.float32(1)
        if (x + 0.5) / cell_x < 0.5:
            part[x] = np.float32(0)
    line = np.empty((cols, channels), np.float32)
    down, weight = np.empty(width, np.float32), np.empty(width, np.float32)
    for y in range(y0, y1):
        single = y >= over_y
        out[y, : over_x if single else width] = 0
        for s in range(1 if single else 2):
            row = y + s * keep_y
            some = single
            for x in range(width):
                down[x] = np.float32(1) if single else (mask_y[y, x] if s == 1 else np.float32(1) - mask_y[y, x])
                if down[x] > 0:
                    some = True
            if not some:
                continue
            j0, j1, t = _cells((row + 0.5) / cell_y - 0.5, rows)
            for i in range(cols):
                for k in range(channels):
                    line[i, k] = field[j0, i, k] + t * (field[j1, i, k] - field[j0, i, k])
            for x in range(over_x):
                weight[x] = down[x] * (np.float32(1) - mask_x[row, x])
            _weighted(src[row], line, at, part, ratio, 0, over_x, 0, weight, out[y])
            for x in range(over_x):
                weight[x] = down[x] * mask_x[row, x]
            _weighted(src[row], line, at, part, ratio, 0, over_x, keep_x, weight, out[y])
            if single:
                _whole(src[row], line, at, part, ratio, over_x, width, 0, out[y])
            else:
                _weighted(src[row], line, at, part, ratio, over_x, width, 0, down, out[y])


@kernel("f8[::1], f4, f4[:,::1], i8, i8")
def _soft(path, width, out, y0, y1):  # type: ignore[no-untyped-def]
    # 1 well before the path, 0 well after it
    for y in range(y0, y1):
        for x in range(out.shape[1]):
            t = np.float32(0.5) - (np.float32(x + 0.5) - np.float32(path[y])) / width
            t = min(max(t, np.float32(0)), np.float32(1))
            out[y, x] = t * t * (np.float32(3) - np.float32(2) * t)


def masks(
    path_x: NDArray[np.float64], path_y: NDArray[np.float64], n: int, m: int, softness: tuple[float, float], task: Task
) -> tuple[Floats, Floats]:
    """How much of the far picture shows in both overlaps: shapes (rows in, n) and (m, columns out).

    >>> from silent_loom.core.base.parallel import IDLE
    >>> across, down = masks(np.full(8, 4.0), np.full(8, 4.0), 8, 8, (1.0, 1.0), IDLE)
    >>> across.shape, down.shape
    ((8, 8), (8, 8))
    """
    across, down = np.empty((len(path_x), n), np.float32), np.empty((len(path_y), m), np.float32)
    over_rows(len(path_x), partial(_soft, path_x, np.float32(softness[0]), across), task)
    over_rows(len(path_y), partial(_soft, path_y, np.float32(softness[1]), down), task)
    return across, np.ascontiguousarray(down.T)


def close(
    pixels: Floats,
    kind: Kind,
    keep: tuple[int, int],
    path_x: NDArray[np.float64],
    path_y: NDArray[np.float64],
    softness: tuple[float, float],
    task: Task,
) -> Floats:
    """A sheet closed both ways at once.

    Parameters
    ----------
    pixels : array, shape (H, W, C)
    kind : Kind
        Colour is corrected in ratios, data as it is, normals as slopes; ids are cut.
    keep : tuple of int
        Width and height of the result.
    path_x, path_y : arrays
        Paths in texels of the overlaps, for every row going in and every column coming out.
    softness : tuple of float
        Width in texels of the transition along each path.

    >>> from silent_loom.core.base.parallel import IDLE
    >>> even = np.full((20, 20, 1), 0.5, np.float32)
    >>> close(even, Kind.DATA, (16, 16), np.full(20, 2.0), np.full(16, 2.0), (1.0, 1.0), IDLE).shape
    (16, 16, 1)
    """
    h, w, _ = pixels.shape
    kx, ky = keep
    across, down = masks(path_x, path_y, w - kx, h - ky, softness, task)
    if kind is Kind.ID:
        y, x = np.mgrid[0:ky, 0:kx]
        far = np.zeros((ky, kx), bool)
        far[: h - ky] = down >= 0.5
        r = np.where(far, y + ky, y)
        side = np.zeros((h, kx), bool)
        side[:, : w - kx] = across >= 0.5
        return np.ascontiguousarray(pixels[r, np.where(side[r, x], x + kx, x)])
    values = slopes_of(pixels, task) if kind is Kind.NORMAL else pixels
    cell = max(1.0, max(kx, ky) / GRID)
    gx, gy = max(8, round(kx / cell)), max(8, round(ky / cell))
    cell_x, cell_y = kx / gx, ky / gy
    cols, rows = int(w / cell_x), int(h / cell_y)
    part = values[: round(rows * cell_y), : round(cols * cell_x)]
    if (f := int(min(cell_x, cell_y) / 3)) > 1:  # most of the averaging on both cores
        whole = part.shape[0] // f * f, part.shape[1] // f * f
        part = means_of_blocks(np.ascontiguousarray(values), Form.PLAIN, (0, 0), whole, f, task)
    low = reduce_area(np.ascontiguousarray(part), cols, rows)
    ratio = kind is Kind.COLOUR
    if ratio:
        low = np.log(np.maximum(low, 1e-5))
    rows_at = np.minimum((np.arange(rows) + 0.5) * cell_y, len(path_x) - 1).astype(int)
    cols_at = np.minimum((np.arange(gx) + 0.5) * cell_x, len(path_y) - 1).astype(int)
    field = correction(
        low, (gx, gy), np.rint(path_x[rows_at] / cell_x).astype(int), np.rint(path_y[cols_at] / cell_y).astype(int), task
    )
    if ratio:
        field = np.exp(field)
    out = np.empty((ky, kx, values.shape[2]), np.float32)
    run = partial(_sum, values, field, ratio, across, down, kx, ky, cell_x, cell_y, out)
    over_rows(ky, run, task, cost=kx * values.shape[2] * 1e-3)
    return normals_of(out, task) if kind is Kind.NORMAL else out
