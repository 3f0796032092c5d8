"""Cells: cellular noise and what is known of its cells."""

from __future__ import annotations

from typing import Literal

import numpy as np

from silent_loom.core.base.images import Floats
from silent_loom.core.base.parallel import Task
from silent_loom.core.maps.elements import chances
from silent_loom.core.patterns.cellular import Cellular, cellular
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.hashing import of
from silent_loom.core.patterns.noise import stray
from silent_loom.core.steps.patterns.pattern import Drawn, Pattern, PatternSettings, length, part, relief
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import setting


class CellsSettings(PatternSettings):
    show: Literal["nearest", "second", "between", "border", "level"] = setting(
        "nearest",
        "What the height is: far from a cell's middle is low; the second nearest middle; the difference of both; far from the "
        "border is high; or a level of its own for each cell.",
        names={"between": "second less nearest", "level": "a level each"},
    )
    scale_mm: float = length(60.0, "About how wide a cell is.", "Scale")
    stretch: float = setting(
        1.0, "Longer across than down, or the other way.", low=0.05, high=20, soft=(0.1, 10), log=True, ends=("down", "across")
    )
    jitter: float = part(1.0, "How far middles stray.", "Uneven")
    stagger: bool = setting(False, "Every other row is moved by half a cell: even ones are hexagons.")
    bend: float = part(0.0, "How much borders bend.", "Bent")
    smooth: float = part(0.0, "How round the rise from a border is; from a middle how flat its top.", "Round")
    hollow: bool = setting(False, "Low is high: bowls instead of domes, as a hammer leaves them.")
    depth_mm: float = relief(10.0)


class Cells(Pattern[CellsSettings]):
    """Distances to points of which each field of a grid has one (Worley 1996)."""

    name = "cells"
    title = "Cells"
    gives = ("id", "border", "random")
    words_for_it = ("worley", "voronoi", "cellular", "crystal", "scales", "facets", "bubbles", "foam")
    sentence = "Cells around random points: facets, bubbles, crystals, hammered forms."
    Settings = CellsSettings

    def words(self, s: CellsSettings) -> str:
        return f"{s.show}, {s.scale_mm:g} mm"

    def breadth(self, s: CellsSettings) -> float:
        return s.scale_mm / 2

    def draw(self, s: CellsSettings, ground: Ground, decision: Decision, task: Task) -> Drawn:
        counts = ground.counts(s.scale_mm * s.stretch, s.scale_mm)
        warp = stray(ground, counts, 0.7 * s.bend * s.scale_mm, of(s.seed, 9), 3, task) if s.bend > 0 else None
        found = cellular(ground, counts, jitter=s.jitter, stagger=s.stagger, seed=of(s.seed, 2), warp=warp, task=task)
        own = cell_chances(found, s.seed)
        if s.show == "level":
            height = own[..., 0].copy()
        elif s.show == "border":
            height = found.border / np.float32(0.5 * s.scale_mm)
        elif s.show == "nearest":
            height = 1 - found.near / np.float32(0.85 * s.scale_mm)
        elif s.show == "second":
            height = 1 - found.next / np.float32(1.3 * s.scale_mm)
        else:
            height = (found.next - found.near) / np.float32(0.9 * s.scale_mm)
        t = np.clip(height, 0, 1)
        if s.smooth > 0:
            t = t + np.float32(s.smooth) * (np.sqrt(t * (np.float32(2) - t)) - t)
        if s.hollow:
            t = 1 - t
        return Drawn(t, {"id": found.which + 1, "border": found.border, "random": own})


def cell_chances(found: Cellular, seed: int) -> Floats:
    """Four random numbers of the cell at each place, shape (H, W, 4).

    >>> from silent_loom.core.patterns.cellular import cellular
    >>> cell_chances(cellular(Ground.of(32, 32, (100.0, 100.0)), (4, 4)), 1).shape
    (32, 32, 4)
    """
    return np.take(chances(found.count, seed), found.which, axis=0)
