"""Ribs: corrugation, flutes, cladding."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.parallel import Task
from silent_loom.core.maps.elements import chances
from silent_loom.core.patterns.ground import Ground, whole
from silent_loom.core.patterns.hashing import of
from silent_loom.core.patterns.noise import cells_of, noise
from silent_loom.core.steps.patterns.pattern import Drawn, Pattern, PatternSettings, length, part, relief
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import setting
from silent_loom.core.weave.step import Preset


class RibsSettings(PatternSettings):
    form: Literal["wave", "round", "trapezoid", "saw", "flute", "line"] = setting(
        "wave", "Their profile: a wave, round bars, sheet piling, lapped boards, hollow flutes, or fine grooves."
    )
    run: Literal["across", "down"] = setting("down", "Which way they run.")
    pitch_mm: float = length(76.0, "From one to the next.", "Pitch", soft=(0.5, 500))
    share: float = part(0.5, "How wide the raised part is.", "Raised")
    soft: float = part(0.3, "How round its corners are.", "Round")
    stray: float = part(0.0, "How much they stray, as those drawn by hand.", "Stray")
    depth_mm: float = relief(18.0)


class Ribs(Pattern[RibsSettings]):
    """A profile that repeats. ``gradient`` runs across each rib."""

    name = "ribs"
    title = "Ribs"
    gives = ("id", "gradient", "random")
    words_for_it = ("corrugated", "flutes", "cladding", "siding", "grooves", "stripes", "sheet metal", "corduroy", "furrows")
    sentence = "Corrugated sheets, flutes, lapped boards, grooves."
    Settings = RibsSettings
    presets = (
        Preset("Corrugated", {"form": "wave", "run": "down", "pitch_mm": 76.0}, "profile"),
        Preset("Sheet piling", {"form": "trapezoid", "run": "down", "pitch_mm": 200.0, "soft": 0.15}),
        Preset("Lapped boards", {"form": "saw", "run": "across", "pitch_mm": 150.0}),
        Preset("Flutes", {"form": "flute", "run": "down", "pitch_mm": 60.0}),
        Preset("Grooves", {"form": "line", "run": "down", "pitch_mm": 100.0, "share": 0.94}),
    )

    def words(self, s: RibsSettings) -> str:
        return f"{s.form}, {s.pitch_mm:g} mm"

    def draw(self, s: RibsSettings, ground: Ground, decision: Decision, task: Task) -> Drawn:
        side = 1 if s.run == "across" else 0
        count = whole(ground.size_mm[side] / s.pitch_mm)
        pitch = ground.size_mm[side] / count
        place = ground.down() if s.run == "across" else ground.across()
        texel = ground.texel / pitch
        at = place / np.float32(pitch) + np.zeros((ground.height, ground.width), np.float32)
        if s.stray > 0:
            at = at + np.float32(0.4 * s.stray) * noise(
                ground, cells_of(ground, 3 * pitch), octaves=3, seed=of(s.seed, 1), task=task
            )
        row = np.floor(at)
        t = at - row
        height = _profile(s, t, texel)
        which = row.astype(np.int32) % count + 1
        own = np.take(chances(count + 1, s.seed), which, axis=0)
        return Drawn(np.clip(height, 0, 1).astype(np.float32), {"id": which, "gradient": t, "random": own})


def _profile(s: RibsSettings, t: NDArray[Any], texel: float) -> NDArray[Any]:
    """Height 0…1 at a place 0…1 of a rib; what is steeper than a texel can show falls within one."""
    if s.form == "wave":
        return np.float32(0.5) - np.float32(0.5) * np.cos(t * np.float32(2 * np.pi))
    q = 2 * t - 1
    if s.form == "round":
        return np.sqrt(np.maximum(1 - q * q, 0))
    if s.form == "flute":
        wide = max(0.1, 1 - 0.5 * s.share)
        return 1 - np.sqrt(np.maximum(1 - np.square(q / np.float32(wide)), 0))
    if s.form == "saw":
        fall = max(texel, 0.04 + 0.1 * s.soft)
        return np.minimum(t / np.float32(1 - fall), (1 - t) / np.float32(fall))
    half = np.float32(s.share)
    slope = np.float32(max(texel * 2, (0.02 if s.form == "line" else 0.12) + 0.3 * s.soft * (0.2 if s.form == "line" else 1)))
    u = np.clip((half - np.abs(q)) / slope + np.float32(0.5), 0, 1)
    return u + np.float32(s.soft) * (u * u * (3 - 2 * u) - u)
