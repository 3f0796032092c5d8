"""An empty sheet of one colour, to be painted from nothing."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

import numpy as np

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.parallel import Task
from silent_loom.core.steps.tiling.clean import rgb_of
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, setting
from silent_loom.core.weave.step import Geometry, MapStep, Sheet, Sources


class BlankSettings(Settings):
    colour: str = setting("#9a9488", "The colour of the sheet.", shape="colour")
    width_mm: float = setting(
        1000.0, "Real width of one repeat.", title="Width", unit="mm", low=0.01, high=1e6, soft=(10, 10000), log=True
    )
    height_mm: float = setting(
        1000.0, "Real height of one repeat.", title="Height", unit="mm", low=0.01, high=1e6, soft=(10, 10000), log=True
    )


class Blank(MapStep[BlankSettings]):
    """Base colour of one value, on a sheet that wraps."""

    name = "blank"
    can = frozenset({"sheet"})
    title = "Empty sheet"
    words_for_it = ("blank", "flat", "colour", "nothing", "plain", "sheet")
    sentence = "One colour to begin with, that repeats without a seam."
    Settings = BlankSettings

    def words(self, s: BlankSettings) -> str:
        return s.colour

    def writes(self, s: BlankSettings) -> tuple[str, ...]:
        return ("base",)

    def works_on(self, s: BlankSettings) -> Literal["both", "sheet", "model"]:
        return "sheet"

    def geometry(self, s: BlankSettings, before: Geometry, sources: Sources) -> Geometry:
        try:
            rgb_of(s.colour)
        except ValueError as error:
            raise WeaveError(str(error), self.title, "Pick one.") from None
        return Geometry((s.width_mm, s.height_mm), True)

    def run(
        self, s: BlankSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        pixels = np.empty((sheet.height, sheet.width, 3), np.float32)
        pixels[:] = rgb_of(s.colour)
        return {"base": Image(pixels, Kind.COLOUR, sheet.size_mm, True)}
