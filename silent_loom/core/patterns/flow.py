"""Streaks along a field of directions."""

from __future__ import annotations

import math

import cv2
import numpy as np

from silent_loom.core.base.images import Floats
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.patterns.ground import Ground


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
    h, w = grain.shape
    x, y = np.meshgrid(np.arange(w, dtype=np.float32), np.arange(h, dtype=np.float32))
    mean = np.ascontiguousarray(grain, np.float32)
    dx, dy = (np.ascontiguousarray(way[k] * np.float32(step / ground.pitch[k]), np.float32) for k in range(2))
    for _ in range(passes):
        task.checkpoint()
        to = x + dx, y + dy
        there = [cv2.remap(plane, *to, cv2.INTER_LINEAR, borderMode=cv2.BORDER_WRAP) for plane in (mean, dx, dy)]
        mean += there[0]
        mean *= np.float32(0.5)
        dx += there[1]
        dy += there[2]
    return mean


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
