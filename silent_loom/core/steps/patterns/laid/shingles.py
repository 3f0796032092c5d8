"""Shingles: slates, wooden shingles and scales, each row over the one below."""

from __future__ import annotations

from typing import Literal

import numpy as np

from silent_loom.core.base.parallel import Task
from silent_loom.core.maps.elements import inner_of
from silent_loom.core.patterns.edges import away
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.hashing import of, parts
from silent_loom.core.patterns.laying import Shape, items, stacked
from silent_loom.core.patterns.noise import cells_of, noise
from silent_loom.core.steps.patterns.laid.bonds import outline
from silent_loom.core.steps.patterns.pattern import Drawn, Pattern, PatternSettings, length, part, relief, told, turned
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import setting
from silent_loom.core.weave.step import Preset


class ShinglesSettings(PatternSettings):
    form: Literal["square", "rounded", "scale", "hexagon"] = setting("square", "How their lower ends are cut.")
    wide_mm: float = length(220.0, "About how wide one is.", "Width", soft=(5, 800))
    shown_mm: float = length(180.0, "How much of each row is seen.", "Shown", soft=(5, 800))
    gap_mm: float = length(4.0, "Between two of them.", "Gap", soft=(0, 30), low=0.0)
    thick: float = part(0.35, "How much of the depth is the step at the lower edge.", "Thick")
    uneven: float = part(0.15, "How much they differ in width, and in how far they hang down.", "Uneven")
    lift: float = part(0.15, "How much some of them are lifted.", "Lifted")
    worn: float = part(0.25, "How much their edges stray.", "Worn")
    grain: float = part(0.0, "Splits and fibres along them, as those of wood.", "Grain")
    depth_mm: float = relief(14.0)


class Shingles(Pattern[ShinglesSettings]):
    """Elements that rise towards their lower ends; wherever two lie over each other the higher one is seen."""

    name = "shingles"
    title = "Shingles"
    gives = ("id", "border", "random", "gradient")
    words_for_it = ("slate", "roof", "scales", "tiles", "thatch", "shakes", "fish", "feathers")
    sentence = "Slates, shingles and scales that lie over each other in rows."
    Settings = ShinglesSettings
    presets = (
        Preset("Slates", {"form": "square", "grain": 0.0, "thick": 0.3}, "kind"),
        Preset("Wooden shingles", {"form": "square", "grain": 0.7, "uneven": 0.6, "wide_mm": 120.0, "thick": 0.45}),
        Preset("Beaver tails", {"form": "rounded", "grain": 0.0, "uneven": 0.05, "worn": 0.1}),
        Preset("Scales", {"form": "scale", "grain": 0.0, "uneven": 0.0, "worn": 0.0, "gap_mm": 0.0}),
    )

    def words(self, s: ShinglesSettings) -> str:
        return f"{s.form}, {s.wide_mm:g} × {s.shown_mm:g} mm"

    def breadth(self, s: ShinglesSettings) -> float:
        return s.wide_mm / 2

    def draw(self, s: ShinglesSettings, ground: Ground, decision: Decision, task: Task) -> Drawn:
        nx, ny = ground.counts(s.wide_mm, s.shown_mm, (1, 2))
        bw, bh = ground.size_mm[0] / nx, ground.size_mm[1] / ny
        j, i = (a.ravel() for a in np.mgrid[0:ny, 0:nx])
        chance = [parts(i, j, of(s.seed, k)).astype(float) for k in range(4)]
        long = 2.1 * bh
        wide = bw - s.gap_mm + s.uneven * bw * 0.3 * (chance[0] - 0.7)
        x = (i + 0.5 + 0.5 * (j % 2) + 0.15 * s.uneven * (chance[1] - 0.5)) * bw
        tail = (j + 1) * bh + 0.12 * s.uneven * bh * (chance[2] - 0.5)
        shape, radius, half = Shape.BOX, 0.3 * s.gap_mm + 0.0 * wide, long / 2
        if s.form == "rounded":
            radius = 0.42 * wide
        elif s.form == "scale":
            shape, wide, half = Shape.ELLIPSE, 1.08 * bw + 0 * wide, 1.1 * bh
        elif s.form == "hexagon":
            shape, wide, half = Shape.HEXAGON, bw + 0 * wide, bh
        y = tail - half if s.form != "hexagon" else tail - bh * 0.6
        tilt = 0.5 * (1 - s.thick) + 0.18 * s.lift * chance[3]
        table = items(
            y,
            x,
            half,
            wide / 2,
            radius=radius,
            shape=shape,
            z=0.5 - 0.3 * s.thick,
            tilt=tilt,
            rise=0.3 * s.thick + 0.02,
            bevel=max(0.02 * bw, 0.5),
        )
        # Their own axis runs down the roof: they are laid on the sheet with its sides changed, and turned back
        over = ground.turned()
        if s.form == "hexagon":
            table = items(x, y, wide / 2, half, shape=shape, z=0.4, tilt=0.0, rise=0.3, bevel=0.12 * bw)
            over = ground
        found = stacked(over, table, 0.0, outline(s.worn, 0.25 * bw, 0.4 * bw, over, s.seed, task), task)
        height = found.depth
        if s.grain > 0:
            n = noise(over, cells_of(over, 0.03 * bw, 30), octaves=3, seed=of(s.seed, 8), warp=None, task=task)
            height = height + np.float32(0.14 * s.grain) * n
        low, high = 0.02, 1.02
        height = np.clip((height - np.float32(low)) / np.float32(high - low), 0, 1)
        more = told(found, over, s.seed, ("id", "random", "gradient"))
        if over is not ground:
            height = turned(height)
            more = {n: turned(a) for n, a in more.items()}
        return Drawn(height, {**more, "border": away(inner_of(more["id"], True), ground, s.wide_mm / 2)})
