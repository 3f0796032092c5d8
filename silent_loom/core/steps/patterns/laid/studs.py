"""Studs: rivets, bolts, bars and holes on a grid."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.parallel import Task
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.hashing import of, parts
from silent_loom.core.patterns.laying import Shape, beside, bevelled, covered, items
from silent_loom.core.steps.patterns.pattern import Drawn, Pattern, PatternSettings, length, part, relief, told
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import setting
from silent_loom.core.weave.step import Preset


class StudsSettings(PatternSettings):
    form: Literal["round", "hexagon", "bar", "square", "hole", "slot"] = setting("round", "What they are.")
    across_mm: float = length(100.0, "From one to the next across.", "Across", soft=(2, 1000))
    down_mm: float = length(100.0, "From one to the next down.", "Down", soft=(2, 1000))
    size_mm: float = length(24.0, "How wide one is.", "Size", soft=(0.5, 200))
    long: float = setting(1.0, "How many times as long as they are wide.", title="Longer", low=1, high=12, step=0.05)
    turn_deg: float = setting(0.0, "How they are turned.", title="Turned", unit="°", low=-360, high=360, soft=(-90, 90), step=1)
    cross: bool = setting(False, "Every other one is turned the other way, as on tread plates.", title="Crosswise")
    stagger: bool = setting(False, "Every other row is moved by half.")
    rim_mm: float = length(6.0, "How broad the rim is on which they rise.", "Rim", soft=(0.1, 60), low=0.0)
    round: float = part(1.0, "Whether the rim is straight or round.", "Round rim")
    washer: float = part(0.0, "A washer below them, wider by so much.", "Washer", high=2.0)
    sunk: float = part(0.0, "How much the sheet is drawn in around them.", "Drawn in")
    loose: float = part(0.0, "How much they are turned at random, as bolts are.", "Turned at random")
    depth_mm: float = relief(6.0)


class Studs(Pattern[StudsSettings]):
    """Shapes at the crossings of a grid. ``stud`` is 1 on them."""

    name = "studs"
    title = "Studs"
    gives = ("id", "stud", "border", "random")
    words_for_it = ("rivets", "bolts", "screws", "tread plate", "perforated", "holes", "grid", "nails", "dots", "buttons")
    sentence = "Rivets, bolts, bars of tread plate and punched holes on a grid."
    Settings = StudsSettings
    presets = (
        Preset("Rivets", {"form": "round", "size_mm": 24.0, "rim_mm": 12.0}, "kind"),
        Preset("Bolts", {"form": "hexagon", "size_mm": 30.0, "rim_mm": 3.0, "washer": 0.5, "loose": 1.0}),
        Preset(
            "Tread plate",
            {
                "form": "bar",
                "across_mm": 45.0,
                "down_mm": 45.0,
                "size_mm": 9.0,
                "long": 4.0,
                "turn_deg": 45.0,
                "cross": True,
                "rim_mm": 4.0,
            },
        ),
        Preset(
            "Punched holes", {"form": "hole", "across_mm": 20.0, "down_mm": 17.3, "size_mm": 12.0, "rim_mm": 0.8, "stagger": True}
        ),
    )

    def words(self, s: StudsSettings) -> str:
        return f"{s.form}, {s.size_mm:g} mm"

    def breadth(self, s: StudsSettings) -> float:
        return s.size_mm / 2

    def draw(self, s: StudsSettings, ground: Ground, decision: Decision, task: Task) -> Drawn:
        nx, ny = ground.counts(s.across_mm, s.down_mm, (2 if s.cross else 1, 2 if s.cross or s.stagger else 1))
        j, i = (a.ravel() for a in np.mgrid[0:ny, 0:nx])
        fw, fh = ground.size_mm[0] / nx, ground.size_mm[1] / ny
        x, y = (i + 0.5 + (0.5 * (j % 2) if s.stagger else 0)) * fw, (j + 0.5) * fh
        turn = np.full(i.shape, np.deg2rad(s.turn_deg))
        if s.cross:
            turn = np.where((i + j) % 2 == 0, turn, -turn)
        turn = turn + s.loose * np.pi * parts(i, j, of(s.seed, 3)).astype(float)
        table = _shapes(s, x, y, turn, s.size_mm / 2)
        reach = s.size_mm * (0.6 + s.washer)
        found = beside(ground, table, reach, None, task)
        rise = bevelled(found.depth, s.rim_mm, ground, s.round)
        on = covered(found.depth, ground)
        if s.form in ("hole", "slot"):
            height = 1 - rise
        else:
            low = 0.3 if s.washer > 0 else 0.0
            plate = np.float32(low) * _disc(s, ground, x, y, task) if s.washer > 0 else np.float32(0)
            height = np.maximum(plate, on * (np.float32(low) + np.float32(1 - low) * rise))
            if s.sunk > 0:  # out to a distance of the size the sheet bends in
                away = np.clip(-found.depth / np.float32(s.size_mm * 0.6), 0, 1)
                height = height - np.float32(0.3 * s.sunk) * np.square(1 - away) * (1 - on)
                height = (height + np.float32(0.3 * s.sunk)) / np.float32(1 + 0.3 * s.sunk)
        made = told(found, ground, s.seed, ("id", "border", "random"))
        made["id"] = np.where(on > np.float32(0.5), made["id"], 0)
        return Drawn(np.clip(height, 0, 1).astype(np.float32), {**made, "stud": on})


def _shapes(s: StudsSettings, x: NDArray[Any], y: NDArray[Any], turn: NDArray[Any], half: float) -> NDArray[Any]:
    if s.form == "slot":
        return items(x, y, half * (s.long - 1) + 1e-3, half, turn=turn, radius=half, shape=Shape.STROKE)
    if s.form == "hexagon":
        return items(x, y, half, half * np.sqrt(3), turn=turn, shape=Shape.HEXAGON)
    if s.form == "square":
        return items(x, y, half * s.long, half, turn=turn, radius=0.08 * half)
    return items(x, y, half * s.long, half, turn=turn, shape=Shape.ELLIPSE)


def _disc(s: StudsSettings, ground: Ground, x: NDArray[Any], y: NDArray[Any], task: Task) -> NDArray[Any]:
    radius = s.size_mm / 2 * (1 + s.washer)
    found = beside(ground, items(x, y, radius, radius, shape=Shape.ELLIPSE), ground.texel, None, task)
    return bevelled(found.depth, 0.08 * s.size_mm, ground, 0.5)
