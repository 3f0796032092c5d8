"""What a cut through a sheet costs: features of every thread that counts, side by side."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property, partial

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import IDLE, Task, over_rows
from silent_loom.core.look.features import features
from silent_loom.core.look.fibres import running
from silent_loom.core.moving.resample import blur
from silent_loom.core.moving.slide import with_ends_slid
from silent_loom.core.tiling.cutting.contour import contour_prices
from silent_loom.core.tiling.cutting.cut import Prices, edge_prices
from silent_loom.core.tiling.cutting.layers import FULL, Layers, layers_of, window_at
from silent_loom.core.weave import threads


@kernel("f4[:,:,::1], f8[::1], f4[:,:,::1], i8, i8")
def _shut(planes, path, out, x0, x1):  # type: ignore[no-untyped-def]
    keep, rows, count = out.shape
    n = planes.shape[1] - keep
    for x in range(x0, x1):
        for y in range(rows):
            at = x + keep if x < n and x + 0.5 < path[y] else x
            for k in range(count):
                out[x, y, k] = planes[y, at, k]


@dataclass(frozen=True)
class Cost:
    """Features of every thread that counts, weighted, over one sheet.

    Attributes
    ----------
    planes : array, shape (H, W, K)
    scale : float
        Longer side of the sheet over `layers.FULL`.
    toned : int
        How many of the first planes have a tone; slopes have none.
    """

    planes: Floats
    scale: float
    toned: int

    @cached_property
    def layers(self) -> Layers:
        return layers_of(self.planes, self.scale, self.toned)

    @cached_property
    def along(self) -> float:
        """Whether everything runs across the sheet, see `fibres.running`."""
        return running(self.planes, 1)

    def closed_x(self, keep: int, path: NDArray[np.float64], task: Task = IDLE) -> Cost:
        """The same sheet cut shut from left to right along a path (a hard cut: only its content matters here), and turned."""
        rows, _, count = self.planes.shape
        out = np.empty((keep, rows, count), np.float32)
        over_rows(keep, partial(_shut, self.planes, path, out), task)
        return replace(self, planes=out)

    def slid(self, keep: int, shift: Floats, closed: bool, task: Task = IDLE) -> Cost:
        """The same sheet with both ends of its overlap moved along each other."""
        return replace(self, planes=with_ends_slid(self.planes, None, 1, keep, shift, closed, task))

    def turned(self) -> Cost:
        made = replace(self, planes=np.ascontiguousarray(self.planes.transpose(1, 0, 2)))
        if "layers" in self.__dict__:
            made.__dict__["layers"] = self.layers.turned()
        return made

    def prices(self, keep: int, closed: bool, task: Task = IDLE) -> Prices:
        """Prices of a cut over the overlap that keeps what both ends show whole."""
        return contour_prices(*self.sides(keep, task), self.scale, closed, task)

    def sides(self, keep: int, task: Task = IDLE) -> tuple[Layers, Layers]:
        """Both pictures of the overlap, taken apart."""
        width = self.planes.shape[1]
        n, beside = width - keep, window_at(self.scale)
        if "layers" in self.__dict__ or 2 * (n + beside) >= width:
            layers = self.layers
        else:  # both ends of the sheet alone, as far as their medians look
            ends = np.concatenate([self.planes[:, : n + beside], self.planes[:, keep - beside :]], 1)
            layers, width = layers_of(ends, self.scale, self.toned, task), ends.shape[1]
        return layers.part(slice(0, n)), layers.part(slice(width - n, None))

    def prices_of_difference(self, keep: int) -> Prices:
        """Prices of a cut over an overlap both ends of which show the same things: by how far they differ."""
        n = self.planes.shape[1] - keep
        first, second = self.planes[:, :n], self.planes[:, keep:]
        gap = first - second
        difference = np.square(gap).sum(2)  # squared, so that one bad place costs more than a long way round it
        # Parting lines that differ only in place would double an edge: the difference also counts a little way around.
        difference = difference + blur(np.ascontiguousarray(difference), 2.0, False)
        gx = np.abs(np.diff(first, axis=1, append=first[:, -1:])) + np.abs(np.diff(second, axis=1, append=second[:, -1:]))
        busy = blur(np.ascontiguousarray(gx.sum(2)), 3.0, False)
        return edge_prices(np.ascontiguousarray(difference, np.float32), np.ascontiguousarray(busy, np.float32))


def cost_of(inputs: Mapping[str, Image], weights: Mapping[str, float]) -> Cost:
    """Stack the features of every thread that counts.

    >>> from silent_loom.core.base.images import Kind
    >>> sheet = Image(np.zeros((8, 8, 3), np.float32), Kind.COLOUR)
    >>> cost_of({"base": sheet}, {"base": 1.0}).planes.shape[:2]
    (8, 8)
    """
    toned: list[Floats] = []
    sloping: list[Floats] = []
    for name, image in inputs.items():
        weight = weights.get(name, threads.spec(name).weight)
        if weight > 0:
            (sloping if image.kind is Kind.NORMAL else toned).append(features(image) * np.float32(weight))
    stacked = np.ascontiguousarray(np.concatenate(toned + sloping, 2))
    return Cost(stacked, max(stacked.shape[:2]) / FULL, sum(p.shape[2] for p in toned))
