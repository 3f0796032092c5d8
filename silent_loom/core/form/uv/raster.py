"""UV space as texels: which triangle each texel shows, and where in it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.kernels import kernel, subkernel
from silent_loom.core.base.parallel import IDLE, Task, over_rows
from silent_loom.core.form.model import highest, lowest

STEPS = 256
"""Parts of a texel that corners are placed to where it matters that no texel is counted twice."""
RIM = 1.0
"""Texels around a triangle in which one whose centre it misses may still be its own: half the diagonal of a texel counts."""


@dataclass(frozen=True)
class Texels:
    """What a layout shows texel by texel.

    Attributes
    ----------
    triangle : int32 array, shape (H, W)
        Row 0 is the top, v = 1. −1 where nothing lies.
    inside : bool array, shape (H, W)
        The centre of the texel lies in its triangle; else only a part of the texel does.
    weights : float32 array, shape (H, W, 2)
        Shares of the first and of the second corner; the third has the rest. At a texel whose centre is missed, those of the
        nearest place of its triangle.
    """

    triangle: NDArray[np.int32]
    inside: NDArray[np.bool_]
    weights: NDArray[np.float32]


def in_texels(uv: NDArray[np.float64], width: int, height: int) -> NDArray[np.float64]:
    """UVs of corners as places in texels, x to the right, y down; not a number becomes a place far away.

    >>> in_texels(np.array([[[0.5, 1.0], [0, 0], [1, 0]]]), 8, 8).tolist()
    [[[4.0, 0.0], [0.0, 8.0], [8.0, 8.0]]]
    """
    out = np.empty(uv.shape)
    out[..., 0] = uv[..., 0] * width
    out[..., 1] = (1 - uv[..., 1]) * height
    far = ~(highest(np.abs(out)) <= 1e7)  # nor is what is no number
    out[far[:, 0] | far[:, 1]] = -1e7
    return out


def rasterised(
    uv: NDArray[np.float64], width: int, height: int, task: Task = IDLE, rows: tuple[int, int] | None = None
) -> Texels:
    """The texels of triangles.

    Parameters
    ----------
    uv : float array, shape (T, 3, 2)
        Within the unit square; what lies outside is not drawn.
    rows : tuple of int, optional
        The first row that is wanted and the one after the last; all of them if none are named.

    Notes
    -----
    Where triangles lie over each other, the first one shows. A texel whose centre no triangle holds, but which one touches, is
    that one's, at its nearest place (Hasselgren, Akenine-Möller & Ohlsson 2005 on why): thin islands keep their texels.

    >>> t = rasterised(np.array([[[0, 0], [1, 0], [0, 1.0]]]), 4, 4)
    >>> t.triangle[0].tolist(), int(t.inside.sum())
    ([0, 0, -1, -1], 10)
    """
    first, last = rows or (0, height)
    at = in_texels(uv, width, height)
    touched = _rows(at) - np.int32(first)
    number = None
    if rows is not None:
        number = np.flatnonzero((touched[:, 0] < last - first) & (touched[:, 1] >= 0)).astype(np.int32)
        at, touched = at[number], touched[number]
    shape = last - first, width
    triangle = np.full(shape, -1, np.int32)
    best = np.full(shape, np.float32(np.inf), np.float32)
    weights = np.zeros((*shape, 2), np.float32)
    over_rows(shape[0], lambda y0, y1: _draw(at, touched, first, triangle, best, weights, y0, y1), task, cost=8.0)
    if number is not None and len(number):
        triangle = np.where(triangle >= 0, number[np.maximum(triangle, 0)], -1).astype(np.int32)
    return Texels(triangle, best == 0, weights)


def covers(uv: NDArray[np.float64], width: int, height: int, task: Task = IDLE) -> NDArray[np.uint8]:
    """How many triangles hold the centre of each texel, shape (H, W), 255 at most.

    Neighbours that share an edge never count the same centre twice: corners are placed to 1/256 of a texel, and a centre on
    an edge belongs to the triangle on one side of it (the top-left rule of rasterisers).

    >>> two = np.array([[[0, 0], [1, 0], [1, 1]], [[0, 0], [1, 1], [0, 1.0]]])
    >>> np.unique(covers(two, 8, 8)).tolist()
    [1]
    """
    at = in_texels(uv, width, height)
    out = np.zeros((height, width), np.uint8)
    fixed = np.round(at * STEPS).astype(np.int64)
    rows = _rows(at)
    over_rows(height, lambda y0, y1: _count(fixed, rows, out, y0, y1), task, cost=4.0)
    return out


def _rows(at: NDArray[np.float64]) -> NDArray[np.int32]:
    """First and last row of texels that each triangle could touch, shape (T, 2)."""
    low = np.floor(lowest(at[..., 1]) - RIM)
    high = np.floor(highest(at[..., 1]) + RIM)
    return np.clip(np.stack([low, high], 1), -(1 << 30), 1 << 30).astype(np.int32)


@subkernel
def _closest(px, py, ax, ay, bx, by):  # type: ignore[no-untyped-def]
    """Share of b in the nearest place of a side, and the square of how far it is."""
    dx, dy = bx - ax, by - ay
    length = dx * dx + dy * dy
    s = 0.0
    if length > 0:
        s = min(1.0, max(0.0, ((px - ax) * dx + (py - ay) * dy) / length))
    ex, ey = px - ax - s * dx, py - ay - s * dy
    return s, ex * ex + ey * ey


@kernel("f8[:,:,::1], i4[:,::1], i8, i4[:,::1], f4[:,::1], f4[:,:,::1], i8, i8")
def _draw(at, rows, above, triangle, best, weights, y0, y1):  # type: ignore[no-untyped-def]
    width = triangle.shape[1]
    for t in range(len(at)):
        if rows[t, 0] >= y1 or rows[t, 1] < y0:
            continue
        ax, ay, bx, by, cx, cy = at[t, 0, 0], at[t, 0, 1], at[t, 1, 0], at[t, 1, 1], at[t, 2, 0], at[t, 2, 1]
        x_low = max(0, int(np.floor(min(ax, min(bx, cx)) - RIM)))
        x_high = min(width - 1, int(np.floor(max(ax, max(bx, cx)) + RIM)))
        if x_high < x_low:
            continue
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        for y in range(max(y0, rows[t, 0]), min(y1 - 1, rows[t, 1]) + 1):
            py = above + y + 0.5
            for x in range(x_low, x_high + 1):
                if best[y, x] == 0:
                    continue
                px = x + 0.5
                wa = wb = wc = -1.0
                if area != 0:
                    wa = ((bx - px) * (cy - py) - (by - py) * (cx - px)) / area
                    wb = ((cx - px) * (ay - py) - (cy - py) * (ax - px)) / area
                    wc = 1.0 - wa - wb
                if wa >= -1e-9 and wb >= -1e-9 and wc >= -1e-9:
                    triangle[y, x] = t
                    best[y, x] = 0.0
                    weights[y, x, 0], weights[y, x, 1] = wa, wb
                    continue
                s, d = _closest(px, py, ax, ay, bx, by)
                wa, wb, near = 1.0 - s, s, d
                s, d = _closest(px, py, bx, by, cx, cy)
                if d < near:
                    wa, wb, near = 0.0, 1.0 - s, d
                s, d = _closest(px, py, cx, cy, ax, ay)
                if d < near:
                    wa, wb, near = s, 0.0, d
                # The nearest place has to lie in the square of the texel
                qx = wa * ax + wb * bx + (1.0 - wa - wb) * cx - px
                qy = wa * ay + wb * by + (1.0 - wa - wb) * cy - py
                if abs(qx) <= 0.5 and abs(qy) <= 0.5 and near < best[y, x]:
                    triangle[y, x] = t
                    best[y, x] = max(near, 1e-30)
                    weights[y, x, 0], weights[y, x, 1] = wa, wb


@subkernel
def _holds(ax, ay, bx, by, px, py):  # type: ignore[no-untyped-def]
    """Whether a place lies left of a side, or on it where the side is a top or a left one."""
    e = (bx - ax) * (py - ay) - (by - ay) * (px - ax)
    return e > 0 or (e == 0 and (by > ay or (by == ay and bx < ax)))


@kernel("i8[:,:,::1], i4[:,::1], u1[:,::1], i8, i8")
def _count(at, rows, out, y0, y1):  # type: ignore[no-untyped-def]
    width = out.shape[1]
    for t in range(len(at)):
        if rows[t, 0] >= y1 or rows[t, 1] < y0:
            continue
        ax, ay, bx, by, cx, cy = at[t, 0, 0], at[t, 0, 1], at[t, 1, 0], at[t, 1, 1], at[t, 2, 0], at[t, 2, 1]
        area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if area == 0:
            continue
        if area < 0:
            bx, by, cx, cy = cx, cy, bx, by
        x_low = max(0, min(ax, min(bx, cx)) // STEPS - 1)
        x_high = min(width - 1, max(ax, max(bx, cx)) // STEPS + 1)
        for y in range(max(y0, rows[t, 0]), min(y1 - 1, rows[t, 1]) + 1):
            py = y * STEPS + STEPS // 2
            for x in range(x_low, x_high + 1):
                px = x * STEPS + STEPS // 2
                held = _holds(ax, ay, bx, by, px, py) and _holds(bx, by, cx, cy, px, py) and _holds(cx, cy, ax, ay, px, py)
                if held and out[y, x] < 255:
                    out[y, x] += 1
