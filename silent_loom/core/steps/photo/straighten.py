"""Straighten: four corners of something known to be a rectangle become flat."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import field_validator

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.images import Image
from silent_loom.core.base.parallel import Task
from silent_loom.core.look.perspective import Proportions, convex, homography, proportions
from silent_loom.core.moving.carry import warp_homography
from silent_loom.core.steps.photo.photo import reduced
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, setting
from silent_loom.core.weave.step import CarryStep, Geometry, Sheet, Sources, Texels

Corners = tuple[tuple[float, float], tuple[float, float], tuple[float, float], tuple[float, float]]


class StraightenSettings(Settings):
    corners: Corners | None = setting(
        None,
        "Corners of a rectangle on the photo, clockwise from its top left; as parts of the photo's width and height.",
        shape="corners",
    )
    width_mm: float | None = setting(
        None,
        "Real width of the rectangle (of the whole photo without corners).",
        title="Real width",
        unit="mm",
        low=0.01,
        high=1e6,
        soft=(10, 10000),
        log=True,
        empty="from the photo",
    )
    height_mm: float | None = setting(
        None,
        "Real height, if you know it; otherwise told from the perspective or the camera.",
        title="Real height",
        unit="mm",
        low=0.01,
        high=1e6,
        soft=(10, 10000),
        log=True,
        empty="from perspective",
    )
    others: tuple[Corners, ...] = setting(
        (), "More rectangles marked on this photo; choose one to work on.", title="Other rectangles", shape="kept"
    )
    crop: Literal["free", "square"] = setting("free", "Keep the whole rectangle, or its centre square.")
    turn_deg: float = setting(
        0.0,
        "Turns the picture, clockwise; without corners.",
        title="Turn",
        unit="°",
        low=-180,
        high=180,
        soft=(-15, 15),
        step=0.1,
    )
    bulge: float = setting(
        0.0,
        "Straight lines that the lens bows outward (barrel, above 0) or inward (pincushion, below 0) become straight.",
        title="Lens distortion",
        low=-0.4,
        high=0.4,
        step=0.005,
    )

    @field_validator("corners")
    @classmethod
    def _a_quadrilateral(cls, value: Corners | None) -> Corners | None:
        if value is not None:
            if not convex(np.array(value)):
                raise ValueError("the corners must go clockwise from the top left and not cross")
            if not all(-0.5 <= c <= 1.5 for point in value for c in point):
                raise ValueError("the corners lie far outside the photo")
        return value


class Straighten(CarryStep[StraightenSettings]):
    """Homography from four corners, true proportions, anti-aliased resampling."""

    name = "straighten"
    can = frozenset({"straighten"})
    title = "Straighten"
    words_for_it = ("perspective", "corners", "rectangle", "crop", "turn", "rotate", "lens", "level")
    sentence = "Makes a tilted rectangle flat, in its true proportions, and states its real size."
    version = 2
    decides = True
    decision_scale = 0.0
    Settings = StraightenSettings

    def words(self, s: StraightenSettings) -> str:
        if s.corners is None and s.turn_deg:
            return f"turned {s.turn_deg:.4g}°"
        return "4 corners" if s.corners else "whole photo" if s.crop == "free" else "centre square"

    def works_on(self, s: StraightenSettings) -> Literal["both", "sheet", "model"]:
        return "sheet"

    def geometry(self, s: StraightenSettings, before: Geometry, sources: Sources) -> Geometry:
        width, height = self._full(s, before)
        if s.crop == "square":
            width = height = min(width, height)
        return Geometry((width, height), False)

    def told(self, s: StraightenSettings, before: Geometry) -> Proportions:
        """Width over height of the rectangle, and how that is known."""
        if s.width_mm and s.height_mm:
            return Proportions(s.width_mm / s.height_mm, 0.0, "size")
        if s.corners is None:
            width, height = _turned(s, before)[0]
            return Proportions(width / height, 0.0, "size")
        try:
            parts = _unbent(np.array(s.corners), s.bulge, before)
            a, b, c, d = ((float(x), float(y)) for x, y in parts)
            return _told((a, b, c, d), before)
        except ValueError as error:
            raise WeaveError(str(error), self.title, "Drag the corners apart.") from None

    def _full(self, s: StraightenSettings, before: Geometry) -> tuple[float, float]:
        aspect = self.told(s, before).aspect
        if s.width_mm:
            return s.width_mm, s.width_mm / aspect
        if s.height_mm:
            return s.height_mm * aspect, s.height_mm
        if s.corners is None:
            return _turned(s, before)[0]
        c = np.array(s.corners) * before.size_mm
        width = float((np.linalg.norm(c[1] - c[0]) + np.linalg.norm(c[2] - c[3])) / 2)
        return width, width / aspect

    def to_photo(self, s: StraightenSettings, before: Geometry, after: Geometry) -> NDArray[np.float64]:
        """From millimetres on the straightened sheet to parts of the photo's width and height."""
        width, height = self._full(s, before)
        target = np.array(_turned(s, before)[1] if s.corners is None else s.corners, np.float64)
        target = _unbent(target, s.bulge, before)
        x0, y0 = (width - after.size_mm[0]) / 2, (height - after.size_mm[1]) / 2
        source = np.array([[0, 0], [width, 0], [width, height], [0, height]]) - (x0, y0)
        return homography(source, target)

    def demand(self, s: StraightenSettings, before: Geometry, after: Geometry, texels: Texels) -> Texels:
        native = before.native or before.texels(min(after.size_mm[0] / texels[0], after.size_mm[1] / texels[1]))
        # Density goes with the inverse of the size, so one figure for the geometry serves every size
        unit = _least_density(self, s, before, after, native)
        density = unit / np.sqrt(texels[0] * texels[1])
        return reduced(native, max(0, int(np.floor(np.log2(max(density, 1e-6)) + 1e-6))))

    def decide(self, s: StraightenSettings, inputs: Mapping[str, Image], geometry: Geometry, task: Task) -> Decision:
        told = self.told(s, geometry)
        warnings: tuple[str, ...] = ()
        if told.by == "guess":
            reason = told.reason or "the perspective is too slight to tell the proportions well"
            which = "width, too" if s.height_mm else "height, too" if s.width_mm else "width and height"
            warnings = (f"Type the real {which}: {reason} (now {told.aspect:.3f} ± {100 * told.error:.0f} %).",)
        figures = {"aspect": told.aspect, "aspect_error_percent": 100 * told.error, "told_by": told.by}
        return Decision({}, figures, warnings)

    def carry(self, s: StraightenSettings, image: Image, decision: Decision, sheet: Sheet, task: Task) -> Image:
        m = self.to_photo(s, sheet.before, sheet.after)
        to_parts = m @ np.diag([*sheet.pitch, 1.0])
        to_texels = np.diag([image.width, image.height, 1.0]) @ to_parts
        return warp_homography(image, to_texels, sheet.width, sheet.height, sheet.size_mm, task, bulge=s.bulge)


