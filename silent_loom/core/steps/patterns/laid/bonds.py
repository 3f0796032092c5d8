"""Bonds: bricks, tiles and setts in courses."""

from __future__ import annotations

import numpy as np

from silent_loom.core.base.images import Floats
from silent_loom.core.base.parallel import Task
from silent_loom.core.patterns.bonds import Bond, laid
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.hashing import of
from silent_loom.core.patterns.laying import beside, bevelled
from silent_loom.core.patterns.noise import cells_of, noise, stray
from silent_loom.core.steps.patterns.pattern import Drawn, Pattern, PatternSettings, length, part, relief, told
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import setting
from silent_loom.core.weave.step import Preset


class BondsSettings(PatternSettings):
    bond: Bond = setting("running", "How they are laid.")
    across_mm: float = length(
        240.0, "About how long one is with its joint; whole numbers go on a repeat.", "Length", soft=(5, 1000)
    )
    down_mm: float = length(80.0, "About how high one is with its joint.", "Height", soft=(5, 1000))
    shift: float = part(0.5, "Of each course against the one above, in a running bond.", "Shift")
    joint_mm: float = length(10.0, "How wide joints are.", "Joint", soft=(0, 50), low=0.0)
    radius_mm: float = length(4.0, "How round corners are.", "Corners", soft=(0, 50), low=0.0)
    bevel_mm: float = length(6.0, "How broad the rim is on which they fall off.", "Rim", soft=(0, 50), low=0.0)
    round: float = part(0.8, "Whether the rim is straight or round.", "Round rim")
    levels: float = part(0.15, "How much they differ in height.", "Levels")
    lean: float = part(0.1, "How much they lean, each its own way.", "Lean")
    uneven: float = part(0.1, "How much they differ in size.", "Uneven")
    askew: float = part(0.1, "How much they are laid askew.", "Askew")
    worn: float = part(0.25, "How much their outlines stray, as those of old ones.", "Worn")
    depth_mm: float = relief(8.0)


class Bonds(Pattern[BondsSettings]):
    """Boxes with round corners at exact places, distances to their borders exact to a part of a texel."""

    name = "bonds"
    title = "Bond"
    gives = ("id", "joint", "border", "random", "gradient", "orientation")
    words_for_it = ("brick", "tile", "herringbone", "paving", "wall", "masonry", "course", "hexagon", "basket", "ashlar", "setts")
    sentence = "Bricks, tiles and setts in a bond, with joints: running, stack, herringbone, basket, hexagon, coursed and more."
    Settings = BondsSettings
    presets = (
        Preset("Bricks", {"bond": "running", "across_mm": 240.0, "down_mm": 80.0, "joint_mm": 10.0}, "kind"),
        Preset(
            "Square tiles", {"bond": "stack", "across_mm": 150.0, "down_mm": 150.0, "joint_mm": 3.0, "uneven": 0.0, "worn": 0.0}
        ),
        Preset("Hexagons", {"bond": "hexagon", "across_mm": 120.0, "joint_mm": 3.0, "uneven": 0.0, "worn": 0.0}),
        Preset("Clinkers", {"bond": "diagonal herringbone", "across_mm": 200.0, "down_mm": 100.0, "joint_mm": 5.0}),
        Preset("Rough courses", {"bond": "coursed", "across_mm": 300.0, "down_mm": 130.0, "worn": 0.8, "joint_mm": 16.0}),
    )

    def words(self, s: BondsSettings) -> str:
        return f"{s.bond}, {s.across_mm:g} × {s.down_mm:g} mm"

    def breadth(self, s: BondsSettings) -> float:
        return min(s.across_mm, s.down_mm) / 2

    def draw(self, s: BondsSettings, ground: Ground, decision: Decision, task: Task) -> Drawn:
        places = laid(ground, s.bond, s.across_mm, s.down_mm, seed=s.seed, shift=s.shift)
        table = places.table(s.joint_mm, s.radius_mm, s.seed, uneven=s.uneven, askew=0.05 * s.askew)
        short = min(s.across_mm, s.down_mm)
        found = beside(ground, table, s.joint_mm + 0.25 * short, outline(s.worn, 0.35 * short, short, ground, s.seed, task), task)
        rim = bevelled(found.depth, s.bevel_mm, ground, s.round)
        top = tops(found.chances(s.seed), found.u, found.v, s.levels, s.lean)
        joint = np.float32(0.12) * noise(
            ground, cells_of(ground, max(0.3 * s.joint_mm, 0.02 * short)), octaves=3, seed=of(s.seed, 8), task=task
        )
        height = np.clip(rim * top + (1 - rim) * (np.float32(0.06) + joint), 0, 1) if s.joint_mm > 0 else rim * top
        return Drawn(height, told(found, ground, s.seed, self.gives))


def outline(worn: float, wide_mm: float, short_mm: float, ground: Ground, seed: int, task: Task) -> Floats | None:
    """How far places stray in mm, so that outlines are those of worn things; shape (2, H, W).

    >>> from silent_loom.core.base.parallel import IDLE
    >>> outline(0.5, 200.0, 100.0, Ground.of(32, 32, (400.0, 400.0)), 1, IDLE).shape
    (2, 32, 32)
    """
    if worn <= 0:
        return None
    moved = stray(ground, cells_of(ground, wide_mm), 0.16 * worn * short_mm, of(seed, 21), 4, task)
    return moved * np.array(ground.size_mm, np.float32)[:, None, None]


def tops(
    chances: Floats,
    u: Floats,
    v: Floats,
    levels: float,
    lean: float,
) -> Floats:
    """Height 0…1 of elements of different levels that lean.

    >>> from silent_loom.core.patterns.ground import Ground
    >>> middle = np.zeros((1, 1), np.float32)
    >>> tops(np.full((1, 1, 4), 0.5, np.float32), middle, middle, 0.0, 0.0).tolist()
    [[1.0]]
    """
    top = 1 - np.float32(0.6 * levels) * chances[..., 0]
    if lean > 0:
        swing = np.float32(0.5 * lean)
        top = top - swing * np.float32(0.5) * (1 + (chances[..., 1] * 2 - 1) * u + (chances[..., 2] * 2 - 1) * v)
    return top
