"""Waves: Gabor noise, of one wavelength and direction."""

from __future__ import annotations

import numpy as np

from silent_loom.core.base.parallel import Task
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.hashing import of
from silent_loom.core.patterns.noise import cells_of, noise
from silent_loom.core.patterns.waves import gabor
from silent_loom.core.steps.patterns.pattern import Drawn, Pattern, PatternSettings, length, part, relief, usual
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import setting


class GaborSettings(PatternSettings):
    wave_mm: float = length(30.0, "From crest to crest.", "Wavelength")
    turn_deg: float = setting(
        0.0,
        "Direction in which the waves run: 0 to the right, 90 down.",
        title="Direction",
        unit="°",
        low=-360,
        high=360,
        soft=(-90, 90),
        step=1,
    )
    fan_deg: float = setting(
        25.0, "How far they stray from it; from 90 on they run every way.", title="Strays", unit="°", low=1, high=180, step=1
    )
    spread: float = setting(0.15, "How much they differ in length.", title="Uneven", low=0.03, high=0.6, step=0.01)
    crest: float = part(0.0, "Sharp crests, as wind drives them.", "Crests", ("round", "sharp"))
    patches: float = part(0.0, "Patches in which they are weak.", "Patches")
    depth_mm: float = relief(8.0)


class Gabor(Pattern[GaborSettings]):
    """Noise whose spectrum lies around one frequency and one direction."""

    name = "gabor"
    title = "Waves"
    words_for_it = ("gabor", "ripples", "water", "sand", "grain", "anisotropic", "dunes", "band")
    sentence = "Random waves of one length and direction: ripples in sand, water, grain of fibres."
    Settings = GaborSettings

    def words(self, s: GaborSettings) -> str:
        return f"{s.wave_mm:g} mm"

    def draw(self, s: GaborSettings, ground: Ground, decision: Decision, task: Task) -> Drawn:
        fan = np.deg2rad(s.fan_deg) if s.fan_deg < 90 else np.pi
        v = gabor(ground, s.wave_mm, spread=s.spread, turn=np.deg2rad(s.turn_deg), fan=fan, seed=of(s.seed, 1))
        t = usual(v, -2.4, 2.4)
        if s.crest > 0:
            t = t + np.float32(s.crest) * (1 - np.abs(np.float32(2) * t - 1) - t)
            t = np.clip(t, 0, 1)
        if s.patches > 0:
            there = noise(ground, cells_of(ground, 8 * s.wave_mm), octaves=3, seed=of(s.seed, 2), task=task)
            weight = usual(there, -0.35, 0.35)
            t = np.float32(0.5) + (t - np.float32(0.5)) * (1 - np.float32(s.patches) * (1 - weight))
        return Drawn(t)
