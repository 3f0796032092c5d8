"""Knitting: rows of stitches."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.parallel import Task
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.hashing import of, parts
from silent_loom.core.patterns.laying import Laid, Shape, items, stacked
from silent_loom.core.patterns.noise import cells_of, noise
from silent_loom.core.steps.patterns.pattern import Drawn, Pattern, PatternSettings, length, part, relief
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import setting


class KnitSettings(PatternSettings):
    wide_mm: float = length(6.0, "How wide a stitch is.", "Width", soft=(0.5, 60))
    high_mm: float = length(4.6, "How high a row is.", "Row", soft=(0.5, 60))
    fat: float = setting(
        0.52, "How thick the yarn is, as a part of a stitch's width.", title="Yarn", low=0.1, high=0.9, step=0.01
    )
    rib: int = setting(
        0,
        "Every so many stitches one is knitted from behind, which draws a furrow; none for plain knitting.",
        low=0,
        high=12,
        step=1,
    )
    twist: float = part(0.5, "How much the yarn's twist is seen.", "Twist")
    uneven: float = part(0.25, "How much stitches differ.", "Uneven")
    depth_mm: float = relief(2.5)


class Knit(Pattern[KnitSettings]):
    """Two legs a stitch that lean towards each other, each row over the foot of the one above."""

    name = "knit"
    title = "Knitting"
    gives = ("id", "random", "orientation")
    words_for_it = ("wool", "jersey", "jumper", "stitch", "yarn", "pullover")
    sentence = "Rows of knitted stitches, plain or ribbed."
    Settings = KnitSettings

    def words(self, s: KnitSettings) -> str:
        return f"{s.wide_mm:g} × {s.high_mm:g} mm"

    def draw(self, s: KnitSettings, ground: Ground, decision: Decision, task: Task) -> Drawn:
        nx, ny = ground.counts(s.wide_mm, s.high_mm, (max(1, s.rib), 1))
        bw, bh = ground.size_mm[0] / nx, ground.size_mm[1] / ny
        j, i = (a.ravel() for a in np.mgrid[0:ny, 0:nx])
        chance = [parts(i, j, of(s.seed, k)).astype(float) - 0.5 for k in range(3)]
        tables = []
        for side in (-1, 1):
            lean = 0.42 * side * (1 + 0.3 * s.uneven * chance[0])
            x = (i + 0.5 + 0.235 * side + 0.08 * s.uneven * chance[1]) * bw
            y = (j + 0.5 + 0.1 * s.uneven * chance[2]) * bh
            furrow = 0.35 * ((i % s.rib) == 0) if s.rib else 0.0
            tables.append(
                items(
                    x,
                    y,
                    0.86 * bh,
                    0.5 * s.fat * bw,
                    turn=np.pi / 2 + lean,
                    shape=Shape.ELLIPSE,
                    z=0.02 - furrow,
                    tilt=0.16,
                    rise=0.8,
                    bevel=0.5 * s.fat * bw,
                )
            )
        table = np.concatenate(tables)
        found = stacked(ground, table, -0.4, None, task)
        height = found.depth
        seen = float(np.clip(bw / (10 * ground.texel) - 0.35, 0, 1))
        if s.twist > 0 and seen > 0:
            lay = np.sin((found.u * np.float32(1.6) + found.v * np.float32(0.55)) * np.float32(2 * np.pi))
            height = height - np.float32(0.07 * s.twist * seen) * (1 - lay) * (found.which >= 0)
        fuzz = noise(ground, cells_of(ground, 0.18 * bw), octaves=2, seed=of(s.seed, 4), task=task)
        height = height + np.float32(0.05) * fuzz
        low = -0.35 if s.rib else -0.05
        return Drawn(
            np.clip((height - np.float32(low)) / np.float32(1.0 - low), 0, 1).astype(np.float32), stitches(found, nx * ny, s.seed)
        )


def stitches(found: Laid, count: int, seed: int) -> dict[str, NDArray[Any]]:
    """Both legs are one stitch.

    >>> from silent_loom.core.patterns.ground import Ground
    >>> from silent_loom.core.patterns.laying import beside, items
    >>> found = beside(Ground.of(32, 32, (100.0, 100.0)), items([25.0, 75.0], [50.0, 50.0], 20.0, 40.0), 10.0)
    >>> sorted(np.unique(stitches(found, 1, 1)["id"]).tolist())
    [1]
    """
    whole = np.where(found.which >= 0, found.which % count, -1)
    same = Laid(found.depth, whole.astype(np.int32), found.u, found.v, found.table)
    return {"id": same.ids, "random": same.chances(seed), "orientation": found.axes()}
