"""Stencil: outlines on a grid or strewn, from the path of a drawing."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.parallel import Task
from silent_loom.core.patterns.edges import signed
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.hashing import numbers, of
from silent_loom.core.patterns.laying import bevelled
from silent_loom.core.patterns.outlines import drawn, outlines
from silent_loom.core.patterns.scatter import strewn
from silent_loom.core.steps.patterns.pattern import Drawn, Pattern, PatternSettings, length, part, relief
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import setting
from silent_loom.core.weave.step import Geometry, Sources

PATHS = {
    "disc": "M 10 0 A 10 10 0 1 1 -10 0 A 10 10 0 1 1 10 0 Z",
    "ring": "M 10 0 A 10 10 0 1 1 -10 0 A 10 10 0 1 1 10 0 Z M 6 0 A 6 6 0 1 0 -6 0 A 6 6 0 1 0 6 0 Z",
    "star": "M 0 -10 L 2.4 -3.3 L 9.5 -3.1 L 3.9 1.3 L 5.9 8.1 L 0 4.1 L -5.9 8.1 L -3.9 1.3 L -9.5 -3.1 L -2.4 -3.3 Z",
    "cross": "M -3 -10 H 3 V -3 H 10 V 3 H 3 V 10 H -3 V 3 H -10 V -3 H -3 Z",
    "leaf": "M 0 -10 C 7 -5 7 5 0 10 C -7 5 -7 -5 0 -10 Z",
    "drop": "M 0 -10 C 2 -4 6 0 6 4 A 6 6 0 1 1 -6 4 C -6 0 -2 -4 0 -10 Z",
    "petals": "M 0 0 C 4 -4 4 -9 0 -10 C -4 -9 -4 -4 0 0 C 4 -4 9 -4 10 0 C 9 4 4 4 0 0 "
    "C 4 4 4 9 0 10 C -4 9 -4 4 0 0 C -4 4 -9 4 -10 0 C -9 -4 -4 -4 0 0 Z",
    "triangle": "M 0 -9 L 10 8 L -10 8 Z",
}
MOST = 4000


class StencilSettings(PatternSettings):
    form: Literal["disc", "ring", "star", "cross", "leaf", "drop", "petals", "triangle", "own"] = setting("star", "The outline.")
    path: str = setting(
        PATHS["star"],
        'What stands in d="…" of a path of an SVG drawing; even-odd.',
        title="Path",
        shape="path",
        when={"form": ["own"]},
    )
    placed: Literal["grid", "staggered", "strewn"] = setting("staggered", "How copies are placed.")
    apart_mm: float = length(120.0, "From one to the next.", "Apart")
    size_mm: float = length(80.0, "How large one is.", "Size")
    turn_deg: float = setting(0.0, "How they are turned.", title="Turned", unit="°", low=-360, high=360, soft=(-180, 180), step=1)
    loose: float = part(0.0, "How much they are turned at random.", "Turned at random")
    missing: float = part(0.0, "Part of them that is missing.", "Missing")
    rim_mm: float = length(2.0, "How broad the rim is on which they rise.", "Rim", soft=(0.1, 60), low=0.0)
    sunk: bool = setting(False, "Cut in, not raised.")
    depth_mm: float = relief(2.0)


class Stencil(Pattern[StencilSettings]):
    """Copies of an outline. ``stencil`` is 1 inside of them."""

    name = "stencil"
    title = "Stencil"
    gives = ("stencil", "border")
    words_for_it = ("svg", "shape", "outline", "stamp", "ornament", "print", "dots", "stars", "path", "wallpaper")
    sentence = "Copies of an outline, from a small choice or from the path of your own drawing: stamped, printed or cut."
    Settings = StencilSettings

    def words(self, s: StencilSettings) -> str:
        return f"{s.form}, {s.size_mm:g} mm"

    def breadth(self, s: StencilSettings) -> float:
        return s.size_mm / 4

    def geometry(self, s: StencilSettings, before: Geometry, sources: Sources) -> Geometry:
        if s.form == "own":
            outlines(s.path)
        if s.apart_mm**2 * MOST < before.size_mm[0] * before.size_mm[1]:
            raise WeaveError(f"so many copies lie on one repeat (more than {MOST})", self.title, "Set them further apart.")
        return before

    def draw(self, s: StencilSettings, ground: Ground, decision: Decision, task: Task) -> Drawn:
        x, y = self._places(s, ground)
        kept = numbers(len(x), of(s.seed, 3)) >= s.missing
        x, y = x[kept], y[kept]
        turn = np.deg2rad(s.turn_deg) + s.loose * np.pi * (2 * numbers(len(x), of(s.seed, 4)) - 1)
        path = s.path if s.form == "own" else PATHS[s.form]
        middles = np.stack([x / ground.pitch[0], y / ground.pitch[1]], 1)
        half = s.size_mm / 2 / ground.pitch[0], s.size_mm / 2 / ground.pitch[1]
        on = drawn(path, ground.width, ground.height, middles, half, np.asarray(turn, float))
        depth = signed(on, ground, max(s.rim_mm, s.size_mm / 2))
        rim = bevelled(depth, s.rim_mm, ground, 0.6)
        rise = np.minimum(rim, on) if s.rim_mm > ground.texel else on
        return Drawn(1 - rise if s.sunk else rise, {"stencil": on, "border": np.abs(depth)})

    def _places(self, s: StencilSettings, ground: Ground) -> tuple[NDArray[Any], NDArray[Any]]:
        if s.placed == "strewn":
            return strewn(ground, s.apart_mm, s.seed)
        stagger = s.placed == "staggered"
        nx, ny = ground.counts(s.apart_mm, s.apart_mm, (1, 2 if stagger else 1))
        j, i = (a.ravel() for a in np.mgrid[0:ny, 0:nx])
        x = (i + 0.5 + (0.5 * (j % 2) if stagger else 0.0)) * ground.size_mm[0] / nx
        return x, (j + 0.5) * ground.size_mm[1] / ny
