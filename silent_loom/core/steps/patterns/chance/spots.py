"""Spots and stripes: two substances that react and spread."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from silent_loom.core.base.images import Image
from silent_loom.core.base.parallel import Task
from silent_loom.core.moving.resample import enlarge
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.spots import MOST, Form, grown
from silent_loom.core.steps.patterns.pattern import Drawn, Pattern, PatternSettings, length, part, relief
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import setting
from silent_loom.core.weave.step import Geometry


class SpotsSettings(PatternSettings):
    form: Form = setting("spots", "What they settle into.")
    apart_mm: float = length(50.0, "From one to the next.", "Apart")
    stretch: float = setting(1.0, "Which way stripes run.", low=0.25, high=4, step=0.01, log=True, ends=("down", "across"))
    level: float = part(0.5, "Where the border lies between one and the other.", "Level", ("wide", "narrow"))
    soft: float = part(0.35, "How softly one goes over into the other.", "Soft", ("sharp", "soft"))
    depth_mm: float = relief(4.0)


class Spots(Pattern[SpotsSettings]):
    """Grown once on a grid of its own and enlarged, so that every size shows the same ones."""

    name = "spots"
    title = "Spots and stripes"
    gives = ("spot",)
    words_for_it = ("reaction", "diffusion", "turing", "leopard", "zebra", "hide", "coral", "maze", "labyrinth", "skin")
    sentence = "Spots, stripes and mazes as they grow on hides, shells and corals."
    decides = True
    decision_scale = 0.0
    Settings = SpotsSettings

    def words(self, s: SpotsSettings) -> str:
        return f"{s.form}, {s.apart_mm:g} mm apart"

    def decide(self, s: SpotsSettings, inputs: Mapping[str, Image], geometry: Geometry, task: Task) -> Decision:
        ground = Ground.of(1, 1, geometry.size_mm)
        plane = grown(ground, s.form, s.apart_mm, s.stretch, s.seed, task)
        asked = max(geometry.size_mm) / s.apart_mm * 12
        words = (
            () if asked <= MOST * 1.1 else ("They are larger than asked for: so many on one sheet would take too long to grow.",)
        )
        return Decision({"plane": plane.astype(np.float32)}, {"places": max(plane.shape)}, words)

    def draw(self, s: SpotsSettings, ground: Ground, decision: Decision, task: Task) -> Drawn:
        plane = np.ascontiguousarray(decision.arrays["plane"], np.float32)
        v = enlarge(plane, ground.width, ground.height, True, task)
        half = np.float32(0.02 + 0.48 * s.soft)
        level = np.float32(0.1 + 0.8 * s.level)
        t = np.clip((v - level) / (2 * half) + np.float32(0.5), 0, 1)
        t = t * t * (np.float32(3) - np.float32(2) * t)
        return Drawn(t, {"spot": t})
