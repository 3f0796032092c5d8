"""Thickness: how much there is of the surface behind each point, for light that shines through."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from silent_loom.core.base.images import Image, Kind, data
from silent_loom.core.base.parallel import Task
from silent_loom.core.maps.horizon import sky_of
from silent_loom.core.steps.maps.normal import from_height
from silent_loom.core.weave import threads
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import MapStep, Sheet


class ThicknessSettings(Settings):
    radius_mm: float = setting(
        20.0,
        "How far around each point the material is searched.",
        title="Radius",
        unit="mm",
        low=0.01,
        high=1e5,
        soft=(1, 300),
        log=True,
    )
    strength: float = setting(1.0, "How much of it is kept.", low=0, high=1, step=0.01)
    reads_from: ThreadName = setting(
        "height", "The height it is made from.", title="Made from", shape="thread", kinds=(Kind.DATA,)
    )


class Thickness(MapStep[ThicknessSettings]):
    """What the turned-over height hides of the sky below it: 1 in the middle of a broad hill, less on thin ridges.

    The sweep is that of occlusion, of the height turned over: a point that sees much from within lies in something thin.
    """

    name = "thickness"
    title = "Thickness"
    words_for_it = ("translucency", "thin", "subsurface", "leaf", "wax", "through")
    sentence = "How thick the relief is at each point: thin edges let light through."
    Settings = ThicknessSettings

    def words(self, s: ThicknessSettings) -> str:
        return f"radius {s.radius_mm:g} mm"

    def reads(self, s: ThicknessSettings) -> tuple[str, ...]:
        return (s.reads_from,)

    def writes(self, s: ThicknessSettings) -> tuple[str, ...]:
        return ("thickness",)

    def makes(self, s: ThicknessSettings) -> tuple[threads.ThreadSpec, ...]:
        return (threads.helper("thickness"),)

    def run(
        self, s: ThicknessSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        height = inputs[s.reads_from]
        within = height.with_pixels(-height.pixels)
        normals = from_height(within, 1.0, task).pixels
        seen = sky_of(within.plane(), normals, height.texel_mm, s.radius_mm, task=task).seen
        return {"thickness": data(1 - np.float32(s.strength) * (1 - seen), height)}