def _turned(s: StraightenSettings, before: Geometry) -> tuple[tuple[float, float], Corners]:
    """Size in mm of the photo turned, as large as fits into it, and its corners as parts of the photo."""
    w, h = before.size_mm
    whole_turn = ((0.0, 0.0), (1.0, 0.0), (1.0, 1.0), (0.0, 1.0))
    if s.turn_deg == 0:
        return (w, h), whole_turn
    quarters = round(s.turn_deg / 90)
    rest = np.radians(s.turn_deg - 90 * quarters)
    long, short = (h, w) if quarters % 2 else (w, h)
    shrink = 1 / (np.cos(rest) + np.sin(abs(rest)) * max(w / h, h / w)) if abs(rest) > 1e-9 else 1.0
    size = float(long * shrink), float(short * shrink)
    angle = np.radians(s.turn_deg)
    # Turning the picture clockwise is turning the frame the other way
    c, i = np.cos(-angle), np.sin(-angle)
    corners = []
    for x, y in ((-1, -1), (1, -1), (1, 1), (-1, 1)):
        px, py = x * size[0] / 2, y * size[1] / 2
        corners.append((float((c * px - i * py) / w + 0.5), float((i * px + c * py) / h + 0.5)))
    return size, (corners[0], corners[1], corners[2], corners[3])


