"""Gradient and value noise on a torus, and their fractal sums."""

from __future__ import annotations

import math
from functools import partial
from typing import Literal

import numpy as np

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import IDLE, Task, over_rows
from silent_loom.core.patterns.ground import FIELDS, Ground
from silent_loom.core.patterns.hashing import grid, numbers, of

Sum = Literal["plain", "ridged", "billowed"]
_SUMS = {"plain": 0, "ridged": 1, "billowed": 2}
FINEST = 0.45
"""Cells a texel from which on an octave is left out: its mean is all that a texel would show of it."""
FIRST = 0.7
"""The same of the coarsest one, without which there would be nothing."""


@kernel("f4[:,::1], f4, f4, f4, f4, f4[:,:,::1], f4[:,:,::1], b1, f4, i8, i8, i8")
def _add(out, over_w, over_h, off_x, off_y, moved, table, valued, weight, how, y0, y1):  # type: ignore[no-untyped-def]
    # One octave: what stands on the four points around a place, blended by a smooth step
    w = out.shape[1]
    ny, nx = table.shape[0], table.shape[1]
    for y in range(y0, y1):
        for x in range(w):
            u = (np.float32(x) + np.float32(0.5)) * over_w + moved[0, y, x] + off_x
            v = (np.float32(y) + np.float32(0.5)) * over_h + moved[1, y, x] + off_y
            u = (u - np.floor(u)) * np.float32(nx)
            v = (v - np.floor(v)) * np.float32(ny)
            ix, iy = int(u), int(v)
            ix = ix if ix < nx else nx - 1
            iy = iy if iy < ny else ny - 1
            fx, fy = u - np.float32(ix), v - np.float32(iy)
            jx = ix + 1 if ix + 1 < nx else 0
            jy = iy + 1 if iy + 1 < ny else 0
            sx = fx * fx * fx * (fx * (fx * np.float32(6) - np.float32(15)) + np.float32(10))
            sy = fy * fy * fy * (fy * (fy * np.float32(6) - np.float32(15)) + np.float32(10))
            if valued:
                a, b, c, d = table[iy, ix, 0], table[iy, jx, 0], table[jy, ix, 0], table[jy, jx, 0]
            else:
                gx, gy = fx - np.float32(1), fy - np.float32(1)
                a = table[iy, ix, 0] * fx + table[iy, ix, 1] * fy
                b = table[iy, jx, 0] * gx + table[iy, jx, 1] * fy
                c = table[jy, ix, 0] * fx + table[jy, ix, 1] * gy
                d = table[jy, jx, 0] * gx + table[jy, jx, 1] * gy
            top, low = a + (b - a) * sx, c + (d - c) * sx
            n = top + (low - top) * sy
            if how == 1:
                n = np.float32(1) - np.float32(2) * abs(n)
            elif how == 2:
                n = np.float32(2) * abs(n) - np.float32(1)
            out[y, x] += weight * n


@kernel("f4[:,::1], f8, f8, f4, f4, f4[:,:,::1], b1, f4, i8, i8, i8")
def _add_even(out, over_w, over_h, off_x, off_y, table, valued, weight, how, y0, y1):  # type: ignore[no-untyped-def]
    # The same without a warp: what stands on the corners of a cell is read once for the whole run of texels in it,
    # and the run becomes vector code
    w = out.shape[1]
    ny, nx = table.shape[0], table.shape[1]
    one, two = np.float32(1), np.float32(2)
    du = over_w * nx
    begin = du * 0.5 + off_x * nx
    first, last = int(np.floor(begin)), int(np.floor(begin + du * (w - 1)))
    step = np.float32(du)
    # Where the cells of a row begin, and how far into the first of them: the same in every row
    starts = np.empty(last - first + 2, np.int64)
    ats = np.empty(last - first + 1, np.float32)
    for c in range(first, last + 2):
        starts[c - first] = min(w, max(0, int(np.ceil((c - begin) / du - 1e-9))))
    for c in range(first, last + 1):
        ats[c - first] = begin + du * starts[c - first] - c
    for y in range(y0, y1):
        v = ((y + 0.5) * over_h + off_y) * ny
        v -= np.floor(v / ny) * ny
        iy = min(int(v), ny - 1)
        fy = np.float32(v - iy)
        gy = fy - one
        jy = iy + 1 if iy + 1 < ny else 0
        sy = fy * fy * fy * (fy * (fy * np.float32(6) - np.float32(15)) + np.float32(10))
        jx = first % nx
        for c in range(last - first + 1):
            xa, xb = starts[c], starts[c + 1]
            ix = jx
            jx = ix + 1 if ix + 1 < nx else 0
            a0, b0, c0, d0 = table[iy, ix, 0], table[iy, jx, 0], table[jy, ix, 0], table[jy, jx, 0]
            at = ats[c]
            if valued:
                low, high = a0 + (c0 - a0) * sy, b0 + (d0 - b0) * sy
                kl, kh = np.float32(0), np.float32(0)
            else:  # along a run each corner's part is straight
                top, foot = table[iy, ix, 1] * fy, table[jy, ix, 1] * gy
                low, kl = top + (foot - top) * sy, a0 + (c0 - a0) * sy
                top, foot = table[iy, jx, 1] * fy, table[jy, jx, 1] * gy
                kh = b0 + (d0 - b0) * sy
                high = top + (foot - top) * sy - kh
            for x in range(xa, xb):
                fx = at + np.float32(x - xa) * step
                sx = fx * fx * fx * (fx * (fx * np.float32(6) - np.float32(15)) + np.float32(10))
                left, right = low + kl * fx, high + kh * fx
                n = left + (right - left) * sx
                if how == 1:
                    n = one - two * abs(n)
                elif how == 2:
                    n = two * abs(n) - one
                out[y, x] += weight * n


