"""Seamless: the step that makes edges meet, by the lowest-error cut."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.images import Floats, Image
from silent_loom.core.parallel import Task
from silent_loom.core.resample import blur
from silent_loom.core.tiling.cut import lowest_cut
from silent_loom.core.tiling.features import features
from silent_loom.core.tiling.join import closed_along
from silent_loom.core.weave import threads
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, setting
from silent_loom.core.weave.step import CarryStep, Geometry, Sheet, Sources, Texels, whole

MARGIN = 0.12
"""Part of the overlap, at either border, that the cut keeps away from."""


class SeamlessSettings(Settings):
    overlap_x: float = setting(
        0.2,
        "How much of the width is laid over itself and consumed.",
        title="Overlap across",
        low=0.02,
        high=0.5,
        step=0.01,
    )
    overlap_y: float = setting(
        0.2,
        "How much of the height is laid over itself and consumed.",
        title="Overlap down",
        low=0.02,
        high=0.5,
        step=0.01,
    )
    softness: float = setting(
        0.01,
        "Transition of the finest detail at the cut.",
        unit="of the overlap",
        low=0.001,
        high=0.1,
        step=0.001,
        log=True,
    )
    base_weight: float = setting(1.0, "What base colour counts for in finding the cut.", low=0, high=4, step=0.05)
    height_weight: float = setting(1.0, "What height counts for, when it exists above.", low=0, high=4, step=0.05)
    normal_weight: float = setting(0.5, "What normals count for, when they exist above.", low=0, high=4, step=0.05)

    def weights(self) -> dict[str, float]:
        return {"base": self.base_weight, "height": self.height_weight, "normal": self.normal_weight}


@dataclass(frozen=True)
class Cost:
    """Features of every thread that counts, weighted, over one sheet."""

    planes: Floats

    def closed_x(self, keep: int, path: NDArray[np.float64]) -> Cost:
        """The same sheet cut shut from left to right along a path (a hard cut: only its content matters here)."""
        n = self.planes.shape[1] - keep
        left = np.arange(n)[None, :] + 0.5 < path[:, None]
        strip = np.where(left[..., None], self.planes[:, keep:], self.planes[:, :n])
        return Cost(np.concatenate([strip, self.planes[:, n:keep]], 1))

    def turned(self) -> Cost:
        return Cost(np.ascontiguousarray(self.planes.transpose(1, 0, 2)))

    def strips(self, keep: int, scale: float) -> tuple[Floats, Floats]:
        """Difference and busyness over the overlap; ``scale`` is a decision texel in texels."""
        n = self.planes.shape[1] - keep
        first, second = self.planes[:, :n], self.planes[:, keep:]
        gap = first - second
        difference = np.square(gap).sum(2)  # squared, so that one bad place costs more than a long way round it
        # Parting lines that differ only in place would double an edge: the difference also counts a little way around.
        difference = difference + blur(np.ascontiguousarray(difference), 2.0 * scale, False)
        gx = np.abs(np.diff(first, axis=1, append=first[:, -1:])) + np.abs(np.diff(second, axis=1, append=second[:, -1:]))
        busy = blur(np.ascontiguousarray(gx.sum(2)), 3.0 * scale, False)
        return np.ascontiguousarray(difference, np.float32), np.ascontiguousarray(busy, np.float32)


def cost_of(inputs: Mapping[str, Image], weights: Mapping[str, float]) -> Cost:
    """Stack the features of every thread that counts."""
    planes = []
    for name, image in inputs.items():
        weight = weights.get(name, threads.spec(name).weight)
        if weight > 0:
            planes.append(features(image) * np.float32(weight))
    return Cost(np.ascontiguousarray(np.concatenate(planes, 2)))


class Seamless(CarryStep[SeamlessSettings]):
    """Lays the far edges over the near ones and goes over along the lowest-error cut.

    Notes
    -----
    First left to right over the whole height, then top to bottom along a closed path, so all four edges and the corner
    meet. The path is decided once, at the decision size, on all threads that count, and kept as fractions of the
    overlap, so that every thread and every size goes over at the same place. See `cut.lowest_cut` and `join.join_strip`.
    """

    name = "seamless"
    title = "Seamless"
    sentence = "Makes the edges meet: a cut through the overlap where the two sides differ least."
    decides = True
    Settings = SeamlessSettings

    def words(self, s: SeamlessSettings) -> str:
        return f"cut, overlap {round(100 * s.overlap_x)} %"

    def geometry(self, s: SeamlessSettings, before: Geometry, sources: Sources) -> Geometry:
        w, h = before.size_mm
        return Geometry((w * (1 - s.overlap_x), h * (1 - s.overlap_y)), True)

    def demand(self, s: SeamlessSettings, before: Geometry, after: Geometry, texels: Texels) -> Texels:
        # Exactly the pitch of the result: then the overlap is a whole number of texels away at every size
        return max(texels[0] + 2, texels[0] / (1 - s.overlap_x)), max(texels[1] + 2, texels[1] / (1 - s.overlap_y))

    def decide(self, s: SeamlessSettings, inputs: Mapping[str, Image], geometry: Geometry, task: Task) -> Decision:
        any_image = next(iter(inputs.values()))
        keep_x = any_image.width - max(2, round(any_image.width * s.overlap_x))
        keep_y = any_image.height - max(2, round(any_image.height * s.overlap_y))
        cost = cost_of(inputs, s.weights())
        n = any_image.width - keep_x
        path_x = lowest_cut(*cost.strips(keep_x, 1.0), margin=int(MARGIN * n), closed=False)
        task.checkpoint()
        across = cost.closed_x(keep_x, path_x.astype(float)).turned()
        m = any_image.height - keep_y
        path_y = lowest_cut(*across.strips(keep_y, 1.0), margin=int(MARGIN * m), closed=True)
        return Decision(
            {
                "path_x": (path_x / (any_image.width * s.overlap_x)).astype(np.float32),
                "path_y": (path_y / (any_image.height * s.overlap_y)).astype(np.float32),
            },
            {"cut_x_texels": n, "cut_y_texels": m},
        )

    def paths(
        self, s: SeamlessSettings, decision: Decision, width: int, height: int
    ) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """The two cuts at a size, in texels of the overlap: across for every row going in, down for every column coming out."""
        in_w, in_h = self.demand(s, Geometry(), Geometry(), (width, height))
        return (
            _stretch(decision.arrays["path_x"], whole((in_w, in_h))[1], closed=False) * (in_w - width),
            _stretch(decision.arrays["path_y"], width, closed=True) * (in_h - height),
        )

    def carry(self, s: SeamlessSettings, image: Image, decision: Decision, sheet: Sheet, task: Task) -> Image:
        path_x, path_y = self.paths(s, decision, sheet.width, sheet.height)
        n, m = image.width - sheet.width, image.height - sheet.height
        half = closed_along(image.pixels, image.kind, 1, sheet.width, path_x, max(0.45, s.softness * n), False, task)
        pixels = closed_along(half, image.kind, 0, sheet.height, path_y, max(0.45, s.softness * m), True, task)
        return Image(pixels, image.kind, sheet.size_mm, True)


def _stretch(path: Floats, rows: int, closed: bool) -> NDArray[np.float64]:
    """A path at another number of rows, as fractions; a long sideways run stays as steep as its rows allow."""
    n = len(path)
    at = (np.arange(rows) + 0.5) * n / rows - 0.5
    if closed:
        return np.interp(at, np.arange(-1, n + 1), np.r_[path[-1], path, path[0]])
    return np.interp(at, np.arange(n), path)


def joins(s: SeamlessSettings, decision: Decision, width: int, height: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Where the finished sheet was joined: column of the cut in every row, row of the cut in every column.

    The cut across was made before the sheet was closed from top to bottom, so its rows are those of the result shifted
    by nothing, with the part under the second overlap taken from whichever side of the second cut shows.
    """
    path_x, path_y = SEAMLESS.paths(s, decision, width, height)
    m = len(path_x) - height
    rows = np.arange(height)
    # In a row inside the second overlap, the first cut shows from below (late) left of it and from above after it
    columns = np.rint(path_x[:height]).astype(int)
    late = rows < m
    at = np.clip(columns, 0, width - 1)
    use_late = late & (rows + 0.5 < path_y[at])
    columns = np.where(use_late, np.rint(path_x[np.minimum(rows + height, len(path_x) - 1)]).astype(int), columns)
    return columns.astype(np.int64), np.rint(path_y).astype(np.int64)


SEAMLESS = Seamless()
