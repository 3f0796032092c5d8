"""Planks: boards with grain and knots."""

from __future__ import annotations

from typing import Literal

import numpy as np

from silent_loom.core.base.images import Floats
from silent_loom.core.base.parallel import Task
from silent_loom.core.patterns.bonds import boards
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.hashing import numbers, of
from silent_loom.core.patterns.laying import Laid, beside, bevelled
from silent_loom.core.patterns.noise import cells_of, noise
from silent_loom.core.patterns.wood import grained, trees
from silent_loom.core.steps.patterns.laid.bonds import tops
from silent_loom.core.steps.patterns.pattern import Drawn, Pattern, PatternSettings, length, part, relief, told, turned
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import setting


class PlanksSettings(PatternSettings):
    run: Literal["across", "down"] = setting("across", "Which way they run.")
    long_mm: float = length(1400.0, "About how long one is.", "Length", soft=(50, 5000))
    wide_mm: float = length(140.0, "About how wide one is.", "Width", soft=(5, 500))
    gap_mm: float = length(3.0, "Between two of them.", "Gap", soft=(0, 30), low=0.0)
    bevel_mm: float = length(3.0, "How broad the rim is on which they fall off.", "Rim", soft=(0, 30), low=0.0)
    levels: float = part(0.15, "How much they differ in height.", "Levels")
    cup: float = part(0.15, "How much they are hollow across, as old boards are.", "Hollow")
    grain: float = part(0.35, "How much the grain stands out.", "Grain")
    ring_mm: float = length(7.0, "From one year's ring to the next, where they are widest.", "Rings", soft=(0.5, 50))
    knots: float = part(0.35, "How many knots there are.", "Knots")
    saw: float = part(0.0, "Marks of the saw across them.", "Saw marks")
    depth_mm: float = relief(5.0)


class Planks(Pattern[PlanksSettings]):
    """Each board is a cut through rings of its own, which go around its knots.

    Notes
    -----
    ``grain`` is the place between two rings, 0…1, late wood high; ``knot`` is 1 in a knot.
    """

    name = "planks"
    title = "Planks"
    gives = ("id", "joint", "border", "random", "gradient", "orientation", "grain", "knot")
    words_for_it = ("wood", "boards", "floor", "parquet", "deck", "timber", "grain", "knots", "panel")
    sentence = "Boards of wood with rings, fibres and knots, their ends anywhere."
    Settings = PlanksSettings

    def words(self, s: PlanksSettings) -> str:
        return f"{s.wide_mm:g} mm wide, {s.run}"

    def breadth(self, s: PlanksSettings) -> float:
        return s.wide_mm / 2

    def draw(self, s: PlanksSettings, ground: Ground, decision: Decision, task: Task) -> Drawn:
        over = ground.turned() if s.run == "down" else ground
        table = boards(over, s.long_mm, s.wide_mm, s.seed).table(s.gap_mm, 0.8 * s.gap_mm, s.seed)
        found = beside(over, table, s.gap_mm + 2 * over.texel, None, task)
        chances = found.chances(s.seed)
        apart = _apart(found, s.seed)

        def of_each(scale_mm: float, stretch: float, kind: int) -> Floats:
            cells = cells_of(over, scale_mm, stretch)
            return noise(over, cells, octaves=2, seed=of(s.seed, kind), warp=apart, task=task)

        sway = np.float32(2.2 * s.ring_mm) * of_each(6 * s.ring_mm, 12, 71)
        rings, knot = grained(found, over, sway, trees(table, s.knots, s.seed), s.ring_mm, task)
        fibres = of_each(0.25 * s.ring_mm, 40, 7)
        top = tops(chances, found.u, found.v, s.levels, 0.1 * s.levels)
        v = found.v
        top = top - np.float32(0.25 * s.cup) * (1 - v * v)
        carved = np.float32(0.3 * s.grain) * (rings + np.float32(0.5) * fibres)
        if s.saw > 0:
            at = over.across() / np.float32(0.5 * s.ring_mm) + 40 * chances[..., 3] + np.float32(1.5) * v * v
            carved = carved + np.float32(0.12 * s.saw) * np.sin(at * np.float32(2 * np.pi) / np.float32(2.2))
        rim = bevelled(found.depth, s.bevel_mm, over, 0.8)
        height = np.clip(
            rim * (np.float32(0.97) * top - np.float32(0.25 * s.grain) + carved + np.float32(0.15 * s.grain) * knot), 0, 1
        )
        more = {**told(found, over, s.seed, self.gives[:6]), "grain": rings, "knot": knot}
        if s.run == "across":
            return Drawn(height, more)
        back = {n: turned(a) for n, a in more.items()}
        back["orientation"] = np.ascontiguousarray(-back["orientation"][..., ::-1])
        return Drawn(turned(height), back)


def _apart(found: Laid, seed: int) -> Floats:
    """Each board looks into noise of its own: where it looks is moved as a whole, shape (2, H, W)."""
    n = len(found.table)
    moved = np.stack([np.concatenate([[0.0], numbers(n, of(seed, 61 + k))]) for k in range(2)]).astype(np.float32)
    return np.ascontiguousarray(moved[:, found.ids])
