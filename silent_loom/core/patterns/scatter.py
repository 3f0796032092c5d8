"""Places strewn over a torus, not too near each other."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.hashing import grid, of

Numbers = NDArray[np.float64]


def strewn(ground: Ground, apart_mm: float, seed: int, *, jitter: float = 0.8, share: float = 1.0) -> tuple[Numbers, Numbers]:
    """Middles of about evenly strewn things, in mm: one in each field of a staggered grid, some of them left out.

    Parameters
    ----------
    apart_mm : float
        About how far they are apart.
    jitter : float
        0 is a regular grid, 1 anywhere in the field.
    share : float
        Part of the fields that have one.

    >>> from silent_loom.core.patterns.ground import Ground
    >>> x, y = strewn(Ground.of(64, 64, (100.0, 100.0)), 20.0, 3)
    >>> len(x) == len(y), len(x)
    (True, 30)
    """
    nx, ny = ground.counts(apart_mm, apart_mm * 0.87, (1, 2))
    fw, fh = ground.size_mm[0] / nx, ground.size_mm[1] / ny
    j, i = np.mgrid[0:ny, 0:nx].astype(float)
    x = (i + 0.5 + 0.5 * (j % 2) + jitter * (grid(nx, ny, of(seed, 31)) - 0.5)) * fw
    y = (j + 0.5 + jitter * (grid(nx, ny, of(seed, 32)) - 0.5)) * fh
    kept = grid(nx, ny, of(seed, 33)) < share
    return x[kept], y[kept]


Strokes = tuple[Numbers, Numbers, Numbers, Numbers, Numbers, Numbers]


def lines(x0: Numbers, y0: Numbers, x1: Numbers, y1: Numbers) -> tuple[Numbers, Numbers, Numbers, Numbers]:
    """Middles, half lengths and turns of straight strokes between two ends.

    >>> lines(np.array([0.0]), np.array([0.0]), np.array([3.0]), np.array([4.0]))[3].tolist()
    [0.9272952180016122]
    """
    dx, dy = x1 - x0, y1 - y0
    return (x0 + x1) / 2, (y0 + y1) / 2, np.hypot(dx, dy) / 2, np.arctan2(dy, dx)


def branches(
    ground: Ground, count: int, length_mm: float, width_mm: float, seed: int, *, wild: float = 0.5, forks: float = 0.3
) -> Strokes:
    """Cracks or veins that wander and fork: middles, half lengths, turns, and radii at both ends, in mm.

    Parameters
    ----------
    count : int
        Trunks.
    length_mm, width_mm : float
        Of a trunk, which gets thinner towards its end; a fork has six tenths of what is left.
    wild : float
        How much they turn, in radians a step.
    forks : float
        Chance of a fork at each step.

    >>> from silent_loom.core.patterns.ground import Ground
    >>> cracks = branches(Ground.of(64, 64, (100.0, 100.0)), 3, 40.0, 1.0, 1, wild=0.3, forks=0.1)
    >>> len({len(a) for a in cracks}) == 1
    True
    """
    chance = np.random.Generator(np.random.Philox(seed))  # the same bits on every machine
    step = max(length_mm / 24, width_mm)
    found: list[tuple[float, float, float, float, float, float]] = []
    waiting = [
        (
            chance.random() * ground.size_mm[0],
            chance.random() * ground.size_mm[1],
            chance.random() * 2 * np.pi,
            length_mm,
            width_mm,
        )
        for _ in range(count)
    ]
    while waiting and len(found) < 20_000:
        x, y, way, left, wide = waiting.pop()
        whole_length = left
        while left > step:
            way += wild * (chance.random() - 0.5) * 2
            x1, y1 = x + step * np.cos(way), y + step * np.sin(way)
            r0, r1 = (wide / 2 * max(n, 0.0) / whole_length for n in (left, left - step))
            found.append((x, y, x1, y1, r0, r1))
            x, y, left = x1, y1, left - step
            if chance.random() < forks and left > 4 * step:
                side = 1 if chance.random() < 0.5 else -1
                waiting.append((x, y, way + side * (0.5 + 0.6 * chance.random()), 0.6 * left, wide * left / whole_length * 0.8))
    every = np.array(found, float).reshape(-1, 6).T
    return (*lines(every[0], every[1], every[2], every[3]), every[4], every[5])
