"""Stones: pebbles, gravel and grains that lie over each other."""

from __future__ import annotations

import numpy as np

from silent_loom.core.base.parallel import Task
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.hashing import numbers, of
from silent_loom.core.patterns.laying import Shape, items, stacked
from silent_loom.core.patterns.noise import cells_of, noise
from silent_loom.core.patterns.scatter import strewn
from silent_loom.core.steps.patterns.laid.bonds import outline
from silent_loom.core.steps.patterns.pattern import Drawn, Pattern, PatternSettings, length, part, relief, told
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import setting
from silent_loom.core.weave.step import Preset

CLASSES = 4
"""Sizes, each 0.62 of the one before; the small ones lie lower and fill what is left."""


class StonesSettings(PatternSettings):
    size_mm: float = length(40.0, "About how large the largest are.", "Size", soft=(1, 300))
    sizes: int = setting(3, "How many sizes lie among each other, each smaller than the one before.", low=1, high=CLASSES, step=1)
    dense: float = part(0.8, "How many there are.", "Dense")
    long: float = part(0.35, "How much longer than wide they are.", "Oblong")
    boxy: float = part(0.0, "Broken rather than round.", "Broken")
    worn: float = part(0.25, "How much their outlines stray.", "Outlines")
    heap: float = part(0.35, "How much they lie over each other.", "Heaped")
    depth_mm: float = relief(22.0)


class Stones(Pattern[StonesSettings]):
    """Domes strewn in several sizes; where two meet the higher one is seen."""

    name = "stones"
    title = "Pebbles"
    gives = ("id", "border", "random", "orientation")
    words_for_it = ("pebbles", "gravel", "stones", "grains", "sand", "ballast", "shingle beach", "beads", "granules")
    sentence = "Pebbles, gravel and grains of several sizes, packed or strewn, over each other."
    Settings = StonesSettings
    presets = (
        Preset("Pebbles", {"long": 0.4, "boxy": 0.0, "worn": 0.2}, "kind"),
        Preset("Gravel", {"size_mm": 25.0, "long": 0.4, "boxy": 0.8, "worn": 0.7, "heap": 0.6}),
        Preset("Grains", {"size_mm": 6.0, "long": 0.1, "boxy": 0.0, "worn": 0.0}),
    )

    def words(self, s: StonesSettings) -> str:
        return f"up to {s.size_mm:g} mm"

    def breadth(self, s: StonesSettings) -> float:
        return s.size_mm / 2

    def draw(self, s: StonesSettings, ground: Ground, decision: Decision, task: Task) -> Drawn:
        tables = []
        for k in reversed(range(s.sizes)):
            size = s.size_mm * 0.62**k
            x, y = strewn(
                ground, 0.86 * size, of(s.seed, 40 + k), jitter=0.75, share=s.dense * (0.55 if s.sizes > 1 and k == 0 else 0.9)
            )
            n = len(x)
            chance = [numbers(n, of(s.seed, 50 + 10 * k + m)) for m in range(4)]
            half = size * (0.42 + 0.16 * chance[0])
            thin = 1 - 0.5 * s.long * chance[1]
            table = items(
                x,
                y,
                half,
                half * thin,
                turn=chance[2] * np.pi,
                radius=half * thin * (0.75 - 0.35 * chance[3]),
                shape=Shape.BOX if s.boxy > 0.5 else Shape.ELLIPSE,
                z=0.4 * s.heap * chance[3] * 0.62**k,
                tilt=0.12 * s.boxy * (2 * chance[0] - 1),
                rise=(1 - 0.4 * s.heap) * 0.62**k * (0.75 + 0.25 * chance[1]),
                bevel=half * thin * (1.0 if s.boxy <= 0.5 else 0.6),
            )
            tables.append(table)
        found = stacked(
            ground, np.concatenate(tables), -0.05, outline(s.worn, 0.35 * s.size_mm, 0.5 * s.size_mm, ground, s.seed, task), task
        )
        bed = np.float32(0.04) * (1 + noise(ground, cells_of(ground, 0.12 * s.size_mm), octaves=3, seed=of(s.seed, 8), task=task))
        height = np.where(found.which < 0, np.maximum(bed, 0), np.maximum(found.depth, 0)).astype(np.float32)
        return Drawn(
            np.clip(height, 0, 1),
            {
                **told(found, ground, s.seed, ("id", "random", "orientation")),
                "border": np.maximum(found.depth, 0) * np.float32(s.size_mm / 2),
            },
        )
