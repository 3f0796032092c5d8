"""Joints: their tone, depth and roughness by one dial each."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.parallel import Task
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import Geometry, MapStep, Sheet, Texels


class JointsSettings(Settings):
    tone: float = setting(0.0, "Lighter or darker.", unit="stops", low=-6, high=6, soft=(-3, 3), step=0.05)
    depth_mm: float = setting(
        0.0, "Deeper; below zero filled up.", title="Deeper", unit="mm", low=-1000, high=1000, soft=(-10, 10), step=0.05
    )
    roughness: float = setting(0.9, "Their roughness.", low=0, high=1, step=0.01, ends=("mirror", "chalk"))
    rough: bool = setting(True, "Gives the joints a roughness of their own.", title="Own roughness")
    joint: ThreadName = setting("joint", "Where joints are.", title="Joints", shape="thread", kinds=(Kind.DATA,))


class Joints(MapStep[JointsSettings]):
    """Mortar, grout, gaps: what lies between elements, as a region of its own."""

    name = "joints"
    title = "Joints"
    words_for_it = ("mortar", "grout", "gap", "pointing", "bricks")
    sentence = "Tone, depth and roughness of what lies between elements."
    can = frozenset({"joints"})
    Settings = JointsSettings

    def words(self, s: JointsSettings) -> str:
        told = [f"{s.tone:+g} stops" if s.tone else "", f"{s.depth_mm:g} mm" if s.depth_mm else ""]
        return ", ".join(t for t in told if t)

    def _on(self, s: JointsSettings) -> tuple[str, ...]:
        return (("base",) if s.tone else ()) + (("height",) if s.depth_mm else ()) + (("roughness",) if s.rough else ())

    def reads(self, s: JointsSettings) -> tuple[str, ...]:
        return (s.joint, *self._on(s))

    def writes(self, s: JointsSettings) -> tuple[str, ...]:
        return self._on(s)

    def halo(self, s: JointsSettings, after: Geometry, texels: Texels) -> int:
        return 0

    def idle(self, s: JointsSettings) -> bool:
        return not self._on(s)

    def run(
        self, s: JointsSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        where = np.clip(inputs[s.joint].pixels, 0, 1)
        made = {}
        for name in self._on(s):
            image = inputs[name]
            if name == "base":
                pixels = image.pixels * np.exp2(np.float32(s.tone) * where)
            elif name == "height":
                pixels = image.pixels - np.float32(s.depth_mm) * where
            else:
                pixels = image.pixels + where * (np.float32(s.roughness) - image.pixels)
            made[name] = image.with_pixels(np.ascontiguousarray(pixels, np.float32))
        return made
