"""Streaks: grain drawn out along a field of directions."""

from __future__ import annotations

import numpy as np

from silent_loom.core.base.parallel import Task
from silent_loom.core.patterns.flow import streaks, swirl
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.hashing import of
from silent_loom.core.patterns.noise import cells_of, noise
from silent_loom.core.steps.patterns.pattern import Drawn, Pattern, PatternSettings, length, part, relief, usual
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import setting


class FlowSettings(PatternSettings):
    wide_mm: float = length(4.0, "How wide a streak is.", "Width", soft=(0.1, 50))
    long_mm: float = length(90.0, "How long one is.", "Length")
    scale_mm: float = length(400.0, "About how wide a bend is.", "Bends")
    turn_deg: float = setting(
        0.0, "The way they run where they do not bend.", title="Direction", unit="°", low=-360, high=360, soft=(-90, 90), step=1
    )
    wild: float = part(0.45, "How much they stray from that way; all of it makes whirls.", "Whirls", ("straight", "whirls"))
    depth_mm: float = relief(2.0)


class Flow(Pattern[FlowSettings]):
    """Line integral convolution of fine noise along the level lines of broad noise."""

    name = "flow"
    title = "Streaks"
    gives = ("orientation",)
    words_for_it = ("flow", "hair", "fur", "fibre", "strands", "combed", "curl", "brushed", "grass", "felt")
    sentence = "Fine streaks that flow around each other: hair, combed plaster, wood wool, brushed metal."
    Settings = FlowSettings

    def words(self, s: FlowSettings) -> str:
        return f"{s.wide_mm:g} mm wide, {s.long_mm:g} mm long"

    def draw(self, s: FlowSettings, ground: Ground, decision: Decision, task: Task) -> Drawn:
        broad = noise(ground, cells_of(ground, s.scale_mm), octaves=2, seed=of(s.seed, 1), task=task)
        whirls = swirl(broad, ground)
        angle = np.float32(np.deg2rad(s.turn_deg))
        if s.wild < 1:  # one way everywhere, bent by the noise itself
            turned = angle + np.float32(4.5 * s.wild) * broad
            straight = np.stack([np.cos(turned), np.sin(turned)])
            mixed = straight if s.wild <= 0.7 else straight + np.float32((s.wild - 0.7) / 0.3) * (whirls - straight)
            way = mixed / np.maximum(np.hypot(mixed[0], mixed[1]), np.float32(1e-6))
        else:
            way = whirls
        grain = noise(ground, cells_of(ground, s.wide_mm), octaves=1, seed=of(s.seed, 2), task=task)
        drawn = streaks(grain, np.ascontiguousarray(way, np.float32), s.long_mm, 0.8 * s.wide_mm, ground, task)
        spread = 2.6 * 0.3 * max(0.16, (s.wide_mm / s.long_mm) ** 0.5)  # a mean over n grains varies by a root of n less
        return Drawn(usual(drawn, -spread, spread), {"orientation": np.stack([way[0], -way[1]], -1)})