def _table(nx: int, ny: int, seed: int, valued: bool) -> Floats:
    """What stands on the points of a lattice: a value, or a gradient that makes noise of about −1…1."""
    chance = grid(nx, ny, seed)
    if valued:
        return np.ascontiguousarray(np.stack([chance * 2 - 1, chance], 2), np.float32)
    angle = chance * np.float32(2 * math.pi)
    return np.ascontiguousarray(np.stack([np.cos(angle), np.sin(angle)], 2) * 1.5, np.float32)


def noise(
    ground: Ground,
    cells: tuple[int, int],
    *,
    octaves: int = 5,
    gain: float = 0.5,
    how: Sum = "plain",
    valued: bool = False,
    seed: int = 1,
    warp: Floats | None = None,
    task: Task = IDLE,
) -> Floats:
    """A fractal sum of noise that repeats.

    Parameters
    ----------
    ground : Ground
    cells : tuple of int
        Cells of the coarsest octave across and down; every further one has twice as many.
    octaves : int
        Fewer where their cells would be finer than texels show.
    gain : float
        How much each octave counts, of the one before.
    how : str
        'plain', 'ridged' (one minus the absolute value) or 'billowed' (the absolute value).
    valued : bool
        Values on the lattice, not gradients.
    warp : float32 array, shape (2, H, W), optional
        Moves the places that are looked up, as parts of the sheet.

    Returns
    -------
    float32 array, shape (H, W)
        About −1…1, the same places at every size. Without a warp it is kept for the next who asks: do not change it.

    Notes
    -----
    Perlin, Improving noise, 2002, on a lattice that is counted modulo its size; sums after Ebert et al. (Texturing and
    modeling, 1994); warped domains after Perlin 1985.

    >>> from silent_loom.core.patterns.ground import Ground
    >>> small, large = (noise(Ground.of(n, n, (100.0, 100.0)), (4, 4)) for n in (32, 256))
    >>> bool(np.abs(small[16, 16] - large[128:136, 128:136].mean()) < 0.1)
    True
    """
    if warp is not None:
        return _noise(ground, cells, octaves, gain, how, valued, seed, warp, task)
    asked = ground, cells, octaves, gain, how, valued, seed
    return FIELDS.answer(("noise", *asked), lambda: _noise(*asked, None, task), lambda made: made.nbytes)


def _noise(
    ground: Ground,
    cells: tuple[int, int],
    octaves: int,
    gain: float,
    how: Sum,
    valued: bool,
    seed: int,
    warp: Floats | None,
    task: Task,
) -> Floats:
    out = np.zeros((ground.height, ground.width), np.float32)
    moved = None if warp is None else np.ascontiguousarray(warp, np.float32)
    weight, most = 1.0, 0.0
    for k in range(max(1, octaves)):
        nx, ny = max(1, cells[0]) << k, max(1, cells[1]) << k
        most += weight  # octaves that are too fine count as well: what is left keeps its strength at every size
        finest = FINEST if k > 0 else FIRST
        if nx > finest * ground.texels[0] or ny > finest * ground.texels[1]:
            weight *= gain
            continue
        table = _table(nx, ny, of(seed, k), valued)
        # Every octave begins elsewhere: gradient noise is nothing at all points of its lattice, and these would coincide
        off = numbers(2, of(seed, 900 + k))
        also = off[0], off[1], *(() if warp is None else (moved,)), table, valued, np.float32(weight), _SUMS[how]
        work, even = (_add_even, 1 / ground.texels[0]) if warp is None else (_add, np.float32(1 / ground.texels[0]))
        over = even, type(even)(1 / ground.texels[1])
        over_rows(ground.height, partial(work, out, *over, *also), task, cost=ground.width * (2e-4 if warp is None else 1.2e-3))
        weight *= gain
    out /= np.float32(most)
    return out


def stray(ground: Ground, cells: tuple[int, int], far_mm: float, seed: int, octaves: int = 3, task: Task = IDLE) -> Floats:
    """A warp by noise, shape (2, H, W), in parts of the sheet: places stray by about a length. Kept, as `noise` is.

    >>> from silent_loom.core.patterns.ground import Ground
    >>> stray(Ground.of(32, 32, (100.0, 100.0)), (4, 4), 5.0, 1).shape
    (2, 32, 32)
    """
    asked = ground, cells, far_mm, seed, octaves
    return FIELDS.answer(("stray", *asked), lambda: _stray(*asked, task), lambda made: made.nbytes)


def _stray(ground: Ground, cells: tuple[int, int], far_mm: float, seed: int, octaves: int, task: Task) -> Floats:
    out = np.stack([_noise(ground, cells, octaves, 0.5, "plain", False, seed + 17 * k, None, task) for k in range(2)])
    out *= np.array([far_mm / n for n in ground.size_mm], np.float32)[:, None, None]
    return out


def cells_of(ground: Ground, scale_mm: float, stretch: float = 1.0) -> tuple[int, int]:
    """Whole numbers of cells of about a width on a sheet, longer across by ``stretch``.

    >>> cells_of(Ground.of(64, 32, (200.0, 100.0)), 25.0)
    (8, 4)
    """
    return ground.counts(scale_mm * stretch, scale_mm)
