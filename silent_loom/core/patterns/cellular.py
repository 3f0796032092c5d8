"""Cells on a torus: distances to the nearest points, which cell it is, and how far its border is."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import IDLE, Task, over_rows
from silent_loom.core.patterns.hashing import grid


AROUND = 3
"""Fields that are laid around the sheet, so that no place near its edge has to be counted modulo."""


@kernel("f4[:,::1], f4[:,::1], f4[:,::1], i4[:,::1], f4[:,:,::1], i4[:,::1], i8, i8, f4, f4, f4, i8, i8")
def _cells(near, next_, border, which, points, names, nx, ny, cw, ch, stagger, y0, y1):  # type: ignore[no-untyped-def]
    # Points in fields from the corner of the sheet; distances in the unit of cw and ch, the width and height of a field
    h, w = near.shape
    for y in range(y0, y1):
        v = (np.float32(y) + np.float32(0.5)) / np.float32(h) * np.float32(ny)
        jy = int(v)
        for x in range(w):
            u = (np.float32(x) + np.float32(0.5)) / np.float32(w) * np.float32(nx)
            best, second = np.float32(1e30), np.float32(1e30)
            bx, by, bi = np.float32(0), np.float32(0), 0
            for dj in range(5):
                row = np.uintp(jy + dj + 1)
                first = int(u - stagger * np.float32((jy + dj) & 1) + np.float32(1)) - 1
                for di in range(5):
                    column = np.uintp(first + di + 1)
                    ex, ey = (points[row, column, 0] - u) * cw, (points[row, column, 1] - v) * ch
                    d = ex * ex + ey * ey
                    if d < best:
                        second = best
                        best, bx, by, bi = d, ex, ey, names[row, column]
                    elif d < second:
                        second = d
            edge = np.float32(1e30)
            for dj in range(5):
                row = np.uintp(jy + dj + 1)
                first = int(u - stagger * np.float32((jy + dj) & 1) + np.float32(1)) - 1
                for di in range(5):
                    column = np.uintp(first + di + 1)
                    ex, ey = (points[row, column, 0] - u) * cw, (points[row, column, 1] - v) * ch
                    gx, gy = ex - bx, ey - by
                    far = gx * gx + gy * gy
                    if far > np.float32(1e-8):
                        e = np.float32(0.5) * ((ex + bx) * gx + (ey + by) * gy) / np.sqrt(far)
                        edge = e if e < edge else edge
            near[y, x], next_[y, x], which[y, x] = np.sqrt(best), np.sqrt(second), bi
            border[y, x] = edge if edge > 0 else np.float32(0)


@dataclass(frozen=True)
class Cellular:
    """Cells of a sheet.

    Attributes
    ----------
    near, next : float32 array, shape (H, W)
        Distances in mm to the nearest point and to the second nearest.
    border : float32 array, shape (H, W)
        Distance in mm to the border of the cell.
    which : int32 array, shape (H, W)
        Number of the cell.
    """

    near: Floats
    next: Floats
    border: Floats
    which: NDArray[np.int32]


def cellular(
    width: int,
    height: int,
    size_mm: tuple[float, float],
    cells: tuple[int, int],
    *,
    jitter: float = 1.0,
    stagger: bool = False,
    seed: int = 1,
    task: Task = IDLE,
) -> Cellular:
    """Cells around points, one in each field of a grid that repeats.

    Parameters
    ----------
    width, height : int
        Texels.
    size_mm : tuple of float
        Of the sheet.
    cells : tuple of int
        Fields across and down; an even number down where they are staggered.
    jitter : float
        How far points stray in their fields: 0 regular, 1 anywhere in them.
    stagger : bool
        Every other row is moved by half a field: without jitter, hexagons.

    Notes
    -----
    Worley, A cellular texture basis function, 1996. The border is where the nearest two are equally far, by the exact distance
    to that line.
    """
    nx, ny = max(1, cells[0]), max(1, cells[1])
    if stagger:
        ny += ny % 2
    shape = height, width
    near, next_, border = (np.empty(shape, np.float32) for _ in range(3))
    which = np.empty(shape, np.int32)
    shift = np.float32(0.5 if stagger else 0.0)
    columns, rows = np.arange(-AROUND, nx + AROUND), np.arange(-AROUND, ny + AROUND)
    own = np.ix_(rows % ny, columns % nx)
    stray = [np.float32(0.5) + np.float32(jitter) * (grid(nx, ny, seed + 101 * k)[own] - np.float32(0.5)) for k in range(2)]
    across = columns[None] + shift * (rows[:, None] & 1) + stray[0]
    points = np.ascontiguousarray(np.stack([across, rows[:, None] + stray[1]], 2), np.float32)
    names = np.ascontiguousarray((np.arange(ny)[:, None] * nx + np.arange(nx))[own], np.int32)
    fixed = (points, names, nx, ny, np.float32(size_mm[0] / nx), np.float32(size_mm[1] / ny), shift)
    over_rows(height, lambda a, b: _cells(near, next_, border, which, *fixed, a, b), task, cost=width * 0.02)
    return Cellular(near, next_, border, which)
