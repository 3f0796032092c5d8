"""Seamless: the step that makes edges meet, in five ways."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any, Literal, cast

import numpy as np
from numpy.typing import NDArray
from pydantic import field_validator

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import Task
from silent_loom.core.look.motif.grid import room_of
from silent_loom.core.look.motif.level import levelled
from silent_loom.core.look.perspective import convex, homography
from silent_loom.core.moving.bend import bent, drift_between
from silent_loom.core.moving.carry import warp_homography
from silent_loom.core.moving.mirror import mirrored
from silent_loom.core.moving.slide import with_ends_slid
from silent_loom.core.moving.slopes import normals_of, slopes_of
from silent_loom.core.tiling.cutting.by_lines import MARGIN, cut_by_lines
from silent_loom.core.tiling.cutting.cost import Cost, cost_of
from silent_loom.core.tiling.cutting.cut import lowest_cut
from silent_loom.core.tiling.joining.fade import fade_strip
from silent_loom.core.tiling.joining.gradient import close
from silent_loom.core.tiling.joining.join import closed_along
from silent_loom.core.tiling.joining.parted import Parted, parted_at
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, setting
from silent_loom.core.weave.step import CarryStep, Geometry, Sheet, Sources, Texels, whole

Corners = tuple[tuple[float, float], tuple[float, float], tuple[float, float], tuple[float, float]]
_NO_SOURCES = cast(Sources, None)  # its geometry opens no file

ROOMY = 40
"""Texels of `layers.FULL` that are left beside stripes, from which on they are cut by lines: in less the look to either side of
a cut sees little but the borders."""
FIBRES = 0.2
"""Transition, as a part of the overlap, where everything runs along it: fibres change as slowly themselves."""


Method = Literal["cut", "fade", "gradient", "motif", "mirror"]
CUTTING = ["cut", "gradient", "motif"]


NARROW = 100.0
"""A sheet this many times as long as it is wide has no room to be laid over itself."""


class SeamlessSettings(Settings):
    method: Method = setting(
        "cut",
        "Cut: for stones, planks, anything with edges. Fade: fine, even grain. Gradient: smooth surfaces. Motif: a regular "
        "pattern, kept in whole repeats. Mirror: quick, but everything is seen twice.",
    )
    grid: Corners | None = setting(
        None,
        "Corners of an area of whole repeats, clockwise from the top left; as parts of the sheet.",
        title="Grid of the motif",
        shape="grid",
        when={"method": ["motif"]},
    )
    grid_x: int = setting(
        1, "Repeats inside the grid across.", title="Repeats across", low=1, high=512, soft=(1, 24), when={"method": ["motif"]}
    )
    grid_y: int = setting(
        1, "Repeats inside the grid down.", title="Repeats down", low=1, high=512, soft=(1, 24), when={"method": ["motif"]}
    )
    overlap_x: float = setting(
        0.2,
        "How much of the width is laid over itself and consumed.",
        title="Overlap across",
        low=0.02,
        high=0.5,
        step=0.01,
        when={"method": ["cut", "fade", "gradient", "motif"]},
    )
    overlap_y: float = setting(
        0.2,
        "How much of the height is laid over itself and consumed.",
        title="Overlap down",
        low=0.02,
        high=0.5,
        step=0.01,
        when={"method": ["cut", "fade", "gradient", "motif"]},
    )
    bend: bool = setting(
        True,
        "Both ends of the overlap are bent towards each other: so that joints and cracks meet at a cut by lines, and where "
        "a motif drifts, its elements.",
        when={"method": ["cut", "motif"]},
    )
    fade_width: float = setting(
        0.8,
        "Part of the overlap over which the two sides fade.",
        low=0.05,
        high=1.0,
        step=0.05,
        when={"method": ["fade"]},
    )
    softness: float = setting(
        0.01,
        "Transition of the finest detail at the cut.",
        unit="of the overlap",
        low=0.001,
        high=0.1,
        step=0.001,
        log=True,
        when={"method": ["cut", "gradient", "motif"]},
    )
    cut_by: Literal["lines", "difference"] = setting(
        "lines",
        "Lines: joints and cracks go on or fork, stones meet at joints. Difference: where both sides look most alike.",
        title="Cut by",
        when={"method": ["cut", "gradient"]},
    )
    base_weight: float = setting(
        1.0, "What base colour counts for in finding the cut.", low=0, high=4, step=0.05, when={"method": CUTTING}
    )
    height_weight: float = setting(
        1.0, "What height counts for, when it exists above.", low=0, high=4, step=0.05, when={"method": CUTTING}
    )
    normal_weight: float = setting(
        0.5, "What normals count for, when they exist above.", low=0, high=4, step=0.05, when={"method": CUTTING}
    )

    @field_validator("grid")
    @classmethod
    def _an_area(cls, value: Corners | None) -> Corners | None:
        if value is not None and not (convex(np.array(value)) and all(-0.1 <= c <= 1.1 for p in value for c in p)):
            raise ValueError("the corners must go clockwise from the top left, not cross, and lie on the sheet")
        return value

    def weights(self) -> dict[str, float]:
        return {"base": self.base_weight, "height": self.height_weight, "normal": self.normal_weight}


class Seamless(CarryStep[SeamlessSettings]):
    """Lays the far edges over the near ones and goes over from one to the other, or mirrors.

    Notes
    -----
    First left to right over the whole height, then top to bottom along a closed path, so all four edges and the corner
    meet. The paths are decided once, at the decision size, on all threads that count, and kept as fractions of the
    overlap, so that every thread and every size goes over at the same place. See `contour.contour_prices`,
    `cut.lowest_cut`, `strip.join_strip`, `fade.fade_strip`, `gradient.close` and `lattice.find_lattice`.
    """

    name = "seamless"
    can = frozenset({"close"})
    panel = "join"
    title = "Seamless"
    words_for_it = ("tile", "repeat", "seam", "edges", "join", "tileable")
    sentence = "Makes the edges meet."
    version = 11
    decides = True
    Settings = SeamlessSettings

    def words(self, s: SeamlessSettings) -> str:
        if s.method == "mirror":
            return "mirror"
        if s.method == "motif":
            return f"motif, {s.grid_x} × {s.grid_y}" if s.grid else "motif, no grid yet"
        return f"{s.method}, overlap {round(100 * s.overlap_x)} %"

    def works_on(self, s: SeamlessSettings) -> Literal["both", "sheet", "model"]:
        return "sheet"

    def geometry(self, s: SeamlessSettings, before: Geometry, sources: Sources) -> Geometry:
        w, h = before.size_mm
        if max(w, h) > NARROW * min(w, h):
            raise WeaveError(
                f"the sheet is {max(w, h) / min(w, h):.0f} times as long as it is wide: too narrow to close",
                self.title,
                "Crop it in Straighten, or switch this step off.",
            )
        if s.method == "mirror":
            return Geometry((2 * w, 2 * h), True)
        if s.method == "motif":
            if s.grid is None:
                raise WeaveError(
                    "the grid of the motif is not known yet", self.title, "Let it be found, or choose another method."
                )
            c = np.array(s.grid) * (w, h)
            across = float(np.linalg.norm(c[1] - c[0]) + np.linalg.norm(c[2] - c[3])) / 2
            down = float(np.linalg.norm(c[3] - c[0]) + np.linalg.norm(c[2] - c[1])) / 2
            return Geometry((across, down), True)
        return Geometry((w * (1 - s.overlap_x), h * (1 - s.overlap_y)), True)

    def demand(self, s: SeamlessSettings, before: Geometry, after: Geometry, texels: Texels) -> Texels:
        if s.method == "mirror":
            return max(1.0, texels[0] / 2), max(1.0, texels[1] / 2)
        if s.method == "motif":
            return texels[0] * before.size_mm[0] / after.size_mm[0], texels[1] * before.size_mm[1] / after.size_mm[1]
        return self._going_in(s, texels)

    def _going_in(self, s: SeamlessSettings, texels: Texels) -> Texels:
        """Texels of the sheet with its overlaps, at the pitch of the result."""
        if s.method == "motif":
            over_x, over_y = self._over(s)
            return max(texels[0] + 2, texels[0] * (1 + over_x)), max(texels[1] + 2, texels[1] * (1 + over_y))
        # Exactly the pitch of the result: then the overlap is a whole number of texels away at every size
        return max(texels[0] + 2, texels[0] / (1 - s.overlap_x)), max(texels[1] + 2, texels[1] / (1 - s.overlap_y))

    def _over(self, s: SeamlessSettings) -> tuple[float, float]:
        room = room_of(np.array(s.grid))
        return min(s.overlap_x, room[0]), min(s.overlap_y, room[1])

    def _laid(self, s: SeamlessSettings, image: Image, width: int, height: int, task: Task) -> Image:
        """The sheet with its overlaps: for a motif, its whole repeats laid straight."""
        if s.method != "motif" or s.grid is None:
            # A texel more than half may have come where the overlap is half of the sheet: no place shows three pictures
            over_x, over_y = image.width - 2 * width, image.height - 2 * height
            if s.method == "mirror" or not (0 < max(over_x, over_y) <= 2):
                return image
            pixels = np.ascontiguousarray(image.pixels[: 2 * height, : 2 * width])
            return replace(image, pixels=pixels)
        in_w, in_h = whole(self._going_in(s, (width, height)))
        unit = np.array([[0, 0], [width, 0], [width, height], [0, height]], np.float64)
        to_source = homography(unit, np.array(s.grid, np.float64) * (image.width, image.height))
        size = Seamless.geometry(self, s, Geometry(image.size_mm), _NO_SOURCES).size_mm
        return warp_homography(image, to_source, in_w, in_h, (size[0] * in_w / width, size[1] * in_h / height), task)

    def decide(self, s: SeamlessSettings, inputs: Mapping[str, Image], geometry: Geometry, task: Task) -> Decision:
        any_image = next(iter(inputs.values()))
        if s.method == "mirror":
            warning = "Every part is seen twice, mirrored: eyes find the axes at once. Good for a quick look only."
            return Decision({}, {"mirrored_share": 1.0}, (warning,))
        pitch = geometry.size_mm[0] / any_image.width, geometry.size_mm[1] / any_image.height
        after = self.geometry(s, geometry, _NO_SOURCES)
        keep = round(after.size_mm[0] / pitch[0]), round(after.size_mm[1] / pitch[1])
        in_w, in_h = whole(self._going_in(s, keep))
        laid = {t: self._laid(s, image, *keep, task) for t, image in inputs.items()}
        # The sheet itself may end up to a texel before the whole number of texels asked for
        first = next(iter(laid.values()))
        in_w, in_h = min(in_w, first.width), min(in_h, first.height)
        keep_x, keep_y = min(keep[0], in_w - 2), min(keep[1], in_h - 2)
        n, m = in_w - keep_x, in_h - keep_y
        figures: dict[str, Any] = {"overlap_x_texels": n, "overlap_y_texels": m}
        warnings: tuple[str, ...] = ()
        if s.method == "motif" and min(self._over(s)) < 0.02:
            warnings = (
                "There is hardly any room beyond the grid: what differs between repeats meets hard. Take one repeat less.",
            )
        if s.method == "fade":
            half = np.full(2, 0.5, np.float32)
            return Decision({"path_x": half, "path_y": half}, figures, warnings)
        cost = cost_of(laid, s.weights())
        cost = replace(cost, planes=np.ascontiguousarray(cost.planes[:in_h, :in_w]))
        arrays: dict[str, NDArray[Any]] = {}
        bending = s.method == "motif" and s.bend
        if bending:
            cost = _bent(s, cost, (keep_x, keep_y), 1, arrays, task)
        cost, path_x = _cut(s, cost, keep_x, False, arrays, "x", task)
        task.checkpoint()
        across = cost.closed_x(keep_x, path_x.astype(float), task)
        if bending:
            across = _bent(s, across, (keep_x, keep_y), 0, arrays, task)
        _, path_y = _cut(s, across, keep_y, True, arrays, "y", task)
        arrays |= {"path_x": (path_x / n).astype(np.float32), "path_y": (path_y / m).astype(np.float32)}
        return Decision(arrays, figures, warnings)

    def paths(
        self, s: SeamlessSettings, decision: Decision, width: int, height: int
    ) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """The two cuts at a size, in texels of the overlap: across for every row going in, down for every column coming out."""
        in_w, in_h = whole(self._going_in(s, (width, height)))
        return (
            _stretch(decision.arrays["path_x"], in_h, closed=False) * (in_w - width),
            _stretch(decision.arrays["path_y"], width, closed=True) * (in_h - height),
        )

    @staticmethod
    def _parted(decision: Decision, axis: str, rows: int, closed: bool) -> Parted | None:
        if f"objects_{axis}" not in decision.arrays:
            return None
        return Parted(*(_stretch(decision.arrays[f"{k}_{axis}"], rows, closed).astype(np.float32) for k in Parted._fields))

    def open_sheet(self, s: SeamlessSettings, image: Image, width: int, height: int, task: Task) -> Image | None:
        """What was closed, overlaps included, at the pitch of a result of this size: what its joins are held against."""
        return None if s.method == "mirror" else self._laid(s, image, width, height, task)

    def carry(self, s: SeamlessSettings, image: Image, decision: Decision, sheet: Sheet, task: Task) -> Image:
        w, h = sheet.width, sheet.height
        if s.method == "mirror":
            return Image(mirrored(image, w, h), image.kind, sheet.size_mm, True)
        path_x, path_y = self.paths(s, decision, w, h)
        laid = self._laid(s, image, w, h, task)
        n, m = laid.width - w, laid.height - h
        if len(path_x) != laid.height:  # a sheet may have come a texel longer or shorter
            path_x = np.pad(path_x, (0, max(0, laid.height - len(path_x))), "edge")[: laid.height]
        pixels = laid.pixels
        if s.method == "fade" and image.kind is not Kind.ID:
            pixels = _faded(pixels, image.kind, w, h, s.fade_width, task)
        elif s.method == "gradient":
            wide = (max(2.0, 4 * s.softness * n), max(2.0, 4 * s.softness * m))
            pixels = close(pixels, image.kind, (w, h), path_x, path_y, wide, task)
        else:
            pixels = self._prepared(s, pixels, image.kind, decision, 1, w, task)
            half = self._closed(s, pixels, image.kind, decision, 1, w, path_x, task)
            half = self._prepared(s, half, image.kind, decision, 0, h, task)
            pixels = self._closed(s, half, image.kind, decision, 0, h, path_y, task, spend=True)
        return Image(pixels, image.kind, sheet.size_mm, True)

    def _prepared(
        self, s: SeamlessSettings, pixels: Floats, kind: Kind, decision: Decision, axis: int, keep: int, task: Task
    ) -> Floats:
        """Both ends of an overlap of whole repeats bent towards each other, and their light brought together."""
        if (field := decision.arrays.get("bend_x" if axis else "bend_y")) is not None:
            pixels = bent(pixels, kind, axis, keep, field, axis == 0, task)
        if s.method == "motif" and kind is Kind.COLOUR:
            pixels = levelled(pixels, axis, keep, axis == 0, task)
        return pixels

    def _closed(
        self,
        s: SeamlessSettings,
        pixels: Floats,
        kind: Kind,
        decision: Decision,
        axis: int,
        keep: int,
        path: NDArray[np.float64],
        task: Task,
        spend: bool = False,
    ) -> Floats:
        size, name = pixels.shape[axis] - keep, "x" if axis else "y"
        # Both ends of an overlap of whole repeats show the same elements: a wider transition doubles nothing
        least = 1.2 if s.method == "motif" and not (_striped(s) and (s.grid_x if axis else s.grid_y) == 1) else 0.45
        least = max(least, FIBRES * size * float(decision.arrays.get(f"along_{name}", 0.0)))
        parted, shift = self._parted(decision, name, len(path), axis == 0), decision.arrays.get(f"shift_{name}")
        soft = max(least, s.softness * size)
        return closed_along(pixels, kind, axis, keep, path, soft, axis == 0, task, parted=parted, shift=shift, spend=spend)

    def joined_pictures(
        self, s: SeamlessSettings, image: Image, decision: Decision, width: int, height: int, task: Task
    ) -> tuple[Image, Image] | None:
        """What was joined, across and then down: overlaps included, at the pitch of a result of this size, both ends moved as
        they were. None where nothing was laid over anything."""
        laid = self.open_sheet(s, image, width, height, task)
        if laid is None or s.method not in ("cut", "motif"):
            return None if laid is None else (laid, laid)
        path, _ = self.paths(s, decision, width, height)
        path = np.pad(path, (0, max(0, laid.height - len(path))), "edge")[: laid.height]
        across = self._prepared(s, laid.pixels, image.kind, decision, 1, width, task)
        half = self._closed(s, across, image.kind, decision, 1, width, path, task)
        down = self._prepared(s, half, image.kind, decision, 0, height, task)
        seen = []
        for pixels, axis, keep in ((across, 1, width), (down, 0, height)):
            if (shift := decision.arrays.get("shift_x" if axis else "shift_y")) is not None:
                pixels = with_ends_slid(pixels, image.kind, axis, keep, shift, axis == 0, task)
            seen.append(replace(laid, pixels=np.ascontiguousarray(pixels)))
        return seen[0], seen[1]


def _cut(
    s: SeamlessSettings, cost: Cost, keep: int, closed: bool, arrays: dict[str, NDArray[Any]], axis: str, task: Task
) -> tuple[Cost, NDArray[np.int32]]:
    """The cut over an overlap, and the sheet as it is cut; how that came about goes into ``arrays`` where it matters."""
    if (s.method == "cut" or _striped(s)) and cost.along > 0:
        arrays[f"along_{axis}"] = np.array(cost.along, np.float32)
    n = cost.planes.shape[1] - keep
    # Whole repeats lie on each other as they are; what lies within stripes does not
    by_lines = s.cut_by == "lines" if s.method != "motif" else _striped(s) and n >= ROOMY * cost.scale
    if not by_lines:
        margin = int(MARGIN * n)
        return cost, lowest_cut(cost.prices_of_difference(keep), margin=margin, closed=closed)
    cut = cut_by_lines(cost, keep, s.bend and s.method == "cut", closed, task)
    if s.method != "gradient":
        if cut.shift is not None:
            arrays[f"shift_{axis}"] = cut.shift
        parted = parted_at(*cut.sides, cut.path, cut.cost.scale, cut.cost.toned, closed, task)
        arrays |= {f"{name}_{axis}": by_row for name, by_row in parted._asdict().items()}
    return cut.cost, cut.path


def _striped(s: SeamlessSettings) -> bool:
    """Whether a motif repeats one way only: courses of bricks, boards. What lies within its stripes is found nowhere else."""
    return s.method == "motif" and (s.grid_x == 1) != (s.grid_y == 1)


def _repeat(s: SeamlessSettings, width: int, height: int) -> tuple[float, float]:
    """The shorter and the longer repeat of a motif in texels; where it repeats one way only, that way."""
    repeats = [size / count for size, count in ((width, s.grid_x), (height, s.grid_y)) if count > 1]
    return (min(repeats), max(repeats)) if repeats else (float(min(width, height)),) * 2


def _bent(s: SeamlessSettings, cost: Cost, size: tuple[int, int], axis: int, arrays: dict[str, NDArray[Any]], task: Task) -> Cost:
    """The same sheet with the drift between both ends of its overlap taken out, which goes into ``arrays``."""
    keep, closed = size[1 - axis], axis == 0
    n = cost.planes.shape[1] - keep
    short, long = _repeat(s, *size)
    only = None
    if _striped(s):
        only = 0 if (s.grid_x if axis else s.grid_y) > 1 else 1
    drift = drift_between(cost.planes[:, :n], cost.planes[:, keep:], (short, min(long, 2.0 * n)), closed, task, only)
    if drift is None:
        return cost
    arrays["bend_x" if axis else "bend_y"] = drift
    return replace(cost, planes=bent(cost.planes, None, 1, keep, drift, closed, task))


def _faded(pixels: Floats, kind: Kind, w: int, h: int, width: float, task: Task) -> Floats:
    values = slopes_of(pixels, task) if kind is Kind.NORMAL else pixels
    n, m = pixels.shape[1] - w, pixels.shape[0] - h
    half = values[:, :w].copy()
    fade_strip(values[:, :n], values[:, w:], kind, width, False, half[:, :n], task)
    out = half[:h].copy()
    fade_strip(half[:m], half[h:], kind, width, True, out[:m], task)
    return normals_of(out, task) if kind is Kind.NORMAL else out


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

    >>> joins(SeamlessSettings(method="mirror"), Decision({}), 4, 2)
    (array([2, 2]), array([1, 1, 1, 1]))
    """
    if s.method == "mirror":
        return np.full(height, width // 2), np.full(width, height // 2)
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
