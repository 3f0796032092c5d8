"""Rubble: stones of no fixed shape, side by side."""

from __future__ import annotations

import numpy as np

from silent_loom.core.base.parallel import Task
from silent_loom.core.patterns.cellular import cellular
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.hashing import of
from silent_loom.core.patterns.laying import bevelled, covered
from silent_loom.core.patterns.noise import cells_of, noise, stray
from silent_loom.core.steps.patterns.chance.cells import cell_chances
from silent_loom.core.steps.patterns.pattern import Drawn, Pattern, PatternSettings, length, part, relief
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import setting
from silent_loom.core.weave.step import Preset


class RubbleSettings(PatternSettings):
    scale_mm: float = length(220.0, "About how large a stone is.", "Size")
    stretch: float = setting(
        1.3, "Longer across than down, or the other way.", low=0.05, high=20, soft=(0.2, 5), log=True, ends=("down", "across")
    )
    jitter: float = part(0.75, "How much they differ in shape.", "Uneven")
    joint_mm: float = length(16.0, "How wide joints are.", "Joint", soft=(0, 60), low=0.0)
    bevel_mm: float = length(30.0, "How broad the rim is on which they fall off.", "Rim", soft=(0, 150), low=0.0)
    round: float = part(1.0, "Whether the rim is straight or round.", "Round rim")
    bend: float = part(0.25, "How much borders bend.", "Bent")
    levels: float = part(0.3, "How much they differ in height.", "Levels")
    share: float = part(1.0, "Part of the stones that are there; between the others is nothing but joint.", "Share")
    depth_mm: float = relief(25.0)


class Rubble(Pattern[RubbleSettings]):
    """Cells around random points, half a joint taken off all around."""

    name = "rubble"
    title = "Rubble"
    gives = ("id", "joint", "border", "random")
    words_for_it = ("stones", "paving", "polygonal", "crazy", "cobbles", "terrazzo", "chips", "wall", "flagstone")
    sentence = "Stones of no fixed shape side by side: rubble walls, polygonal paving, cobbles, terrazzo."
    Settings = RubbleSettings
    presets = (
        Preset("Rubble wall", {"stretch": 1.5, "joint_mm": 16.0, "bevel_mm": 40.0, "bend": 0.3}, "kind"),
        Preset("Polygonal paving", {"stretch": 1.0, "joint_mm": 12.0, "bevel_mm": 6.0, "bend": 0.05}),
        Preset("Cobbles", {"scale_mm": 110.0, "stretch": 1.0, "jitter": 0.45, "joint_mm": 12.0, "bevel_mm": 50.0}),
    )

    def words(self, s: RubbleSettings) -> str:
        return f"{s.scale_mm:g} mm"

    def breadth(self, s: RubbleSettings) -> float:
        return s.scale_mm / 2

    def draw(self, s: RubbleSettings, ground: Ground, decision: Decision, task: Task) -> Drawn:
        counts = ground.counts(s.scale_mm * s.stretch, s.scale_mm, (1, 2))
        warp = (
            stray(ground, cells_of(ground, 0.5 * s.scale_mm), 0.35 * s.bend * s.scale_mm, of(s.seed, 9), 4, task)
            if s.bend > 0
            else None
        )
        found = cellular(ground, counts, jitter=s.jitter, stagger=True, seed=of(s.seed, 2), warp=warp, task=task)
        chances = cell_chances(found, s.seed)
        less = s.joint_mm / 2
        depth = found.border - np.float32(less)
        if s.share < 1:  # whoever is left out gives his room to the joint
            depth = np.where(chances[..., 3] < s.share, depth, -np.abs(depth) - np.float32(less))
        rim = bevelled(depth, s.bevel_mm, ground, s.round)
        rough = np.float32(0.1) * noise(ground, cells_of(ground, 0.06 * s.scale_mm), octaves=3, seed=of(s.seed, 8), task=task)
        top = 1 - np.float32(0.5 * s.levels) * chances[..., 0]
        height = np.clip(rim * top + (1 - rim) * (np.float32(0.08) + rough), 0, 1)
        return Drawn(
            height,
            {"id": found.which + 1, "joint": 1 - covered(depth, ground), "border": np.maximum(depth, 0), "random": chances},
        )
