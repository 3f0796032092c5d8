"""Noise: gradient or value noise, summed over octaves, warped, or in bands."""

from __future__ import annotations

from typing import Literal

import numpy as np

from silent_loom.core.base.parallel import Task
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.hashing import of
from silent_loom.core.patterns.noise import cells_of, noise, stray
from silent_loom.core.steps.patterns.pattern import Drawn, Pattern, PatternSettings, length, part, relief, usual
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import setting
from silent_loom.core.weave.step import Preset

_SPAN = {("gradient", "plain"): (-0.62, 0.62), ("gradient", "ridged"): (-0.1, 0.95), ("gradient", "billowed"): (-0.95, 0.1)}
"""What lies within 0…1, so that little is cut off."""
_VALUE_SPAN = {"plain": (-0.85, 0.85), "ridged": (-0.7, 0.9), "billowed": (-0.9, 0.7)}


class NoiseSettings(PatternSettings):
    kind: Literal["gradient", "value"] = setting("gradient", "Gradient noise is even; value noise is blotched.")
    how: Literal["plain", "ridged", "billowed"] = setting(
        "plain", "How its octaves are summed: plain like clouds, ridged like crests, billowed like cushions.", title="Sum"
    )
    scale_mm: float = length(120.0, "About how wide its broadest features are.", "Scale")
    stretch: float = setting(
        1.0, "Longer across than down, or the other way.", low=0.01, high=100, soft=(0.1, 10), log=True, ends=("down", "across")
    )
    octaves: int = setting(6, "How often finer noise of half the width is added.", low=1, high=12, step=1)
    gain: float = part(0.5, "How much each finer octave counts, as a part of the one before.", "Fine ones", ("soft", "rough"))
    warp: float = part(0.0, "How far places stray by other noise, in parts of the scale.", "Warp", high=3.0)
    bands: float = setting(
        0.0, "Bands that follow the noise, as in marble: so many from its lowest to its highest.", low=0, high=60, step=0.5
    )
    contrast: float = setting(1.0, "Steeper or gentler around the middle.", low=0.05, high=20, soft=(0.2, 5), log=True)
    depth_mm: float = relief(10.0)


class Noise(Pattern[NoiseSettings]):
    """A fractal sum of noise on a lattice that is counted modulo the sheet."""

    name = "noise"
    can = frozenset({"pattern", "noise"})
    title = "Noise"
    words_for_it = ("clouds", "perlin", "fractal", "fbm", "ridged", "billow", "marble", "turbulence", "random", "warp", "dirt")
    sentence = "Random relief at every size at once: clouds, crests, cushions, marble."
    Settings = NoiseSettings
    presets = (
        Preset("Clouds", {"how": "plain", "warp": 0.0, "bands": 0.0}, "form"),
        Preset("Crests", {"how": "ridged", "warp": 0.0, "bands": 0.0}),
        Preset("Cushions", {"how": "billowed", "warp": 0.0, "bands": 0.0}),
        Preset("Folded", {"how": "plain", "warp": 1.2, "bands": 0.0}),
        Preset("Marble", {"how": "plain", "warp": 0.8, "bands": 6.0}),
    )

    def words(self, s: NoiseSettings) -> str:
        return f"{s.kind}, {s.how}, {s.scale_mm:g} mm"

    def finest(self, s: NoiseSettings) -> float:
        return s.scale_mm / 2 ** (s.octaves - 1)

    def draw(self, s: NoiseSettings, ground: Ground, decision: Decision, task: Task) -> Drawn:
        cells = cells_of(ground, s.scale_mm, s.stretch)
        warp = None
        if s.warp > 0:
            warp = stray(ground, cells, 1.6 * s.warp * s.scale_mm, of(s.seed, 3), 3, task)
        v = noise(
            ground,
            cells,
            octaves=s.octaves,
            gain=s.gain,
            how=s.how,
            valued=s.kind == "value",
            seed=of(s.seed, 1),
            warp=warp,
            task=task,
        )
        low, high = _VALUE_SPAN[s.how] if s.kind == "value" else _SPAN[("gradient", s.how)]
        if s.bands > 0:
            v = np.float32(0.5) - np.float32(0.5) * np.cos(v * np.float32(2 * np.pi * s.bands / (high - low)))
            low, high = 0.0, 1.0
        middle, half = (low + high) / 2, (high - low) / 2 / s.contrast
        return Drawn(usual(v, middle - half, middle + half))
