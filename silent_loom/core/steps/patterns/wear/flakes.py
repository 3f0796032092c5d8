"""Flakes: paint that comes off, rust that comes through."""

from __future__ import annotations

from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import Task, over_rows
from silent_loom.core.patterns.cellular import cellular
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.hashing import of
from silent_loom.core.patterns.noise import cells_of, noise, stray
from silent_loom.core.steps.patterns.pattern import Drawn, Pattern, PatternSettings, length, part, relief
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.step import Preset


@kernel("f4[:,::1], f4, f4[:,::1], f4[:,::1], f4, f4, f4, f4, f4, f4, f4, f4[:,::1], f4[:,::1], f4[:,::1], f4[:,::1], i8, i8")
def _layered(where, level, bumps, rough, kx, ky, texel, wide, lift, blisters, bare, height, on, border, rust, y0, y1):  # type: ignore[no-untyped-def]
    # How far the edge of the layer is: value over slope (Taubin 1994), above zero on it. Then what lies above and below
    h, w = where.shape
    zero, one = np.float32(0), np.float32(1)
    most = np.float32(3) * wide
    for y in range(y0, y1):
        up, down = (y - 1 if y > 0 else h - 1), (y + 1 if y + 1 < h else 0)
        for x in range(w):
            left, right = (x - 1 if x > 0 else w - 1), (x + 1 if x + 1 < w else 0)
            dx, dy = (where[y, right] - where[y, left]) * kx, (where[down, x] - where[up, x]) * ky
            depth = (where[y, x] + level) / max(np.sqrt(dx * dx + dy * dy), np.float32(1e-5))
            depth = min(max(depth, -most), most)
            part = min(max(depth / texel + np.float32(0.5), zero), one)
            blister = min(max(-bumps[y, x] - np.float32(0.35), zero), one) * max(depth / most, zero)
            layer = np.float32(0.6) + np.float32(0.3) * lift * np.exp(-max(depth, zero) / wide)
            layer += np.float32(0.5) * blisters * blister + np.float32(0.02) * rough[y, x]
            deep = min(max(-depth / (np.float32(2) * wide), -one), one)
            below = np.float32(0.3) + np.float32(0.3) * bare * rough[y, x] - np.float32(0.08) * max(deep, zero)
            height[y, x] = min(max(below + part * (layer - below), zero), one)
            on[y, x], border[y, x] = part, abs(depth)
            rust[y, x] = min(max(np.float32(0.5) + rough[y, x] + np.float32(0.4) * deep, zero), one)


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
        cells_b = cells_of(ground, 0.16 * s.scale_mm)
        bumps = noise(ground, cells_b, octaves=2, how="billowed", seed=of(s.seed, 5), task=task)
        rough = noise(ground, cells_of(ground, 0.2 * s.scale_mm), octaves=7, gain=0.62, seed=of(s.seed, 6), task=task)
        made = [np.empty_like(rough) for _ in range(4)]
        slopes = (np.float32(0.5 / n) for n in ground.pitch)
        settings = (np.float32(n) for n in (ground.texel, s.lift_mm, s.lift, s.blisters, s.below))
        work = partial(_layered, where, level, bumps, rough, *slopes, *settings, *made)
        over_rows(ground.height, work, task, cost=ground.width * 1.5e-3)
        return Drawn(made[0], dict(zip(self.gives, made[1:], strict=True)))


def _means(plane: Floats, which: NDArray[Any], count: int) -> Floats:
    """Mean of every cell."""
    flat = which.ravel()
    area = np.maximum(np.bincount(flat, minlength=count), 1)
    return np.asarray(np.bincount(flat, plane.ravel(), minlength=count) / area, np.float32)
