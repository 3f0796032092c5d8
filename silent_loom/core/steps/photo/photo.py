"""The step that brings a photo in."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

import numpy as np

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import Task
from silent_loom.core.moving.resample import enlarge, reduce_area
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, setting
from silent_loom.core.weave.step import Geometry, MapStep, Sheet, Sources

ReadAs = Literal["tagged", "srgb", "linear"]
READ_AS = {"tagged": "as the file says", "srgb": "sRGB", "linear": "linear light"}


class PhotoSettings(Settings):
    source: str = setting("", "The file this material starts from.", shape="source")
    width_mm: float = setting(
        1000.0,
        "Real width of the whole photo; Straighten may state a better one.",
        title="Width of the photo",
        unit="mm",
        low=0.01,
        high=1e6,
        soft=(10, 10000),
        log=True,
    )
    read_as: ReadAs = setting(
        "tagged", "How the numbers of the file become light; by default its own tag is believed.", title="Read as", names=READ_AS
    )
    alpha: Literal["keep", "drop"] = setting("drop", "What becomes of transparency: kept as the opacity thread, or dropped.")


class Photo(MapStep[PhotoSettings]):
    """Linear Rec. 709 light of a file, by exact area average where fewer texels are asked for."""

    name = "photo"
    can = frozenset({"photo"})
    title = "Photo"
    words_for_it = ("picture", "image", "file", "camera", "begin", "open")
    sentence = "Brings a photo in, upright and in linear light."
    Settings = PhotoSettings

    def writes(self, s: PhotoSettings) -> tuple[str, ...]:
        return ("base", "opacity") if s.alpha == "keep" else ("base",)

    def works_on(self, s: PhotoSettings) -> Literal["both", "sheet", "model"]:
        return "sheet"

    def geometry(self, s: PhotoSettings, before: Geometry, sources: Sources) -> Geometry:
        if not s.source:
            raise WeaveError("no photo is chosen", self.title, "Drop one on the table, or pick one.")
        info = sources.info(s.source)
        size = (s.width_mm, s.width_mm * info.height / info.width)
        return Geometry(size, False, (info.width, info.height), info.focal_px, info.focal_error)

    def run(
        self, s: PhotoSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        picture = sheet.sources.picture(s.source).read_as(s.read_as)
        small = 2 * sheet.width <= picture.width + 1 and 2 * sheet.height <= picture.height + 1
        if (sheet.width, sheet.height) == (picture.width, picture.height):
            made = {"base": picture.coded(sheet.size_mm)}
        else:
            light = picture.half if small else picture.colour()
            made = {"base": Image(_to(light, sheet, task), Kind.COLOUR, sheet.size_mm)}
        alpha = picture.alpha_plane()
        if "opacity" in self.writes(s):
            solid = np.ones(picture.samples.shape[:2], np.float32) if alpha is None else alpha
            made["opacity"] = Image(_to(solid[..., None], sheet, task), Kind.DATA, sheet.size_mm)
        return made


def _to(pixels: Floats, sheet: Sheet, task: Task) -> Floats:
    h, w = pixels.shape[:2]
    if sheet.width < w or sheet.height < h:
        pixels = reduce_area(pixels, min(sheet.width, w), min(sheet.height, h))
    if pixels.shape[:2] != (sheet.height, sheet.width):
        pixels = enlarge(pixels, sheet.width, sheet.height, False, task, held=True)
    return pixels


def reduced(native: tuple[int, int], level: int) -> tuple[int, int]:
    """Texels of a photo averaged down by 2 to the power of ``level``.

    >>> reduced((4001, 3000), 1)
    (2000, 1500)
    """
    return max(1, round(native[0] / 2**level)), max(1, round(native[1] / 2**level))
