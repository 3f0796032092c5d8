"""Pits: dents of a hammer, pores, holes of bubbles and of rust."""

from __future__ import annotations

from typing import Literal

import numpy as np

from silent_loom.core.base.parallel import Task
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.hashing import numbers, of
from silent_loom.core.patterns.laying import Shape, items, stacked
from silent_loom.core.patterns.noise import cells_of, noise
from silent_loom.core.patterns.scatter import strewn
from silent_loom.core.steps.patterns.laid.bonds import outline
from silent_loom.core.steps.patterns.pattern import Drawn, Pattern, PatternSettings, length, part, relief
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import setting
from silent_loom.core.weave.step import Preset


class PitsSettings(PatternSettings):
    form: Literal["dents", "pits", "pores"] = setting("pits", "Broad and soft, deep with a rim, or small and steep.")
    size_mm: float = length(14.0, "About how wide the largest are.", "Size", soft=(0.2, 200))
    apart_mm: float = length(24.0, "About how far they are apart.", "Apart", soft=(0.2, 400))
    sizes: int = setting(3, "How many sizes there are, each half as large as the one before.", low=1, high=5, step=1)
    share: float = part(0.7, "Part of the places that have one.", "Many")
    long: float = part(0.2, "How much longer than wide they are.", "Oblong")
    worn: float = part(0.4, "How much their outlines stray.", "Outlines")
    rim: float = part(0.2, "How much stands up around them.", "Rim")
    ground: float = part(0.2, "How uneven the surface between them is.", "Surface")
    depth_mm: float = relief(4.0)


class Pits(Pattern[PitsSettings]):
    """Hollows that lie over each other; the deepest is seen. ``pit`` is how deep, 0…1."""

    name = "pits"
    title = "Dents and pits"
    gives = ("pit",)
    words_for_it = (
        "hammered",
        "pores",
        "holes",
        "bubbles",
        "cast",
        "corrosion",
        "travertine",
        "sponge",
        "orange peel",
        "dimples",
    )
    sentence = "Dents of a hammer, pits of rust, pores of stone and plaster."
    Settings = PitsSettings
    presets = (
        Preset(
            "Hammered",
            {"form": "dents", "size_mm": 30.0, "apart_mm": 17.0, "share": 1.0, "sizes": 1, "ground": 0.05, "rim": 0.0},
            "kind",
        ),
        Preset("Pitted", {"form": "pits", "size_mm": 14.0, "apart_mm": 24.0, "rim": 0.3}),
        Preset("Pores", {"form": "pores", "size_mm": 4.0, "apart_mm": 8.0, "sizes": 3, "worn": 0.6}),
    )

    def words(self, s: PitsSettings) -> str:
        return f"{s.form}, {s.size_mm:g} mm"

    def draw(self, s: PitsSettings, ground: Ground, decision: Decision, task: Task) -> Drawn:
        tables = []
        for k in range(s.sizes):
            size, apart = s.size_mm * 0.5**k, s.apart_mm * 0.6**k
            x, y = strewn(
                ground, apart, of(s.seed, 40 + k), jitter=0.95, share=s.share * 0.85**k if s.form != "dents" else s.share
            )
            n = len(x)
            c = [numbers(n, of(s.seed, 50 + 10 * k + m)) for m in range(4)]
            half = size / 2 * (0.6 + 0.5 * c[0])
            thin = half * (1 - 0.6 * s.long * c[1])
            deep = (0.45 + 0.55 * c[2]) * 0.6**k
            bevel = thin * {"dents": 1.0, "pits": 0.75, "pores": 0.4}[s.form]
            tables.append(items(x, y, half, thin, turn=c[3] * np.pi, shape=Shape.ELLIPSE, z=0.0, rise=deep, bevel=bevel))
        found = stacked(
            ground, np.concatenate(tables), 0.0, outline(s.worn, 0.3 * s.size_mm, 0.5 * s.size_mm, ground, s.seed, task), task
        )
        pit = np.clip(found.depth, 0, 1)
        if s.form == "dents":  # a bowl, not a dome the other way round
            pit = 1 - np.sqrt(np.maximum(1 - pit * pit, 0))
        rough = noise(ground, cells_of(ground, 2.5 * s.apart_mm), octaves=6, seed=of(s.seed, 8), task=task)
        edge = np.clip(1 - np.abs(pit - np.float32(0.08)) * np.float32(10), 0, 1) * (pit > 0)
        height = np.float32(0.88) - np.float32(0.85) * pit + np.float32(0.1 * s.rim) * edge + np.float32(0.2 * s.ground) * rough
        return Drawn(np.clip(height, 0, 1).astype(np.float32), {"pit": pit})
