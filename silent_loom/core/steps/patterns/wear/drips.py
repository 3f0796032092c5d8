"""Drips and runs: what has run down a wall."""

from __future__ import annotations

import numpy as np

from silent_loom.core.base.parallel import Task
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.hashing import numbers, of
from silent_loom.core.patterns.laying import Shape, beside, items
from silent_loom.core.patterns.noise import cells_of, noise
from silent_loom.core.steps.patterns.pattern import Drawn, Pattern, PatternSettings, length, part, relief
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import setting
from silent_loom.core.weave.step import Preset


class DripsSettings(PatternSettings):
    many: int = setting(40, "How many runs there are on one repeat.", low=1, high=5000, soft=(1, 400), log=True)
    long_mm: float = length(300.0, "About how far they run.", "Length", soft=(5, 3000))
    wide_mm: float = length(14.0, "About how wide they are.", "Width", soft=(0.5, 200))
    drop: float = part(0.6, "How thick the drop at the end is.", "Drop")
    wander: float = part(0.35, "How much they stray on their way.", "Stray")
    fade: float = part(0.0, "How much they fade on their way down: stains rather than paint.", "Fading", ("paint", "stain"))
    depth_mm: float = relief(2.0)


class Drips(Pattern[DripsSettings]):
    """Strokes that run down and end in a drop. ``drip`` is 1 where something has run, ``run`` goes from its
    beginning to its end."""

    name = "drips"
    title = "Drips and runs"
    gives = ("drip", "run")
    words_for_it = ("leak", "stain", "runs", "paint", "water marks", "streaks", "rust stains", "tears")
    sentence = "Runs and drops of paint, water marks and stains that go down a wall."
    Settings = DripsSettings
    presets = (
        Preset("Paint", {"drop": 0.7, "fade": 0.0, "wander": 0.2}, "kind"),
        Preset("Stains", {"drop": 0.0, "fade": 0.9, "wander": 0.4, "wide_mm": 30.0, "long_mm": 500.0}),
    )

    def words(self, s: DripsSettings) -> str:
        return f"{s.many}, {s.long_mm:g} mm"

    def draw(self, s: DripsSettings, ground: Ground, decision: Decision, task: Task) -> Drawn:
        n = s.many
        c = [numbers(n, of(s.seed, 30 + k)).astype(float) for k in range(5)]
        x, y = c[0] * ground.size_mm[0], c[1] * ground.size_mm[1]
        size = np.minimum(s.long_mm * (0.25 + 1.0 * c[2] ** 1.5), 0.95 * ground.size_mm[1])
        wide = s.wide_mm * (0.35 + 0.5 * c[3]) / 2
        run = items(
            x, y + size / 2, size / 2, wide * 0.9, turn=np.pi / 2, radius=wide * (0.7 if s.drop else 0.35), shape=Shape.STROKE
        )
        drops = items(x, y + size, wide * (1 + 1.2 * s.drop), wide * (1 + 0.5 * s.drop), turn=np.pi / 2, shape=Shape.ELLIPSE)
        table = np.concatenate([run, drops]) if s.drop > 0 else run
        way = np.stack(
            [noise(ground, cells_of(ground, 6 * s.wide_mm), octaves=3, seed=of(s.seed, 5 + k), task=task) for k in range(2)]
        )
        warp = way * (np.array([1.4, 0.4], np.float32) * np.float32(s.wander * s.wide_mm))[:, None, None]
        found = beside(ground, table, 2 * ground.texel, warp, task)
        on = np.clip(found.depth / np.float32(ground.texel) + np.float32(0.5), 0, 1)
        gradient = found.u * np.float32(0.5) + np.float32(0.5)
        t = np.clip(found.depth / np.float32(0.42 * s.wide_mm), 0, 1)
        body = np.sqrt(t * (2 - t))
        fading = 1 - np.float32(s.fade) * gradient
        if s.fade > 0:
            streak = noise(ground, cells_of(ground, 0.12 * s.wide_mm, 0.03), octaves=2, seed=of(s.seed, 9), task=task)
            fading = fading * np.clip(1 - np.float32(s.fade) * (np.float32(0.4) - streak), 0, 1)
        height = np.float32(0.15) + np.float32(0.85) * body * (1 - np.float32(0.8 * s.fade)) * (
            np.float32(0.55) + np.float32(0.45) * gradient
        )
        drip = (on * (1 - np.float32(s.fade) * (1 - body)) * fading).astype(np.float32)
        return Drawn(np.clip(height, 0, 1).astype(np.float32), {"drip": drip, "run": gradient})
