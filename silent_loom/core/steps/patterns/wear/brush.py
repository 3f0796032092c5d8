"""Brush marks: strokes of a brush or a trowel, over each other."""

from __future__ import annotations

import numpy as np

from silent_loom.core.base.parallel import Task
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.hashing import numbers, of
from silent_loom.core.patterns.laying import Shape, items, stacked
from silent_loom.core.patterns.noise import cells_of, noise
from silent_loom.core.steps.patterns.laid.bonds import outline
from silent_loom.core.steps.patterns.pattern import Drawn, Pattern, PatternSettings, length, part, relief, told
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import setting
from silent_loom.core.weave.step import Preset


class BrushSettings(PatternSettings):
    long_mm: float = length(220.0, "About how long a stroke is.", "Length", soft=(5, 2000))
    wide_mm: float = length(45.0, "How wide the brush or trowel is.", "Width", soft=(1, 400))
    turn_deg: float = setting(
        0.0, "Which way most strokes run.", title="Direction", unit="°", low=-360, high=360, soft=(-90, 90), step=1
    )
    fan_deg: float = setting(20.0, "How far they stray from it.", title="Strays", unit="°", low=0, high=90, step=1)
    bristle_mm: float = length(1.6, "From one furrow of the bristles to the next.", "Bristles", soft=(0.2, 30))
    furrows: float = part(0.6, "How deep these furrows are; none for a trowel.", "Furrows")
    ridge: float = part(0.4, "How much paint stands at the rim of a stroke.", "Ridge")
    dense: float = part(0.8, "How many strokes there are.", "Dense")
    depth_mm: float = relief(1.2)


class Brush(Pattern[BrushSettings]):
    """Boxes with round corners laid over each other, each with furrows of its own along it. ``gradient`` runs along a stroke."""

    name = "brush"
    title = "Brush marks"
    gives = ("id", "random", "gradient", "orientation")
    words_for_it = ("paint", "strokes", "trowel", "plaster", "impasto", "stucco", "limewash", "bristles")
    sentence = "Strokes of a brush or a trowel over each other: paint, plaster, limewash."
    Settings = BrushSettings
    presets = (
        Preset("Brush", {"furrows": 0.6, "ridge": 0.4}, "tool"),
        Preset("Trowel", {"furrows": 0.0, "ridge": 0.8, "wide_mm": 110.0, "fan_deg": 90.0}),
    )

    def words(self, s: BrushSettings) -> str:
        return f"{s.long_mm:g} × {s.wide_mm:g} mm"

    def draw(self, s: BrushSettings, ground: Ground, decision: Decision, task: Task) -> Drawn:
        area = ground.size_mm[0] * ground.size_mm[1]
        n = int(min(6000, max(4, (1 + 4 * s.dense) * area / (s.long_mm * s.wide_mm))))
        c = [numbers(n, of(s.seed, 30 + k)).astype(float) for k in range(7)]
        half = np.minimum(s.long_mm * (0.3 + 0.4 * c[3]), 0.95 * min(ground.size_mm))
        wide = s.wide_mm * (0.4 + 0.2 * c[4])
        way = np.deg2rad(s.turn_deg) + (c[2] * 2 - 1) * np.deg2rad(s.fan_deg if s.fan_deg < 90 else 180)
        # Later strokes lie over earlier ones: each a little higher than all before it
        level = np.arange(n) / n
        table = items(
            c[0] * ground.size_mm[0],
            c[1] * ground.size_mm[1],
            half,
            wide,
            turn=way,
            radius=0.6 * np.minimum(wide, half),
            shape=Shape.BOX,
            z=level * 100.0,
            tilt=0.0,
            rise=0.0,
            bevel=1.0,
        )
        found = stacked(ground, table, -1.0, outline(0.6, 0.5 * s.wide_mm, 0.5 * s.wide_mm, ground, s.seed, task), task)
        chances = found.chances(s.seed)
        side = np.abs(found.v)
        rim = np.exp(-np.square((side - np.float32(0.9)) / np.float32(0.12))) + np.exp(
            -np.square((found.u - np.float32(0.93)) / np.float32(0.1))
        )
        seen = float(np.clip(s.bristle_mm / (2 * ground.texel) - 0.4, 0, 1))
        across = np.concatenate([[np.float32(1)], table[:, 5]])[found.ids] * found.v / np.float32(s.bristle_mm)
        wave = across + 7 * chances[..., 1]
        furrow = np.float32(0.5) * np.sin(wave * np.float32(2 * np.pi)) + np.float32(0.3) * np.sin(
            wave * np.float32(2 * np.pi * 0.37) + 3 * chances[..., 2]
        )
        fade = np.clip(np.float32(1.15) - np.float32(0.6) * (found.u * np.float32(0.5) + np.float32(0.5)), 0, 1)
        patch = noise(ground, cells_of(ground, 1.5 * s.wide_mm), octaves=4, seed=of(s.seed, 8), task=task)
        height = np.float32(0.45) + np.float32(0.22) * (chances[..., 0] - np.float32(0.5)) + np.float32(0.12) * patch
        height = height + np.float32(0.28 * s.furrows * seen) * furrow * fade + np.float32(0.3 * s.ridge) * rim
        return Drawn(np.clip(height, 0, 1).astype(np.float32), told(found, ground, s.seed, self.gives))
