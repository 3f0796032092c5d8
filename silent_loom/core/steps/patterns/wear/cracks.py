"""Cracks: dried mud, fine crazing, breaks that wander and fork."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.parallel import Task
from silent_loom.core.maps.elements import chances
from silent_loom.core.patterns.cellular import cellular
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.hashing import of
from silent_loom.core.patterns.laying import Shape, beside, items
from silent_loom.core.patterns.noise import cells_of, noise, stray
from silent_loom.core.patterns.plates import cracked, cracked_again
from silent_loom.core.patterns.scatter import branches
from silent_loom.core.steps.patterns.pattern import Drawn, Pattern, PatternSettings, length, part, relief
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import setting
from silent_loom.core.weave.step import Preset


class CracksSettings(PatternSettings):
    form: Literal["mud", "hairline", "branching"] = setting(
        "mud", "Plates that have shrunk apart, fine cracks some of which are open, or breaks that wander and fork."
    )
    scale_mm: float = length(140.0, "About how large a plate is, or how far a break runs.", "Scale")
    wide_mm: float = length(8.0, "How wide cracks are at most.", "Width", soft=(0.05, 60))
    open: float = part(0.6, "Part of the cracks that are open, or how many breaks there are.", "Open")
    finer: float = part(0.6, "How much plates are cracked once more by finer cracks.", "Finer cracks")
    bend: float = part(0.5, "How much they bend.", "Bent")
    curl: float = part(0.35, "How much the rims of plates curl up.", "Curled")
    rough: float = part(0.25, "How rough the plates are.", "Rough")
    depth_mm: float = relief(12.0)


class Cracks(Pattern[CracksSettings]):
    """Borders of cells, twice over, or trunks that fork. ``crack`` is 1 in them."""

    name = "cracks"
    title = "Cracks"
    gives = ("id", "crack", "border", "random")
    words_for_it = ("mud", "craquelure", "crazing", "hairline", "dry", "broken", "lightning", "veins", "fissure")
    sentence = "Cracks: plates of dried mud, crazing of glazes and paint, breaks that fork."
    Settings = CracksSettings
    presets = (
        Preset("Dried mud", {"form": "mud", "wide_mm": 8.0, "curl": 0.4}, "kind"),
        Preset("Crazing", {"form": "hairline", "scale_mm": 40.0, "wide_mm": 0.6, "open": 0.8, "curl": 0.1, "rough": 0.1}),
        Preset("Breaks", {"form": "branching", "scale_mm": 700.0, "wide_mm": 7.0, "open": 0.4}),
    )

    def words(self, s: CracksSettings) -> str:
        return f"{s.form}, {s.scale_mm:g} mm"

    def breadth(self, s: CracksSettings) -> float:
        return s.scale_mm / 2

    def draw(self, s: CracksSettings, ground: Ground, decision: Decision, task: Task) -> Drawn:
        rough = noise(
            ground,
            cells_of(ground, 0.3 * s.scale_mm if s.form != "branching" else 0.08 * s.scale_mm),
            octaves=6,
            gain=0.6,
            seed=of(s.seed, 7),
            task=task,
        )
        if s.form == "branching":
            return self._branching(s, ground, rough, task)
        warp = (
            stray(ground, cells_of(ground, 0.45 * s.scale_mm), 0.4 * s.bend * s.scale_mm, of(s.seed, 3), 5, task)
            if s.bend
            else None
        )
        found = cellular(
            ground,
            ground.counts(s.scale_mm, s.scale_mm, (1, 2)),
            jitter=0.9,
            stagger=True,
            seed=of(s.seed, 1),
            warp=warp,
            task=task,
        )
        hairline = s.form == "hairline"
        crack, depth = cracked(found, ground, s.wide_mm, kind=of(s.seed, 4), part=s.open if hairline else None, task=task)
        table = chances(found.count, s.seed)
        if s.finer > 0:
            fine = cellular(
                ground,
                ground.counts(0.36 * s.scale_mm, 0.36 * s.scale_mm, (1, 2)),
                jitter=1.0,
                stagger=True,
                seed=of(s.seed, 2),
                warp=warp,
                task=task,
            )
            cracked_again(crack, depth, found, fine, ground, s.finer, chances=table, kind=of(s.seed, 5), task=task)
        outside = np.maximum(depth, 0)
        own = np.take(table, found.which, axis=0)
        top = np.exp(outside * np.float32(-1 / (0.12 * s.scale_mm)))
        top *= np.float32(0.28 * s.curl)
        top += np.float32(0.72) if hairline else np.float32(0.795) - np.float32(0.15) * own[..., 0]
        top += np.float32(0.16 * s.rough) * rough
        top *= 1 - crack
        height = np.clip(top, 0, 1, out=top)
        return Drawn(height, {"id": found.which + 1, "crack": crack, "border": outside, "random": own})

    def _branching(self, s: CracksSettings, ground: Ground, rough: NDArray[Any], task: Task) -> Drawn:
        area = ground.size_mm[0] * ground.size_mm[1]
        count = max(1, round(4 * s.open * area / s.scale_mm**2))
        x, y, half, turn, r0, r1 = branches(
            ground, count, s.scale_mm, s.wide_mm, s.seed, wild=0.25 + 0.5 * s.bend, forks=0.08 + 0.25 * s.finer
        )
        table = items(x, y, half, r0, turn=turn, radius=r1, shape=Shape.STROKE)
        warp = np.stack(
            [noise(ground, cells_of(ground, 3 * s.wide_mm), octaves=4, seed=of(s.seed, 11 + k), task=task) for k in range(2)]
        )
        found = beside(ground, table, 6 * s.wide_mm, warp * np.float32(0.9 * s.wide_mm), task)
        crack = np.clip(found.depth / np.float32(max(0.3 * s.wide_mm, ground.texel)) + np.float32(0.5), 0, 1)
        away = np.maximum(-found.depth, 0)
        lip = np.exp(-away / np.float32(2 * s.wide_mm)) * (found.which >= 0)
        height = np.clip(
            (np.float32(0.75) + np.float32(0.2 * s.curl) * lip + np.float32(0.2 * s.rough) * rough)
            * (1 - np.float32(0.9) * crack),
            0,
            1,
        )
        far = np.minimum(away, np.float32(6 * s.wide_mm))
        return Drawn(height, {"id": found.ids * (crack > 0.5), "crack": crack, "border": far, "random": found.chances(s.seed)})
