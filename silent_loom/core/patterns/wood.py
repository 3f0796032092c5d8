"""Grain of boards: each is a cut through rings of its own, and its fibres flow around its knots."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial

import numpy as np

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import IDLE, Task, over_rows
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.hashing import numbers, of
from silent_loom.core.patterns.laying import Laid

KNOTS = 3
"""Knots on a board at most."""
LONG = 0.45
"""Fibres bend around a knot over a way that is longer along the board: what counts of that way."""
AGED = 40.0
"""Rings of a branch are counted from here, so that they never go on in those of the trunk."""


@kernel("i4[:,::1], f4[:,::1], f4[:,::1], f4[:,::1], f4[:,::1], f4[:,:,::1], f4, f4[:,::1], f4[:,::1], i8, i8")
def _ages(which, us, vs, sway, boards, knots, ring, age, knot, y0, y1):  # type: ignore[no-untyped-def]
    # boards: half length, half width, pith, rise, taper; knots: along, across, radius
    one, half = np.float32(1), np.float32(0.5)
    for y in range(y0, y1):
        for x in range(which.shape[1]):
            i = which[y, x]
            if i < 0:
                age[y, x] = knot[y, x] = np.float32(0)
                continue
            along, across = us[y, x] * boards[i, 0], vs[y, x] * boards[i, 1]
            far = across + sway[y, x] - boards[i, 2] * boards[i, 1]
            most, own = np.float32(0), np.float32(0)
            for k in range(knots.shape[1]):
                r = knots[i, k, 2]
                if r <= 0:
                    continue
                dx, dy = along - knots[i, k, 0], across - knots[i, k, 1]
                long = dx * np.float32(LONG)
                away = long * long + dy * dy
                far -= dy * min(one, r * r / max(away, np.float32(1e-12)))
                middle = np.sqrt(np.float32(0.7) * dx * dx + dy * dy)
                inside = min(max((r - middle) / (np.float32(0.2) * r) + half, np.float32(0)), one)
                if inside > most:
                    most, own = inside, middle / (np.float32(0.28) * r)
            deep = boards[i, 3] * boards[i, 1] + boards[i, 4] * along
            knot[y, x] = most
            age[y, x] = np.float32(AGED) + own if most > half else np.sqrt(far * far + deep * deep) / ring


@kernel("f4[:,::1], b1, f4[:,::1], i8, i8")
def _rings(age, round_, out, y0, y1):  # type: ignore[no-untyped-def]
    # Early wood is broad and soft, late wood a narrow dark line at the end of a ring; rings that texels cannot show
    # are their mean
    h, w = age.shape
    one = np.float32(1)
    for y in range(y0, y1):
        up, down = (y - 1, y + 1) if 0 < y < h - 1 or not round_ else ((y - 1) % h, (y + 1) % h)
        up, down = max(up, 0), min(down, h - 1)
        for x in range(w):
            left, right = x - 1, x + 1
            if left < 0:
                left = w - 1 if round_ else 0
            if right == w:
                right = 0 if round_ else w - 1
            gx, gy = (age[y, right] - age[y, left]) * np.float32(0.5), (age[down, x] - age[up, x]) * np.float32(0.5)
            fade = min(max(np.float32(1.4) - np.float32(2.4) * np.sqrt(gx * gx + gy * gy), np.float32(0)), one)
            phase = age[y, x] - np.floor(age[y, x])
            late = phase * phase * phase * min((one - phase) * np.float32(6), one)
            out[y, x] = np.float32(0.2) + fade * (late * np.float32(1.6) - np.float32(0.2))


@dataclass(frozen=True)
class Trees:
    """What each board was cut from.

    Attributes
    ----------
    boards : float32 array, shape (N, 5)
        Half length and half width in mm; how far beside its middle the tree's own middle lies and how far below, in half
        widths; how much that depth changes along the board.
    knots : float32 array, shape (N, 3, 3)
        Places along and across from the board's middle and radii, in mm; a radius of 0 where there is none.
    """

    boards: Floats
    knots: Floats


def trees(table: Floats, knots: float, seed: int) -> Trees:
    """Trees for boards that were laid.

    Parameters
    ----------
    table : float32 array, shape (N, 12)
        See `laying.items`.
    knots : float
        Part of the places for knots where there is one, 0…1.

    >>> from silent_loom.core.patterns.laying import items
    >>> table = items([25.0, 75.0], [50.0, 50.0], 20.0, 40.0)
    >>> [int((trees(table, much, 1).knots[..., 2] > 0).sum()) for much in (0.0, 1.0)]
    [0, 6]
    """
    n = len(table)
    long, wide = table[:, 4], table[:, 5]

    def between(kind: int, low: float, high: float) -> Floats:
        return np.asarray(low + (high - low) * numbers(n, of(seed, kind)), np.float32)

    boards = np.stack([long, wide, between(72, -1.2, 1.2), between(73, 0.15, 1.3), between(74, -0.05, 0.05)], 1)
    grown = []
    for k in range(KNOTS):
        there = numbers(n, of(seed, 80 + 5 * k)) < knots
        size = between(81 + 5 * k, 0.12, 0.32) * wide * there
        grown.append(np.stack([between(82 + 5 * k, -0.85, 0.85) * long, between(83 + 5 * k, -0.75, 0.75) * wide, size], 1))
    return Trees(np.ascontiguousarray(boards, np.float32), np.ascontiguousarray(np.stack(grown, 1), np.float32))


def grained(found: Laid, ground: Ground, sway: Floats, cut: Trees, ring_mm: float, task: Task = IDLE) -> tuple[Floats, Floats]:
    """Place between two rings of each board and knots, both 0…1; shape (H, W).

    Parameters
    ----------
    found : Laid
        The boards, their axes along them.
    sway : float32 array, shape (H, W)
        How far rings stray across the boards, in mm.
    cut : Trees
    ring_mm : float
        From one ring to the next, where they are widest.

    Notes
    -----
    A board is a cut beside the middle of its tree: rings are hyperbolas that come near each other to its sides. Fibres go
    around a knot as a slow stream goes around an elliptical pier (the flow-grain analogy: Goodman & Bodig, Mathematical model
    of the tension behavior of wood with knots and cross grain, 1978); a knot has rings of its own.

    >>> from silent_loom.core.patterns.laying import beside, items
    >>> ground = Ground.of(32, 32, (100.0, 100.0))
    >>> found = beside(ground, items([25.0, 75.0], [50.0, 50.0], 20.0, 40.0), 10.0)
    >>> rings, knot = grained(found, ground, np.zeros((32, 32), np.float32), trees(found.table, 1.0, 1), 6.0)
    >>> rings.shape, float(knot.max())
    ((32, 32), 1.0)
    """
    shape = found.which.shape
    age, knot, rings = (np.empty(shape, np.float32) for _ in range(3))
    places = found.which, found.u, found.v, np.ascontiguousarray(sway, np.float32)
    over_rows(
        ground.height, partial(_ages, *places, cut.boards, cut.knots, np.float32(ring_mm), age, knot), task, cost=shape[1] * 3e-3
    )
    whole = ground.texels == (float(ground.width), float(ground.height))
    over_rows(ground.height, partial(_rings, age, whole, rings), task, cost=shape[1] * 2e-3)
    return rings, knot
