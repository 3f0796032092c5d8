"""Scratches: lines that something hard has left."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.parallel import Task
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.hashing import numbers, of
from silent_loom.core.patterns.laying import Shape, beside, items
from silent_loom.core.patterns.noise import cells_of, noise
from silent_loom.core.steps.patterns.pattern import Drawn, Pattern, PatternSettings, length, part, relief
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import setting
from silent_loom.core.weave.step import Preset


class ScratchesSettings(PatternSettings):
    long_mm: float = length(120.0, "About how long one is.", "Length", soft=(1, 2000))
    wide_mm: float = length(0.8, "About how wide one is.", "Width", soft=(0.02, 20))
    many: int = setting(400, "How many there are on one repeat.", low=1, high=20_000, soft=(10, 4000), log=True)
    turn_deg: float = setting(
        0.0, "Which way most of them run.", title="Direction", unit="°", low=-360, high=360, soft=(-90, 90), step=1
    )
    fan_deg: float = setting(
        90.0, "How far they stray from it; from 90 on they run every way.", title="Strays", unit="°", low=0, high=90, step=1
    )
    curve: float = part(0.2, "How much they bend.", "Bent")
    lip: float = part(0.3, "How much is thrown up beside them.", "Lip")
    patches: float = part(0.3, "Whether they lie in patches.", "Patches")
    depth_mm: float = relief(0.4)


class Scratches(Pattern[ScratchesSettings]):
    """Strokes in three straight pieces, thin at both ends. ``scratch`` is 1 in them."""

    name = "scratches"
    title = "Scratches"
    gives = ("scratch",)
    words_for_it = ("scuffs", "marks", "lines", "brushed", "polish", "worn", "damage", "scratched", "scrapes")
    sentence = "Scratches, all one way or every way, deep or faint."
    Settings = ScratchesSettings
    presets = (
        Preset("Every way", {"fan_deg": 90.0, "many": 400, "patches": 0.3}, "kind"),
        Preset("Brushed", {"fan_deg": 2.0, "many": 6000, "long_mm": 200.0, "wide_mm": 0.5, "patches": 0.0, "curve": 0.0}),
    )

    def words(self, s: ScratchesSettings) -> str:
        return f"{s.many}, {s.long_mm:g} mm"

    def draw(self, s: ScratchesSettings, ground: Ground, decision: Decision, task: Task) -> Drawn:
        table, deep = strokes(
            ground, s.many, s.long_mm, s.wide_mm, np.deg2rad(s.turn_deg), np.deg2rad(s.fan_deg), s.curve, s.seed
        )
        reach = max(1.6 * s.wide_mm, ground.texel)
        found = beside(ground, table, reach, None, task)
        strength = np.concatenate([[np.float32(0)], deep])[found.ids]
        texel = np.float32(ground.texel)
        inside = np.clip(found.depth / np.maximum(np.float32(0.5 * s.wide_mm), texel) + np.float32(0.35), 0, 1)
        cut = np.clip(inside, 0, 1) * strength * np.float32(min(1.0, s.wide_mm / ground.texel))
        if s.patches > 0:
            there = noise(ground, cells_of(ground, 2 * s.long_mm), octaves=3, seed=of(s.seed, 9), task=task)
            cut = cut * np.clip(1 - np.float32(s.patches) * (np.float32(1) - (there * 2 + np.float32(0.6))), 0, 1)
        away = np.clip(
            1 - np.abs(found.depth + np.float32(0.6 * s.wide_mm)) / np.float32(max(0.9 * s.wide_mm, ground.texel)), 0, 1
        )
        height = (
            np.float32(0.8) - np.float32(0.8) * cut + np.float32(0.2 * s.lip) * away * strength * (1 - np.clip(inside * 2, 0, 1))
        )
        return Drawn(np.clip(height, 0, 1).astype(np.float32), {"scratch": cut.astype(np.float32)})


def strokes(
    ground: Ground, many: int, long_mm: float, wide_mm: float, turn: float, fan: float, curve: float, seed: int
) -> tuple[NDArray[Any], NDArray[Any]]:
    """A table of bent strokes in three pieces each, and how deep each piece is, 0…1.

    >>> lines, deep = strokes(Ground.of(64, 64, (100.0, 100.0)), 5, 40.0, 0.2, 0.0, 0.2, 0.1, 1)
    >>> len(lines) == len(deep)
    True
    """
    c = [numbers(many, of(seed, 30 + k)).astype(float) for k in range(7)]
    x, y = c[0] * ground.size_mm[0], c[1] * ground.size_mm[1]
    way = turn + (c[2] * 2 - 1) * (fan if fan < np.pi / 2 - 1e-6 else np.pi)
    size = long_mm * (0.3 + 1.2 * c[3] ** 2)
    size = np.minimum(size, 0.9 * min(ground.size_mm) * 2)
    bend = (c[4] * 2 - 1) * curve * 0.5
    wide = wide_mm * (0.4 + 0.9 * c[5] ** 2) / 2
    piece = size / 3
    tables = []
    px, py, w = x, y, way
    for k, (a, b) in enumerate(((0.15, 1.0), (1.0, 1.0), (1.0, 0.1))):
        nx, ny = px + piece * np.cos(w), py + piece * np.sin(w)
        tables.append(items((px + nx) / 2, (py + ny) / 2, piece / 2, wide * a, turn=w, radius=wide * b, shape=Shape.STROKE))
        px, py, w = nx, ny, w + bend * (1 + 0.3 * k)
    deep = (0.25 + 0.75 * c[6]).astype(np.float32)
    return np.concatenate(tables), np.concatenate([deep] * 3)
