"""Planks: boards with grain and knots."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.parallel import Task
from silent_loom.core.patterns.bonds import boards
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.hashing import numbers, of
from silent_loom.core.patterns.laying import Laid, beside, bevelled
from silent_loom.core.patterns.noise import cells_of, noise
from silent_loom.core.steps.patterns.laid.bonds import tops
from silent_loom.core.steps.patterns.pattern import Drawn, Pattern, PatternSettings, length, part, relief, told, turned
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import setting

KNOTS = 3
"""Knots on a board at most."""


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
        rings, knot = grained(found, over, s.ring_mm, s.knots, s.seed, task)
        fibres = noise(
            over, cells_of(over, 0.25 * s.ring_mm, 40), octaves=2, seed=of(s.seed, 7), warp=_apart(found, over, s.seed), task=task
        )
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


def _apart(found: Laid, over: Ground, seed: int) -> Floats:
    """Each board looks into noise of its own: where it looks is moved as a whole, shape (2, H, W)."""
    n = len(found.table)
    moved = np.stack([np.concatenate([[0.0], numbers(n, of(seed, 61 + k))]) for k in range(2)]).astype(np.float32)
    return np.ascontiguousarray(moved[:, found.ids])


def grained(found: Laid, over: Ground, ring_mm: float, knots: float, seed: int, task: Task) -> tuple[Floats, Floats]:
    """Place between two rings of each board, 0…1, and knots, 0…1; shape (H, W).

    >>> from silent_loom.core.base.parallel import IDLE
    >>> from silent_loom.core.patterns.laying import beside, items
    >>> ground = Ground.of(32, 32, (100.0, 100.0))
    >>> found = beside(ground, items([25.0, 75.0], [50.0, 50.0], 20.0, 40.0), 10.0)
    >>> [a.shape for a in grained(found, ground, 6.0, 0.2, 1, IDLE)]
    [(32, 32), (32, 32)]
    """
    table, ids = found.table, found.ids
    n = len(table)

    def of_board(kind: int, low: float, high: float) -> NDArray[np.float32]:
        every = low + (high - low) * numbers(n, of(seed, kind))
        return np.concatenate([[np.float32(0)], every]).astype(np.float32)

    half = np.concatenate([[np.float32(1)], table[:, 4]]), np.concatenate([[np.float32(1)], table[:, 5]])
    x, y = found.u * half[0][ids], found.v * half[1][ids]
    # A board is a cut beside the middle of its tree: rings are hyperbolas that come near each other to its sides
    wide = noise(over, cells_of(over, 6 * ring_mm, 12), octaves=2, seed=of(seed, 71), warp=_apart(found, over, seed), task=task)
    y = y + np.float32(2.2 * ring_mm) * wide
    pith, rise, taper = of_board(72, -1.2, 1.2)[ids], of_board(73, 0.15, 1.3)[ids], of_board(74, -0.05, 0.05)[ids]
    far = y - pith * half[1][ids]
    deep = np.ascontiguousarray(rise * half[1][ids] + taper * x)
    knot = np.zeros_like(x)
    for k in range(KNOTS):
        there = numbers(n, of(seed, 80 + 5 * k)) < knots
        sizes = (0.06 + 0.1 * numbers(n, of(seed, 81 + 5 * k))) * table[:, 5] * 2
        kx = (1.7 * numbers(n, of(seed, 82 + 5 * k)) - 0.85) * table[:, 4]
        ky = (1.5 * numbers(n, of(seed, 83 + 5 * k)) - 0.75) * table[:, 5]
        for board in (int(b) for b in np.flatnonzero(there)):
            _grow(
                far,
                deep,
                knot,
                (x, y, ids == board + 1),
                found,
                over,
                board,
                (float(kx[board]), float(ky[board]), float(sizes[board])),
            )
    age = np.hypot(far, deep) / np.float32(ring_mm)
    phase = age - np.floor(age)
    # Early wood is broad and soft, late wood a narrow dark line at the end of it
    rings = phase**3
    rings *= np.clip((1 - phase) * np.float32(6), 0, 1)
    down, across = np.gradient(age)
    # Rings that texels cannot show are their mean
    fade = np.clip(np.float32(1.4) - np.float32(2.4) * np.hypot(down, across), 0, 1)
    return np.asarray(np.float32(0.2) + fade * (rings * np.float32(1.6) - np.float32(0.2)), np.float32), knot.astype(np.float32)


def _grow(
    far: Floats,
    deep: Floats,
    knot: Floats,
    where: tuple[Floats, Floats, NDArray[np.int32]],
    found: Laid,
    over: Ground,
    board: int,
    place: tuple[float, float, float],
) -> None:
    """Let a knot grow in a board: only what is near it is looked at."""
    kx, ky, r = place
    row = found.table[board]
    reach = 6.5 * r
    rows, columns = (
        np.unique(np.arange(round((at - wide) / pitch), round((at + wide) / pitch) + 1) % count)
        for at, wide, pitch, count in (
            (row[1] + ky, reach, over.pitch[1], over.height),
            (row[0] + kx, reach / 0.45, over.pitch[0], over.width),
        )
    )
    part = np.ix_(rows, columns)
    own = where[2][part] == board + 1
    dx, dy = where[0][part] - np.float32(kx), where[1][part] - np.float32(ky)
    away = np.hypot(dx * np.float32(0.45), dy)
    # Fibres go around it: what they are asked at moves away from its middle
    far[part] += np.sign(dy) * np.float32(2.2 * r) * np.exp(-np.square(away / np.float32(2.6 * r))) * own
    middle = np.hypot(dx, dy)
    inside = np.clip((np.float32(r) - middle) / np.float32(0.35 * r) + np.float32(0.5), 0, 1) * own
    knot[part] = np.maximum(knot[part], inside)
    deep[part] += inside * middle * np.float32(1.5)
