"""Slope: how steep the surface is, and which way it faces."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from silent_loom.core.base.images import Image, Kind, data
from silent_loom.core.base.parallel import Task
from silent_loom.core.weave import threads
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import Geometry, MapStep, Sheet, Texels


class SlopeSettings(Settings):
    toward_deg: float = setting(
        90.0,
        "Facing tells how much the surface leans this way: 0 to the right, 90 to the top.",
        title="Facing",
        unit="°",
        low=-360,
        high=360,
        soft=(-180, 180),
        step=1,
    )
    reads_from: ThreadName = setting(
        "normal", "The normals it is made from.", title="Made from", shape="thread", kinds=(Kind.NORMAL,)
    )


class Slope(MapStep[SlopeSettings]):
    """Angle between the normal and straight out, in degrees; facing is the sine of the lean towards a direction, −1 to 1."""

    name = "slope"
    title = "Slope"
    words_for_it = ("steep", "facing", "lean", "angle", "moss", "snow", "dust", "flat")
    sentence = "How steep the surface is, in degrees, and how much it faces one way: to limit other steps."
    Settings = SlopeSettings

    def words(self, s: SlopeSettings) -> str:
        return f"facing {s.toward_deg:g}°"

    def reads(self, s: SlopeSettings) -> tuple[str, ...]:
        return (s.reads_from,)

    def writes(self, s: SlopeSettings) -> tuple[str, ...]:
        return ("slope", "facing")

    def makes(self, s: SlopeSettings) -> tuple[threads.ThreadSpec, ...]:
        return threads.helper("slope", unit="°", low=0.0, high=90.0), threads.helper("facing", low=-1.0, high=1.0)

    def halo(self, s: SlopeSettings, after: Geometry, texels: Texels) -> int:
        return 0

    def run(
        self, s: SlopeSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        normal = inputs[s.reads_from]
        n, angle = normal.pixels, np.deg2rad(s.toward_deg)
        steep = np.degrees(np.arctan2(np.hypot(n[..., 0], n[..., 1]), n[..., 2]))
        toward = n[..., 0] * np.float32(np.cos(angle)) + n[..., 1] * np.float32(np.sin(angle))
        return {"slope": data(steep, normal), "facing": data(toward, normal)}
