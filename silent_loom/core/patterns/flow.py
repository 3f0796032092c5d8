"""Streaks along a field of directions."""

from __future__ import annotations

import math
from functools import partial

import numpy as np

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import IDLE, Task, over_rows
from silent_loom.core.patterns.ground import Ground


@kernel("f4[:,:,::1], f4[:,:,::1], i8, i8")
def _twice_as_far(near, far, y0, y1):  # type: ignore[no-untyped-def]
    # near: the mean along each place's line so far, and the way to the end of that line, to the right and down, in texels
    h, w = near.shape[:2]
    one, half = np.float32(1), np.float32(0.5)
    for y in range(y0, y1):
        for x in range(w):
            dx, dy = near[y, x, 1], near[y, x, 2]
            u, v = np.floor(dx), np.floor(dy)
            fx, fy = dx - u, dy - v
            xa, ya = x + int(u), y + int(v)
            if xa < 0 or xa >= w:  # lines may be longer than many sheets
                xa %= w
            if ya < 0 or ya >= h:
                ya %= h
            xb, yb = xa + 1 if xa + 1 < w else 0, ya + 1 if ya + 1 < h else 0
            a, b, c, d = (one - fx) * (one - fy), fx * (one - fy), (one - fx) * fy, fx * fy
            mean = near[ya, xa, 0] * a + near[ya, xb, 0] * b + near[yb, xa, 0] * c + near[yb, xb, 0] * d
            far[y, x, 0] = (near[y, x, 0] + mean) * half
            far[y, x, 1] = dx + near[ya, xa, 1] * a + near[ya, xb, 1] * b + near[yb, xa, 1] * c + near[yb, xb, 1] * d
            far[y, x, 2] = dy + near[ya, xa, 2] * a + near[ya, xb, 2] * b + near[yb, xa, 2] * c + near[yb, xb, 2] * d


def streaks(grain: Floats, way: Floats, length_mm: float, fine_mm: float, ground: Ground, task: Task = IDLE) -> Floats:
    """What lies along each place's own line through a field, averaged.

    Parameters
    ----------
    grain : float32 array, shape (H, W)
        What is drawn out.
    way : float32 array, shape (2, H, W)
        Unit directions, to the right and down.
    length_mm, fine_mm : float
        How long a line is, and the longest step on it.

    Notes
    -----
    Line integral convolution (Cabral & Leedom 1993). The line is doubled with every pass: the mean over 2ⁿ places is that of two
    means over half as many, and the way over 2ⁿ steps is that over half as many, taken twice.

    >>> from silent_loom.core.patterns.ground import Ground
    >>> grain = np.random.default_rng(1).random((32, 32)).astype(np.float32)
    >>> way = np.zeros((2, 32, 32), np.float32)
    >>> way[0] = 1
    >>> lines = streaks(grain, way, 20.0, 1.0, Ground.of(32, 32, (32.0, 32.0)))
    >>> np.diff(lines, axis=1).std() < np.diff(lines, axis=0).std()
    np.True_
    """
    passes = max(1, math.ceil(math.log2(max(2.0, length_mm / fine_mm))))
    step = length_mm / 2**passes
    near = np.stack([grain, *(way[k] * np.float32(step / ground.pitch[k]) for k in range(2))], 2, dtype=np.float32)
    far = np.empty_like(near)
    for _ in range(passes):
        over_rows(len(near), partial(_twice_as_far, near, far), task, cost=near.shape[1] * 1e-3)
        near, far = far, near
    return np.ascontiguousarray(near[..., 0])


def swirl(potential: Floats, ground: Ground) -> Floats:
    """Unit directions along the level lines of a field, shape (2, H, W): they never run into each other.

    Notes
    -----
    Curl noise (Bridson, Houriham & Nordenstam 2007).

    >>> from silent_loom.core.patterns.ground import Ground
    >>> swirl(np.zeros((8, 8), np.float32), Ground.of(8, 8, (10.0, 10.0))).shape
    (2, 8, 8)
    """
    px, py = ground.pitch
    dx = (np.roll(potential, -1, 1) - np.roll(potential, 1, 1)) / np.float32(2 * px)
    dy = (np.roll(potential, -1, 0) - np.roll(potential, 1, 0)) / np.float32(2 * py)
    long = np.maximum(np.hypot(dx, dy), np.float32(1e-9))
    return np.stack([-dy / long, dx / long])
