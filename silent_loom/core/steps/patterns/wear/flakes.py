"""Flakes: paint that comes off, rust that comes through."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.parallel import Task
from silent_loom.core.patterns.cellular import cellular
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.hashing import of
from silent_loom.core.patterns.noise import cells_of, noise, stray
from silent_loom.core.steps.patterns.pattern import Drawn, Pattern, PatternSettings, length, part, relief
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.step import Preset


class FlakesSettings(PatternSettings):
    scale_mm: float = length(160.0, "About how large bare places are.", "Scale")
    bare: float = part(0.4, "How much has come off.", "Bare", ("little", "most"))
    jagged: float = part(0.6, "Whether pieces break off along cracks, or are eaten away softly.", "Jagged", ("eaten", "broken"))
    flake_mm: float = length(26.0, "About how large one flake is.", "Flake", soft=(1, 300))
    lift: float = part(0.5, "How much edges of what is left are lifted.", "Lifted")
    lift_mm: float = length(8.0, "How far from the edge.", "Lifted within", soft=(0.2, 100))
    blisters: float = part(0.2, "Blisters where it is about to come off.", "Blisters")
    below: float = part(0.5, "How rough what lies below is.", "Below")
    depth_mm: float = relief(2.5)


class Flakes(Pattern[FlakesSettings]):
    """A layer with holes where noise is high, along the borders of small cells or not.

    Notes
    -----
    ``flake`` is 1 where the layer is left; ``border`` the distance from its edge in mm, on the layer and beside it; ``rust`` is 1
    where what lies below is most alive.
    """

    name = "flakes"
    title = "Flakes"
    gives = ("flake", "border", "rust")
    words_for_it = ("paint", "rust", "peeling", "chipped", "flaking", "corroded", "old", "layer", "patina")
    sentence = "Paint that flakes off, rust that comes through, layers worn away."
    Settings = FlakesSettings
    presets = (
        Preset("Flaking paint", {"jagged": 0.7, "lift": 0.6, "bare": 0.4}, "kind"),
        Preset("Rust", {"jagged": 0.0, "lift": 0.1, "bare": 0.55, "below": 0.9, "blisters": 0.5}),
    )

    def words(self, s: FlakesSettings) -> str:
        return f"{s.bare:.0%} bare"

    def breadth(self, s: FlakesSettings) -> float:
        return 2 * s.lift_mm

    def draw(self, s: FlakesSettings, ground: Ground, decision: Decision, task: Task) -> Drawn:
        cells = cells_of(ground, s.scale_mm)
        where = noise(ground, cells, octaves=6, gain=0.55, seed=of(s.seed, 1), task=task)
        if s.jagged > 0:  # a flake comes off as a whole: what its middle says counts for all of it
            warp = stray(ground, cells_of(ground, 0.6 * s.flake_mm), 0.35 * s.flake_mm, of(s.seed, 3), 4, task)
            found = cellular(
                ground,
                ground.counts(s.flake_mm, s.flake_mm, (1, 2)),
                jitter=0.9,
                stagger=True,
                seed=of(s.seed, 2),
                warp=warp,
                task=task,
            )
            mean = _means(where, found.which, found.count)
            edge = np.clip(found.border / np.float32(0.25 * s.flake_mm), 0, 1)
            where = where + np.float32(s.jagged) * edge * (mean[found.which] - where)
        level = np.float32(0.42 - 0.84 * s.bare)
        depth = _distance(where + level, ground, 3 * s.lift_mm)
        on = np.clip(depth / np.float32(ground.texel) + np.float32(0.5), 0, 1)
        lifted = np.exp(-np.maximum(depth, 0) / np.float32(s.lift_mm))
        cells_b = cells_of(ground, 0.16 * s.scale_mm)
        bumps = noise(ground, cells_b, octaves=2, how="billowed", seed=of(s.seed, 5), task=task)
        blister = np.clip(-bumps - np.float32(0.35), 0, 1) * np.clip(depth / np.float32(3 * s.lift_mm), 0, 1)
        rough = noise(ground, cells_of(ground, 0.2 * s.scale_mm), octaves=7, gain=0.62, seed=of(s.seed, 6), task=task)
        layer = (
            np.float32(0.6)
            + np.float32(0.3 * s.lift) * lifted
            + np.float32(0.5 * s.blisters) * blister
            + np.float32(0.02) * rough
        )
        below = (
            np.float32(0.3)
            + np.float32(0.3 * s.below) * rough
            - np.float32(0.08) * np.clip(-depth / np.float32(2 * s.lift_mm), 0, 1)
        )
        height = np.clip(below + on * (layer - below), 0, 1)
        rust = np.clip(np.float32(0.5) + rough + np.float32(0.4) * np.clip(-depth / np.float32(2 * s.lift_mm), -1, 1), 0, 1)
        return Drawn(height.astype(np.float32), {"flake": on, "border": np.abs(depth), "rust": rust.astype(np.float32)})


def _means(plane: Floats, which: NDArray[Any], count: int) -> Floats:
    """Mean of every cell."""
    flat = which.ravel()
    area = np.maximum(np.bincount(flat, minlength=count), 1)
    return np.asarray(np.bincount(flat, plane.ravel(), minlength=count) / area, np.float32)


def _distance(level: Floats, ground: Ground, most: float) -> Floats:
    """About how far the zero of a smooth field is in mm, above zero where the field is: value over slope (Taubin 1994)."""
    px, py = ground.pitch
    dx = (np.roll(level, -1, 1) - np.roll(level, 1, 1)) / np.float32(2 * px)
    dy = (np.roll(level, -1, 0) - np.roll(level, 1, 0)) / np.float32(2 * py)
    return np.clip(level / np.maximum(np.hypot(dx, dy), np.float32(1e-5)), -most, most)
