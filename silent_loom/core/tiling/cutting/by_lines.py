"""The whole cut over an overlap: where lines end least, its ends moved along each other where lines then meet."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.tiling.cutting.contour import contour_prices
from silent_loom.core.tiling.cutting.cost import Cost
from silent_loom.core.tiling.cutting.cut import lowest_cut, roughness
from silent_loom.core.tiling.cutting.layers import Layers
from silent_loom.core.tiling.cutting.meet import meeting, met_sides

MARGIN = 0.12
"""Part of the overlap, at either border, that the cut keeps away from."""
WORTH_MOVING = 0.9
"""Both ends of an overlap are moved along each other where the cut then costs less than this part."""
STIFF = 15.0
"""How much stiffer fibres are than joints when both ends are moved along each other: a wave in straight grain is seen."""


class Cut(NamedTuple):
    """A cut between both ends of a sheet.

    Attributes
    ----------
    cost : Cost
        The sheet as it is cut, its ends moved along each other by ``shift``, if at all.
    sides : tuple of Layers
        Both pictures of its overlap.
    path : int array, shape (rows,)
        See `cut.lowest_cut`.
    shift : array or None
        See `meet.meeting`.
    roughness : float
        What the cut costs, see `cut.roughness`.
    """

    cost: Cost
    sides: tuple[Layers, Layers]
    path: NDArray[np.int32]
    shift: Floats | None
    roughness: float


def cut_by_lines(cost: Cost, keep: int, bend: bool, closed: bool, task: Task = IDLE) -> Cut:
    """The cut from top to bottom of a sheet that costs least by `contour.contour_prices`, bent or not.

    >>> import numpy as np
    >>> from silent_loom.core.base.images import Image, Kind
    >>> from silent_loom.core.tiling.cutting.cost import cost_of
    >>> even = cost_of({"base": Image(np.full((64, 80, 3), 0.2, np.float32), Kind.COLOUR)}, {"base": 1.0})
    >>> cut_by_lines(even, 64, False, False).path.shape
    (64,)
    """
    margin = int(MARGIN * (cost.planes.shape[1] - keep))
    sides = cost.sides(keep, task)
    prices = contour_prices(*sides, cost.scale, closed, task)
    path = lowest_cut(prices, margin=margin, closed=closed)
    plain = Cut(cost, sides, path, None, roughness(prices, path))
    if not bend:
        return plain
    shift = meeting(cost.planes, sides, keep, cost.scale, cost.toned, MARGIN, closed, task, stiff=1 + STIFF * cost.along)
    if shift is None:
        return plain
    met = met_sides(sides, shift, closed, task)
    prices = contour_prices(*met, cost.scale, closed, task)
    path = lowest_cut(prices, margin=margin, closed=closed)
    rough = roughness(prices, path)
    if rough >= WORTH_MOVING * plain.roughness:
        return plain
    return Cut(cost.slid(keep, shift, closed, task), met, path, shift, rough)
