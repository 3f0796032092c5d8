"""Height from normals: the relief whose slopes a normal map holds."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

import numpy as np

from silent_loom.core.base.images import Image, Kind, data
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.maps.integrate import height_of
from silent_loom.core.moving.slopes import slopes_of
from silent_loom.core.steps.maps.normal import from_height
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import Geometry, MapStep, Sheet
from silent_loom.core.weave.threads import ThreadSpec, spec

FILLED = 0.92
"""Part of the depth that is filled, so that other sizes do not clip."""


class IntegrateSettings(Settings):
    reads_from: ThreadName = setting(
        "normal", "The normals it is made from.", title="Made from", shape="thread", kinds=(Kind.NORMAL,)
    )
    scale: Literal["fill the depth", "true slopes"] = setting(
        "fill the depth", "Normal maps are often steeper or gentler than their surface: filled, or as deep as their slopes say."
    )
    depth_mm: float = setting(
        10.0,
        "From black to white of the height map.",
        title="Depth",
        unit="mm",
        low=0.001,
        high=100_000,
        soft=(0.1, 100),
        log=True,
    )
    invert: bool = setting(False, "Turns hills into hollows, for normals that point the other way.")


class Integrate(MapStep[IntegrateSettings]):
    """Least squares over all slopes at once; what no height can have is left over, and said in degrees."""

    name = "integrate"
    version = 2
    can = frozenset({"depth"})
    title = "Height from normals"
    words_for_it = ("depth", "relief", "displacement", "convert", "integration")
    sentence = "Finds the height whose slopes a normal map holds, instead of reading it from the picture."
    decides = True
    decision_scale = 0.5
    Settings = IntegrateSettings

    def words(self, s: IntegrateSettings) -> str:
        return f"{s.depth_mm:g} mm deep" if s.scale == "fill the depth" else "true slopes"

    def reads(self, s: IntegrateSettings) -> tuple[str, ...]:
        return (s.reads_from,)

    def writes(self, s: IntegrateSettings) -> tuple[str, ...]:
        return ("height",)

    def makes(self, s: IntegrateSettings) -> tuple[ThreadSpec, ...]:
        return (spec("height").over(s.depth_mm),)

    def decide(self, s: IntegrateSettings, inputs: Mapping[str, Image], geometry: Geometry, task: Task) -> Decision:
        normal = inputs[s.reads_from]
        plane = _integrated(normal)
        low, high = (float(v) for v in np.percentile(plane, [0.02, 99.98]))
        again = from_height(data(plane, normal), task=IDLE).pixels
        cosine = np.clip(np.einsum("...i,...i->...", again, normal.pixels), -1, 1)
        left = float(np.degrees(np.sqrt(np.mean(np.square(np.arccos(cosine))))))
        warnings = ("The normals are flat: there is no height in them.",) if high - low < 1e-6 else ()
        return Decision({}, {"low": low, "high": high, "residual_deg": round(left, 3)}, warnings)

    def run(
        self, s: IntegrateSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        normal = inputs[s.reads_from]
        low, high = decision.figures["low"], decision.figures["high"]
        task.checkpoint()
        plane = _integrated(normal) - np.float32((low + high) / 2)
        if s.scale == "fill the depth" and high - low > 1e-6:
            plane = plane * np.float32(FILLED * s.depth_mm / (high - low))
        return {"height": data(-plane if s.invert else plane, normal)}


def _integrated(normal: Image) -> np.ndarray[tuple[int, ...], np.dtype[np.float32]]:
    slopes = slopes_of(normal.pixels, IDLE)  # to the right, and upwards
    return height_of(slopes[..., 0], -slopes[..., 1], normal.texel_mm, normal.wraps)
