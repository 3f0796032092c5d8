"""Roughness from a picture, the height or a constant, through a tone curve into limits."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from pydantic import field_validator

from silent_loom.core.base.colour import encode, luminance
from silent_loom.core.base.images import Floats, Image, Kind, data
from silent_loom.core.base.parallel import Task
from silent_loom.core.maps import curve as tone_curve
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import Geometry, MapStep, Sheet, Texels

GREASY = 0.35
"""Roughness spread (5th to 95th percentile) above which a surface tends to look greasy."""


class RoughnessSettings(Settings):
    reads_from: ThreadName = setting(
        "base",
        "What it is read from; 'constant' reads nothing.",
        title="Read from",
        shape="thread",
        kinds=(Kind.COLOUR, Kind.DATA),
        also=("constant",),
    )
    low: float = setting(0.45, "Roughness where the curve is at its bottom.", title="Lower limit", low=0, high=1, step=0.01)
    high: float = setting(
        0.8,
        "Roughness where the curve is at its top; a constant is this value.",
        title="Upper limit",
        low=0,
        high=1,
        step=0.01,
    )
    curve: tone_curve.Points = setting(
        tone_curve.STRAIGHT, "From what is read, dark to light or low to high, to roughness.", shape="curve"
    )
    invert: bool = setting(True, "Dark (or low) is rough.")

    @field_validator("curve")
    @classmethod
    def _rising(cls, value: tone_curve.Points) -> tone_curve.Points:
        return tone_curve.checked(value)


class Roughness(MapStep[RoughnessSettings]):
    """What is read is spread from its 1st to its 99th percentile, goes through the curve, and into the limits."""

    name = "roughness"
    title = "Roughness"
    words_for_it = ("gloss", "shine", "matt", "smoothness", "reflection")
    sentence = "How matt the surface is, read from another thread through a curve."
    decides = True
    decision_scale = 0.5
    Settings = RoughnessSettings

    def words(self, s: RoughnessSettings) -> str:
        return f"{s.high:g}" if s.reads_from == "constant" else f"{s.low:g} to {s.high:g} from {s.reads_from}"

    def reads(self, s: RoughnessSettings) -> tuple[str, ...]:
        return () if s.reads_from == "constant" else (s.reads_from,)

    def writes(self, s: RoughnessSettings) -> tuple[str, ...]:
        return ("roughness",)

    def halo(self, s: RoughnessSettings, after: Geometry, texels: Texels) -> int:
        return 0

    def decide(self, s: RoughnessSettings, inputs: Mapping[str, Image], geometry: Geometry, task: Task) -> Decision:
        if s.reads_from == "constant":
            return Decision({}, {"low": 0.0, "high": 1.0})
        plane = scalar(inputs[s.reads_from], task)
        low, high = (float(v) for v in np.percentile(plane[::2, ::2], [1, 99]))
        t = np.clip((plane[::4, ::4] - low) / max(high - low, 1e-6), 0, 1)
        made = s.low + (s.high - s.low) * tone_curve.through(1 - t if s.invert else t, s.curve)
        p5, p95 = np.percentile(made, [5, 95])
        warnings: tuple[str, ...] = ()
        if p95 - p5 > GREASY:
            warnings = (f"Roughness varies by {p95 - p5:.2f}; beyond {GREASY} a surface tends to look greasy.",)
        return Decision({}, {"low": low, "high": high, "spread": float(p95 - p5)}, warnings)

    def run(
        self, s: RoughnessSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        low, high = decision.figures["low"], decision.figures["high"]
        if s.reads_from == "constant" or high - low < 1e-6:
            return {"roughness": sheet.flat("roughness", s.high)}
        source = next(iter(inputs.values()))
        plane = scalar(source, task)
        plane -= np.float32(low)
        plane *= np.float32(1 / (high - low))
        np.clip(plane, 0, 1, out=plane)
        if s.invert:
            np.subtract(1, plane, out=plane)
        if s.curve != tone_curve.STRAIGHT:
            plane = tone_curve.through(plane, s.curve)
        plane *= np.float32(s.high - s.low)
        plane += np.float32(s.low)
        return {"roughness": data(plane, source)}


def scalar(image: Image, task: Task) -> Floats:
    """One plane: sRGB-encoded luminance of colour, the plane itself of data. A fresh array."""
    if image.kind is Kind.COLOUR:
        return encode(luminance(image.pixels, task), task)
    return image.plane().copy()
