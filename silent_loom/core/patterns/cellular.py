"""Cells on a torus: distances to the nearest points, which cell it is, and how far its border is."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import IDLE, Task, over_rows
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.hashing import grid, of

AROUND = 3
"""Fields that are laid around the sheet, so that no place near its edge has to be counted modulo."""


@kernel(
    "f4[:,::1], f4[:,::1], f4[:,::1], i4[:,::1], i4[:,::1], f4, f4, f4[:,:,::1], f4[:,:,::1], i4[:,::1], "
    "i8, i8, f4, f4, f4, i8, i8"
)
def _cells(near, next_, border, which, other, over_w, over_h, moved, points, names, nx, ny, cw, ch, stagger, y0, y1):  # type: ignore[no-untyped-def]
    # Points in fields from the corner of the sheet; distances in the unit of cw and ch, the width and height of a field.
    # The ring around the nine nearest fields is asked only where something in it could be near enough.
    w = near.shape[1]
    rows, columns = moved.shape[1], moved.shape[2]
    for y in range(y0, y1):
        my = y if rows > 1 else 0
        for x in range(w):
            mx = x if columns > 1 else 0
            u = (np.float32(x) + np.float32(0.5)) * over_w + moved[0, my, mx]
            v = (np.float32(y) + np.float32(0.5)) * over_h + moved[1, my, mx]
            u = (u - np.floor(u)) * np.float32(nx)
            v = (v - np.floor(v)) * np.float32(ny)
            jy = int(v)
            fy = v - np.float32(jy)
            fx = u - np.float32(int(u))
            down = (np.float32(1) + min(fy, np.float32(1) - fy)) * ch
            aside = (np.float32(1) + (min(fx, np.float32(1) - fx) if stagger == 0 else np.float32(0))) * cw
            ring = min(down, aside)
            best, second = np.float32(1e30), np.float32(1e30)
            bx, by, bi, oi = np.float32(0), np.float32(0), 0, 0
            for more in range(2):
                if more == 1 and second <= ring * ring:
                    break
                for dj in range(1 - more, 4 + more):
                    row = np.uintp(jy + dj + 1)
                    first = int(u - stagger * np.float32((jy + dj) & 1) + np.float32(1)) - 1
                    for di in range(1 - more, 4 + more):
                        if more == 1 and 0 < dj < 4 and 0 < di < 4:
                            continue
                        column = np.uintp(first + di + 1)
                        ex, ey = (points[row, column, 0] - u) * cw, (points[row, column, 1] - v) * ch
                        d = ex * ex + ey * ey
                        if d < best:
                            second = best
                            best, bx, by, bi = d, ex, ey, names[row, column]
                        elif d < second:
                            second = d
            edge, reach = np.float32(1e30), np.sqrt(best)
            for more in range(2):
                if more == 1 and ring >= reach + np.float32(2) * edge:
                    break
                for dj in range(1 - more, 4 + more):
                    row = np.uintp(jy + dj + 1)
                    first = int(u - stagger * np.float32((jy + dj) & 1) + np.float32(1)) - 1
                    for di in range(1 - more, 4 + more):
                        if more == 1 and 0 < dj < 4 and 0 < di < 4:
                            continue
                        column = np.uintp(first + di + 1)
                        ex, ey = (points[row, column, 0] - u) * cw, (points[row, column, 1] - v) * ch
                        gx, gy = ex - bx, ey - by
                        far = gx * gx + gy * gy
                        if far > np.float32(1e-8):
                            e = np.float32(0.5) * ((ex + bx) * gx + (ey + by) * gy) / np.sqrt(far)
                            if e < edge:
                                edge, oi = e, names[row, column]
            near[y, x], next_[y, x], which[y, x], other[y, x] = reach, np.sqrt(second), bi, oi
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
    which, other : int32 array, shape (H, W)
        Number of the cell, and of the one across the nearest border.
    count : int
        Cells on the sheet.
    """

    near: Floats
    next: Floats
    border: Floats
    which: NDArray[np.int32]
    other: NDArray[np.int32]
    count: int


def cellular(
    ground: Ground,
    cells: tuple[int, int],
    *,
    jitter: float = 1.0,
    stagger: bool = False,
    seed: int = 1,
    warp: Floats | None = None,
    task: Task = IDLE,
) -> Cellular:
    """Cells around points, one in each field of a grid that repeats.

    Parameters
    ----------
    ground : Ground
    cells : tuple of int
        Fields across and down; an even number down where they are staggered.
    jitter : float
        How far points stray in their fields: 0 regular, 1 anywhere in them.
    stagger : bool
        Every other row is moved by half a field: without jitter, hexagons.
    warp : float32 array, shape (2, H, W), optional
        Moves the places that are looked up, as parts of the sheet: borders bend.

    Notes
    -----
    Worley, A cellular texture basis function, 1996. The border is where the nearest two are equally far, by the exact distance
    to that line.

    >>> from silent_loom.core.patterns.ground import Ground
    >>> found = cellular(Ground.of(32, 32, (100.0, 100.0)), (4, 4))
    >>> sorted(found.__dataclass_fields__)[:2]
    ['border', 'count']
    """
    nx, ny = max(1, cells[0]), max(1, cells[1])
    if stagger:
        ny += ny % 2
    shape = ground.height, ground.width
    near, next_, border = (np.empty(shape, np.float32) for _ in range(3))
    which, other = np.empty(shape, np.int32), np.empty(shape, np.int32)
    moved = np.zeros((2, 1, 1), np.float32) if warp is None else np.ascontiguousarray(warp, np.float32)
    shift = np.float32(0.5 if stagger else 0.0)
    columns, rows = np.arange(-AROUND, nx + AROUND), np.arange(-AROUND, ny + AROUND)
    own = np.ix_(rows % ny, columns % nx)
    strays = [np.float32(0.5) + np.float32(jitter) * (grid(nx, ny, of(seed, k))[own] - np.float32(0.5)) for k in range(2)]
    across = columns[None] + shift * (rows[:, None] & 1) + strays[0]
    points = np.ascontiguousarray(np.stack([across, rows[:, None] + strays[1]], 2), np.float32)
    names = np.ascontiguousarray((np.arange(ny)[:, None] * nx + np.arange(nx))[own], np.int32)
    over = np.float32(1 / ground.texels[0]), np.float32(1 / ground.texels[1])
    field = np.float32(ground.size_mm[0] / nx), np.float32(ground.size_mm[1] / ny)
    fixed = (*over, moved, points, names, nx, ny, *field, shift)
    out = near, next_, border, which, other
    over_rows(ground.height, lambda a, b: _cells(*out, *fixed, a, b), task, cost=ground.width * 0.006)
    return Cellular(near, next_, border, which, other, nx * ny)
