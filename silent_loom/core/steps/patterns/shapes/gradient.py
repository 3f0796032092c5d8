"""Gradient: one even rise, that closes again."""

from __future__ import annotations

from typing import Literal

import numpy as np

from silent_loom.core.base.parallel import Task
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.hashing import of
from silent_loom.core.patterns.noise import cells_of, noise
from silent_loom.core.steps.patterns.pattern import Drawn, Pattern, PatternSettings, part, relief
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import setting


class GradientSettings(PatternSettings):
    form: Literal["across", "down", "around", "diamond", "square"] = setting(
        "down", "Which way it rises: to one side and back, or to a middle."
    )
    times_x: int = setting(1, "How often it repeats across.", title="Times across", low=1, high=256, soft=(1, 16), step=1)
    times_y: int = setting(1, "How often it repeats down.", title="Times down", low=1, high=256, soft=(1, 16), step=1)
    curve: float = part(0.5, "Whether it stays low or high for longer; straight in the middle.", "Curve", ("low", "high"))
    soft: float = part(0.5, "How round its top and its bottom are.", "Round")
    stray: float = part(0.0, "How much it strays.", "Stray")
    depth_mm: float = relief(10.0)


class Gradient(Pattern[GradientSettings]):
    """A rise from 0 to 1 and back, once a field, continuous across the edges of the sheet."""

    name = "gradient"
    title = "Gradient"
    words_for_it = ("ramp", "fade", "linear", "radial", "vignette", "dome")
    sentence = "An even rise and fall, to one side or to a middle: to limit other steps, and for domes and pyramids."
    Settings = GradientSettings

    def words(self, s: GradientSettings) -> str:
        return s.form

    def draw(self, s: GradientSettings, ground: Ground, decision: Decision, task: Task) -> Drawn:
        x = ground.across() / np.float32(ground.size_mm[0])
        y = ground.down() / np.float32(ground.size_mm[1])
        if s.stray > 0:
            near = noise(ground, cells_of(ground, max(ground.size_mm) / 3), octaves=5, seed=of(s.seed, 1), task=task)
            x, y = x + np.float32(0.12 * s.stray) * near, y + np.float32(0.12 * s.stray) * np.roll(near, ground.width // 3, 1)
        qx, qy = (np.abs(2 * ((a * n) - np.floor(a * n)) - 1) for a, n in ((x, s.times_x), (y, s.times_y)))
        zero = np.zeros((ground.height, ground.width), np.float32)
        rises = {
            "across": lambda: 1 - qx + zero,
            "down": lambda: 1 - qy + zero,
            "around": lambda: np.maximum(1 - np.hypot(qx, qy), 0) + zero,
            "diamond": lambda: np.maximum(1 - (qx + qy) / 2, 0) + zero,
            "square": lambda: 1 - np.maximum(qx, qy) + zero,
        }
        t = rises[s.form]()
        t = t + np.float32(s.soft) * (t * t * (3 - 2 * t) - t)
        return Drawn(np.power(t, np.float32(2.0 ** (2 - 4 * s.curve))).astype(np.float32))
