"""Combine: two threads into one."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Literal

import numpy as np

from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.parallel import Task
from silent_loom.core.weave import threads
from silent_loom.core.weave.answers.mixing import mix
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import Geometry, MapStep, Sheet, Texels
from silent_loom.core.weave.threads import NOUNS, ThreadSpec

KINDS = (Kind.COLOUR, Kind.DATA, Kind.NORMAL)


class CombineSettings(Settings):
    first: ThreadName = setting("base", "What lies below.", shape="thread", kinds=KINDS)
    second: ThreadName = setting("base", "What is laid over it.", shape="thread", kinds=KINDS)
    how: Literal["mix", "multiply", "add", "subtract", "lighter", "darker", "screen", "overlay", "combine", "by height"] = (
        setting(
            "mix",
            "Combine lays normals over each other properly and adds numbers; by height shows whichever lies higher.",
            names={"combine": "combine: reoriented normals"},
        )
    )
    share: float = setting(0.5, "How much of the second.", low=0, high=1, step=0.01)
    first_height: ThreadName = setting(
        "height", "The height of the first.", shape="thread", kinds=(Kind.DATA,), when={"how": ["by height"]}
    )
    second_height: ThreadName = setting(
        "height", "The height of the second.", shape="thread", kinds=(Kind.DATA,), when={"how": ["by height"]}
    )
    soft_mm: float = setting(
        1.0,
        "Difference in height over which one goes over into the other.",
        title="Soft border",
        unit="mm",
        low=0.001,
        high=1000,
        soft=(0.01, 20),
        log=True,
        when={"how": ["by height"]},
    )
    lift_mm: float = setting(
        0.0,
        "Raises the second before they are held against each other.",
        title="Raise the second",
        unit="mm",
        low=-10_000,
        high=10_000,
        soft=(-20, 20),
        step=0.01,
        when={"how": ["by height"]},
    )
    into: ThreadName = setting("base", "Name of the thread that it makes.", title="Makes", shape="thread", new=True)


class Combine(MapStep[CombineSettings]):
    """By kind, as a row meets what was there: colour in linear light, normals as slopes or reoriented."""

    name = "combine"
    title = "Combine"
    words_for_it = ("mix", "blend", "multiply", "overlay", "add", "merge", "layer", "detail")
    sentence = "Makes one thread out of two: mixed, multiplied, the lighter, the higher, normals laid over each other."
    Settings = CombineSettings

    def words(self, s: CombineSettings) -> str:
        return f"{s.first.replace('_', ' ')} and {s.second.replace('_', ' ')}"

    def reads(self, s: CombineSettings) -> tuple[str, ...]:
        heights = (s.first_height, s.second_height) if s.how == "by height" else ()
        return tuple(dict.fromkeys((s.first, s.second, *heights)))

    def writes(self, s: CombineSettings) -> tuple[str, ...]:
        return (s.into,)

    def halo(self, s: CombineSettings, after: Geometry, texels: Texels) -> int:
        return 0

    def makes_of(self, s: CombineSettings, present: Mapping[str, ThreadSpec]) -> tuple[ThreadSpec, ...]:
        first = present.get(s.first, threads.spec(s.first))
        if s.into in present or s.into in threads.THREADS:
            usual = present.get(s.into) or threads.spec(s.into)
            if usual.kind is first.kind:
                return (usual,)
        return (replace(threads.helper(s.into, first.kind), unit=first.unit, low=first.low, high=first.high),)

    def objects(self, s: CombineSettings, present: Mapping[str, ThreadSpec]) -> str:
        first, second = present[s.first], present[s.second]
        if first.kind is not second.kind:
            return f"{first.title.lower()} is {NOUNS[first.kind]}, and {second.title.lower()} is {NOUNS[second.kind]}"
        return ""

    def run(
        self, s: CombineSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        first, second = inputs[s.first], inputs[s.second]
        if s.how == "by height":
            rise = inputs[s.second_height].pixels + np.float32(s.lift_mm) - inputs[s.first_height].pixels
            weight = np.clip(rise / np.float32(s.soft_mm) + np.float32(0.5), 0, 1).astype(np.float32)
            return {s.into: mix(first, second, "replace", 1.0, weight)}
        return {s.into: mix(first, second, "replace" if s.how == "mix" else s.how, s.share, None)}
