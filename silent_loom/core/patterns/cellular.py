"""Cells on a torus: distances to the nearest points, which cell it is, and how far its border is."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import inlined, kernel
from silent_loom.core.base.parallel import IDLE, Task, over_rows
from silent_loom.core.patterns.ground import FIELDS, Ground
from silent_loom.core.patterns.hashing import grid, of

AROUND = 3
"""Fields that are laid around the sheet, so that no place near its edge has to be counted modulo."""

BLOCK = 16
"""Places that are worked on together: two registers full."""


@inlined
def _nearer(b, px, py, cw, ch, name):  # type: ignore[no-untyped-def]
    # One point for a whole block: the nearest two of each place, where the nearest is, and which
    for i in range(BLOCK):
        ex, ey = (px - b[i]) * cw, (py - b[BLOCK + i]) * ch
        d = ex * ex + ey * ey
        best, second = b[2 * BLOCK + i], b[3 * BLOCK + i]
        closer = d < best
        b[3 * BLOCK + i] = min(second, max(best, d))
        b[2 * BLOCK + i] = d if closer else best
        b[4 * BLOCK + i] = ex if closer else b[4 * BLOCK + i]
        b[5 * BLOCK + i] = ey if closer else b[5 * BLOCK + i]
        b[6 * BLOCK + i] = name if closer else b[6 * BLOCK + i]


@inlined
def _border(b, px, py, cw, ch, name):  # type: ignore[no-untyped-def]
    # One point for a whole block: how far the border to it is from each place, if it is the nearest border
    for i in range(BLOCK):
        ex, ey = (px - b[i]) * cw, (py - b[BLOCK + i]) * ch
        bx, by = b[4 * BLOCK + i], b[5 * BLOCK + i]
        gx, gy = ex - bx, ey - by
        far = gx * gx + gy * gy
        e = np.float32(0.5) * ((ex + bx) * gx + (ey + by) * gy) / np.sqrt(max(far, np.float32(1e-8)))
        closer = far > np.float32(1e-8) and e < b[7 * BLOCK + i]
        b[7 * BLOCK + i] = e if closer else b[7 * BLOCK + i]
        b[8 * BLOCK + i] = name if closer else b[8 * BLOCK + i]


@kernel(
    "f4[:,::1], f4[:,::1], f4[:,::1], i4[:,::1], i4[:,::1], f4, f4, f4[:,:,::1], f4[:,:,::1], i4[:,::1], "
    "i8, i8, f4, f4, b1, i8, i8"
)
def _cells(near, next_, border, which, other, over_w, over_h, moved, points, names, nx, ny, cw, ch, stagger, y0, y1):  # type: ignore[no-untyped-def]
    # Points in fields from the corner of the sheet; distances in the unit of cw and ch, the width and height of a field.
    # A run of places in one field asks the same points, so it becomes vector code: b holds, a row of BLOCK for each,
    # places, distances to the nearest two, where the nearest is and which, distance to the border and what is beyond;
    # which one is told by its row and column from that field, small whole numbers that a float holds exactly.
    # The ring around the nearest fields is asked only where something in it could be near enough.
    w = near.shape[1]
    rows, columns = moved.shape[1], moved.shape[2]
    place = np.zeros((2, w + BLOCK), np.float32)
    field = np.zeros((2, w), np.int32)
    b = np.zeros(9 * BLOCK, np.float32)
    zero, one, two, far_away = np.float32(0), np.float32(1), np.float32(2), np.float32(1e30)
    for y in range(y0, y1):
        my = y if rows > 1 else 0
        v0 = (np.float32(y) + np.float32(0.5)) * over_h
        for x in range(w):
            place[0, x], place[1, x] = (np.float32(x) + np.float32(0.5)) * over_w, v0
        if columns > 1:
            for x in range(w):
                place[0, x] += moved[0, my, x]
                place[1, x] += moved[1, my, x]
        for x in range(w):
            u, v = place[0, x], place[1, x]
            place[0, x] = (u - np.floor(u)) * np.float32(nx)
            place[1, x] = (v - np.floor(v)) * np.float32(ny)
            field[0, x], field[1, x] = np.int32(place[0, x]), np.int32(place[1, x])
        xa = 0
        while xa < w:
            ix, iy = field[0, xa], field[1, xa]
            xb = xa + 1
            while xb < w and xb < xa + BLOCK and field[0, xb] == ix and field[1, xb] == iy:
                xb += 1
            ring = far_away
            for i in range(BLOCK):
                b[i], b[BLOCK + i] = place[0, xa + i], place[1, xa + i]
                b[2 * BLOCK + i] = b[3 * BLOCK + i] = b[7 * BLOCK + i] = far_away
            for i in range(xb - xa, BLOCK):  # the rest of the block is the last place once more
                b[i], b[BLOCK + i] = place[0, xb - 1], place[1, xb - 1]
            for i in range(BLOCK):
                fx, fy = b[i] - np.float32(ix), b[BLOCK + i] - np.float32(iy)
                aside = one if stagger else one + min(fx, one - fx)
                ring = min(ring, (one + min(fy, one - fy)) * ch, aside * cw)
            for more in range(2):
                if more == 1:
                    most = zero
                    for i in range(BLOCK):
                        most = max(most, b[3 * BLOCK + i])
                    if most <= ring * ring:
                        break
                for dj in range(1 - more, 4 + more):
                    row = iy + dj + 1
                    early = 1 if stagger and (iy + dj) & 1 else 0  # of a row that is moved by half a field, one more
                    for di in range(1 - more - early, 4 + more):
                        if more == 1 and 0 < dj < 4 and di + early > 0 and di < 4:
                            continue
                        column = ix + di + 1
                        _nearer(b, points[row, column, 0], points[row, column, 1], cw, ch, np.float32(16 * dj + di + 1))
            for more in range(2):
                if more == 1:
                    most = zero
                    for i in range(BLOCK):
                        most = max(most, np.sqrt(b[2 * BLOCK + i]) + two * b[7 * BLOCK + i])
                    if most <= ring:
                        break
                for dj in range(1 - more, 4 + more):
                    row = iy + dj + 1
                    early = 1 if stagger and (iy + dj) & 1 else 0
                    for di in range(1 - more - early, 4 + more):
                        if more == 1 and 0 < dj < 4 and di + early > 0 and di < 4:
                            continue
                        column = ix + di + 1
                        _border(b, points[row, column, 0], points[row, column, 1], cw, ch, np.float32(16 * dj + di + 1))
            for i in range(xb - xa):
                x = xa + i
                near[y, x], next_[y, x], border[y, x] = b[2 * BLOCK + i], b[3 * BLOCK + i], max(b[7 * BLOCK + i], zero)
                n, o = np.int32(b[6 * BLOCK + i]), np.int32(b[8 * BLOCK + i])
                which[y, x] = names[iy + (n >> 4) + 1, ix + (n & 15)]
                other[y, x] = names[iy + (o >> 4) + 1, ix + (o & 15)]
            xa = xb
        for x in range(w):
            near[y, x], next_[y, x] = np.sqrt(near[y, x]), np.sqrt(next_[y, x])


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
        Moves the places that are looked up, as parts of the sheet: borders bend. Do not change it afterwards.

    Returns
    -------
    Cellular
        Kept for the next who asks: do not change its arrays.

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
    asked = ground, (nx, ny), jitter, stagger, seed
    # The warp is known by being the same array, and is kept with the cells, so that no other can take its place
    key = "cells", *asked, None if warp is None else id(warp)
    beside = 0 if warp is None else warp.nbytes
    return FIELDS.answer(key, lambda: (warp, _cellular(*asked, warp, task)), lambda made: 5 * made[1].border.nbytes + beside)[1]


def _cellular(
    ground: Ground, cells: tuple[int, int], jitter: float, stagger: bool, seed: int, warp: Floats | None, task: Task
) -> Cellular:
    nx, ny = cells
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
    fixed = (*over, moved, points, names, nx, ny, *field, stagger)
    out = near, next_, border, which, other
    over_rows(ground.height, lambda a, b: _cells(*out, *fixed, a, b), task, cost=ground.width * 2e-3)
    return Cellular(near, next_, border, which, other, nx * ny)
