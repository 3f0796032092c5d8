"""How much of a sheet to lay over itself, so that what meets fits."""

from __future__ import annotations

from functools import partial

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Image
from silent_loom.core.base.parallel import IDLE, Task, both
from silent_loom.core.look.motif.beat import beat_across
from silent_loom.core.moving.resample import at_most
from silent_loom.core.tiling.cutting.by_lines import MARGIN, cut_by_lines
from silent_loom.core.tiling.cutting.cost import Cost, cost_of
from silent_loom.core.tiling.cutting.cut import roughness_of_cut

SIZES = (256, 512, 1024)
"""Texels along the longer side: every overlap is tried at the first, the best ones are placed more exactly at the others."""
LEAST, MOST = 0.02, 0.45
KEPT = (8, 4)
"""How many go on to the next size."""
APART = 0.02
"""Overlaps closer to each other than this are one."""
NARROW = 24
"""Texels at the first size below which there is nothing to choose from."""
REACH = (0.5, 1.8)
"""Overlaps that are tried, as parts of the one asked for."""
GAIN = 0.8
"""An overlap is left as asked for unless another one's cut costs less than this part of its own; of lines, any less."""
LINED = 0.05
"""Part of a sheet that is lines, from which on it is not a grain."""
BEAT = 1.0
"""How much dearer a cut counts where courses come at an even beat and the overlap leaves half of one: no line need end
there, but the course is seen."""
AWAY = 2.0
"""How much dearer a cut counts a unit of overlap away from what was asked: a tenth of the sheet must be worth a fifth."""


def fitted_overlap(image: Image, asked: tuple[float, float] = (0.2, 0.2), task: Task = IDLE) -> tuple[float, float]:
    """Overlaps at which a sheet fits itself best: the first ones of `fitting_overlaps`.

    Returns
    -------
    tuple of float
        Between 0.5 and 1.8 times what was asked, within 0.02…0.45; as asked where no other overlap is clearly better.

    >>> from silent_loom.core.base.images import Kind
    >>> noise = Image(np.random.default_rng(1).random((96, 96, 3), np.float32), Kind.COLOUR)
    >>> all(0.02 <= part <= 0.45 for part in fitted_overlap(noise))
    True
    """
    x, y = fitting_overlaps(image, asked, task)
    return x[0], y[0]


def fitting_overlaps(image: Image, asked: tuple[float, float] = (0.2, 0.2), task: Task = IDLE) -> tuple[list[float], list[float]]:
    """Overlaps at which a sheet fits itself well, the best first, for both directions.

    Parameters
    ----------
    image : Image
        What comes into the seamless step: its guide thread, usually base colour.
    asked : tuple of float
        Parts of the width and of the height that may be consumed, 0.02…0.5.

    Returns
    -------
    tuple of lists of float
        Between 0.5 and 1.8 times what was asked, within 0.02…0.45; first as asked where no other overlap is clearly better.

    Notes
    -----
    Courses of stones, boards, ribs: whatever runs along an edge meets itself only where the sheet is laid over itself by
    the right amount, and no cut can mend a wrong one. So the lowest-error cut is priced at every overlap, by the same
    measure that places it (`contour.contour_prices`), at a small size; the cheapest ones are placed to a fraction of a texel at
    larger ones, where in the end what counts is the cut that the step would make there, bent where that helps. Courses that
    come at an even beat are not left half as high, see `beat`. Both
    directions are fitted apart from each other.

    >>> from silent_loom.core.base.images import Kind
    >>> noise = Image(np.random.default_rng(1).random((96, 96, 3), np.float32), Kind.COLOUR)
    >>> across, down = fitting_overlaps(noise)
    >>> len(across) >= 1 and len(down) >= 1
    True
    """
    costs = [cost_of({"base": at_most(image, size, task)}, {"base": 1.0}) for size in SIZES]
    for cost in costs:
        cost.layers  # once for every overlap and both directions  # noqa: B018
    turned = [c.turned() for c in costs]
    x, y = both(partial(_fitted, costs, asked[0], task), partial(_fitted, turned, asked[1], task))
    return x, y


def _price(cost: Cost, n: int) -> float:
    return roughness_of_cut(cost.prices(cost.planes.shape[1] - n, False), margin=int(MARGIN * n))


def _fitted(costs: list[Cost], asked: float, task: Task) -> list[float]:
    width = costs[0].planes.shape[1]
    if width < NARROW:
        return [asked]
    low, high = max(LEAST, REACH[0] * asked), min(MOST, REACH[1] * asked)
    tried = np.arange(max(4, round(low * width)), max(5, round(high * width)) + 1)
    beat = beat_across(costs[1].planes, task)
    on_beat = 1 + BEAT * np.array([beat.missed(1 - n / width) for n in tried])
    prices = np.array([_price(costs[0], int(n)) for n in tried]) * on_beat
    found = [tried[i] / width for i in _lows(prices)]
    placed: list[tuple[float, float]] = []
    for cost, count in zip(costs[1:], KEPT, strict=True):
        task.checkpoint()
        # What was placed at the size before is known to half a texel of it
        ratio = cost.planes.shape[1] / width
        width = cost.planes.shape[1]
        reach = int(np.ceil(ratio / 2))
        placed = sorted(_best(cost, round(part * width) + np.arange(-reach, reach + 1)) for part in found[:count])
        found = [part for _, part in placed]
    now, enough = _price(costs[-1], round(asked * width)), GAIN
    if costs[-1].layers.line.mean() >= LINED:  # lines that do not meet may do so bent, but better they meet as they are
        bent = [cut_by_lines(costs[-1], width - round(p * width), True, False, task).roughness for p in (asked, *found)]
        now, *both_ways = (float(np.sqrt(q * r)) for q, r in zip((now, *(price for price, _ in placed)), bent, strict=True))
        placed, enough = list(zip(both_ways, found, strict=True)), 1.0
    counted = sorted(
        (price * (1 + AWAY * abs(part - asked)) * (1 + BEAT * beat.missed(1 - part)), part) for price, part in placed
    )
    now *= 1 + BEAT * beat.missed(1 - asked)
    parts = [round(float(np.clip(part, LEAST, MOST)), 5) for _, part in counted]
    order = [*parts, asked] if counted[0][0] <= enough * now else [asked, *parts]
    kept: list[float] = []
    for part in order:
        if all(abs(part - other) >= APART for other in kept):
            kept.append(part)
    return kept


def _lows(prices: NDArray[np.float64]) -> list[int]:
    """Places of the local minima, the lowest first."""
    walled = np.r_[np.inf, prices, np.inf]
    at = np.flatnonzero((walled[1:-1] <= walled[:-2]) & (walled[1:-1] < walled[2:]))
    return [int(i) for i in at[np.argsort(prices[at])]]


def _best(cost: Cost, tried: NDArray[np.int64]) -> tuple[float, float]:
    """Lowest price and the overlap it has, as a part of the width: the top of a parabola through its neighbours."""
    tried = tried[(tried >= 3) & (tried < cost.planes.shape[1] - 3)]
    prices = np.array([_price(cost, int(n)) for n in tried])
    i = int(prices.argmin())
    shift = 0.0
    if 0 < i < len(tried) - 1:
        before, here, after = prices[i - 1 : i + 2]
        shift = float(np.clip(0.5 * (before - after) / max(before - 2 * here + after, 1e-12), -0.5, 0.5))
    return float(prices[i]), (float(tried[i]) + shift) / cost.planes.shape[1]
