"""Specular weight: how much of the mirror light of its kind a surface shows."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from pydantic import field_validator

from silent_loom.core.base.images import Image, Kind, data
from silent_loom.core.base.parallel import Task
from silent_loom.core.maps import curve as tone_curve
from silent_loom.core.steps.maps.roughness import scalar
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import Geometry, MapStep, Sheet, Texels


class SpecularSettings(Settings):
    reads_from: ThreadName = setting(
        "constant",
        "What it is read from; 'constant' reads nothing.",
        title="Read from",
        shape="thread",
        kinds=(Kind.COLOUR, Kind.DATA),
        also=("constant",),
    )
    low: float = setting(0.0, "Weight where the curve is at its bottom.", title="Lower limit", low=0, high=1, step=0.01)
    high: float = setting(1.0, "Weight at its top; a constant is this value.", title="Upper limit", low=0, high=1, step=0.01)
    curve: tone_curve.Points = setting(tone_curve.STRAIGHT, "From what is read, low to high, to the weight.", shape="curve")
    invert: bool = setting(False, "Low is much.")

    @field_validator("curve")
    @classmethod
    def _rising(cls, value: tone_curve.Points) -> tone_curve.Points:
        return tone_curve.checked(value)


class Specular(MapStep[SpecularSettings]):
    """A factor on the reflection of a dielectric, as OpenPBR has it: 1 is all of it, 0 none; metals keep theirs."""

    name = "specular"
    title = "Specular weight"
    words_for_it = ("reflection", "cavity", "gloss", "shine", "dielectric")
    sentence = "How much of its mirror light a surface that is no metal shows: 1 unless something swallows it, as deep pores do."
    Settings = SpecularSettings

    def words(self, s: SpecularSettings) -> str:
        return f"{s.high:g}" if s.reads_from == "constant" else f"{s.low:g} to {s.high:g} from {s.reads_from}"

    def reads(self, s: SpecularSettings) -> tuple[str, ...]:
        return () if s.reads_from == "constant" else (s.reads_from,)

    def writes(self, s: SpecularSettings) -> tuple[str, ...]:
        return ("specular",)

    def halo(self, s: SpecularSettings, after: Geometry, texels: Texels) -> int:
        return 0

    def run(
        self, s: SpecularSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        if s.reads_from == "constant":
            return {"specular": sheet.flat("specular", s.high)}
        source = inputs[s.reads_from]
        plane = scalar(source, task)
        if source.kind is Kind.DATA:
            scale, offset = sheet.meaning(s.reads_from).scale()
            plane = plane * scale + offset
        plane = tone_curve.through(1 - plane if s.invert else plane, s.curve)
        return {"specular": data(np.float32(s.low) + np.float32(s.high - s.low) * plane, source)}