def _unbent(corners: NDArray[np.float64], bulge: float, before: Geometry) -> NDArray[np.float64]:
    """Places on the photo, as parts of it, where they would lie without the bulge of the lens."""
    if bulge == 0:
        return corners
    w, h = before.native or before.size_mm
    reach = np.hypot(w, h) / 2
    seen = (corners - 0.5) * (w, h) / reach
    straight = seen.copy()
    for _ in range(30):
        straight = seen / (1 - bulge * np.square(straight).sum(1, keepdims=True))
    out: NDArray[np.float64] = straight * reach / (w, h) + 0.5
    return out


def bent(parts: NDArray[np.float64], bulge: float, before: Geometry) -> NDArray[np.float64]:
    """Places as parts of the photo, where they are seen through a lens that bulges; inverse of what straightening does.

    >>> bent(np.array([[0.5, 0.5], [0.1, 0.1]]), 0.0, Geometry((400.0, 300.0))).round(9).tolist()
    [[0.5, 0.5], [0.1, 0.1]]
    """
    w, h = before.native or before.size_mm
    reach = np.hypot(w, h) / 2
    straight = (parts - 0.5) * (w, h) / reach
    seen = straight * (1 - bulge * np.square(straight).sum(1, keepdims=True))
    out: NDArray[np.float64] = seen * reach / (w, h) + 0.5
    return out


@lru_cache(512)
def _told(corners: Corners, before: Geometry) -> Proportions:
    w, h = before.native or before.at_longer_side(4096)
    return proportions(pixel_corners(corners, w, h), w, h, before.focal_px, before.focal_error)


@lru_cache(512)
def _least_density(step: Straighten, s: StraightenSettings, before: Geometry, after: Geometry, native: tuple[int, int]) -> float:
    """Fewest photo pixels per result texel anywhere, for a result of one texel."""
    m = step.to_photo(s, before, after)
    side = after.at_longer_side(1024)
    places = [(x, y) for x in (0.0, 0.5, 1.0) for y in (0.0, 0.5, 1.0)]
    return min(_density(m, x, y, after.size_mm, side, native) for x, y in places) * float(np.sqrt(side[0] * side[1]))


def _density(
    m: NDArray[np.float64],
    x: float,
    y: float,
    size: tuple[float, float],
    texels: tuple[int, int],
    native: tuple[int, int],
) -> float:
    """Photo pixels per result texel at a place, in the direction where there are fewest."""
    px, py = x * size[0], y * size[1]
    d = m[2, 0] * px + m[2, 1] * py + m[2, 2]
    u, v = (m[0] @ (px, py, 1)) / d, (m[1] @ (px, py, 1)) / d
    j = np.array([m[0, :2] - u * m[2, :2], m[1, :2] - v * m[2, :2]]) / d
    j = np.diag(native) @ j @ np.diag([size[0] / texels[0], size[1] / texels[1]])
    return float(np.linalg.svd(j, compute_uv=False)[-1])


def pixel_corners(corners: Corners, width: int, height: int) -> NDArray[np.float64]:
    """Parts of the photo to texel centres: part 0 is the outer edge of the first texel, at −0.5.

    >>> pixel_corners([(0, 0), (1, 0), (1, 1), (0, 1)], 4, 2).tolist()
    [[-0.5, -0.5], [3.5, -0.5], [3.5, 1.5], [-0.5, 1.5]]
    """
    return np.array(corners, np.float64) * (width, height) - 0.5


def from_pixels(corners: NDArray[np.float64], width: int, height: int) -> Corners:
    """Texel centres to parts of the photo; inverse of `pixel_corners`.

    >>> from_pixels(np.array([[0.0, 0], [100, 0], [100, 50], [0, 50]]), 100, 50)
    ((0.005, 0.01), (1.005, 0.01), (1.005, 1.01), (0.005, 1.01))
    """
    parts = (np.asarray(corners, np.float64).reshape(4, 2) + 0.5) / (width, height)
    a, b, c, d = ((float(x), float(y)) for x, y in parts)
    return a, b, c, d
