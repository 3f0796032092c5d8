"""Worn edges: where handling, weather and traffic reach first."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from silent_loom.core.base.images import Floats, Image, Kind, data
from silent_loom.core.base.parallel import Task
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.noise import cells_of, noise
from silent_loom.core.steps.maps.curvature import MOST, bulging
from silent_loom.core.weave import threads
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import Geometry, MapStep, Preset, Sheet

BROADER = 4.0
"""What stands out within a ring this many times as wide is reached more easily."""
LEAST = 0.02
"""Nothing that bulges less than this part of the sharpest edges is worn, however large a share is asked for."""


class WearSettings(Settings):
    scale_mm: float = setting(
        4.0,
        "Edges about this wide.",
        title="Width",
        unit="mm",
        low=0.01,
        high=10_000,
        soft=(0.2, 100),
        log=True,
    )
    share: float = setting(0.08, "How much of the surface is worn.", low=0, high=0.6, soft=(0, 0.3), step=0.005)
    standing_out: float = setting(
        0.5, "Edges of what stands out from its surroundings wear sooner.", title="Standing out", low=0, high=1, step=0.01
    )
    ragged: float = setting(0.5, "How much chance has to do with it: 0 wears every edge alike.", low=0, high=1, step=0.01)
    grain_mm: float = setting(
        12.0,
        "Size of the patches in which chance acts.",
        title="Patches",
        unit="mm",
        low=0.05,
        high=10_000,
        soft=(1, 200),
        log=True,
    )
    softness: float = setting(0.25, "From a sharp border to one that fades.", low=0, high=1, step=0.01)
    seed: int = setting(1, "Another seed, other places.", low=0, high=2**31 - 1, soft=(0, 100))
    reads_from: ThreadName = setting(
        "height", "The height it is made from.", title="Made from", shape="thread", kinds=(Kind.DATA,)
    )


class Wear(MapStep[WearSettings]):
    """A mask of worn edges, 0 to 1: convex places, those of what stands out first, broken up by noise that repeats.

    Notes
    -----
    How convex a place is tells the difference of two Gaussians of the height, at the width of an edge and four times as
    wide (Marr & Hildreth 1980). Noise moves the level at which it counts; the level is set so that the share asked for is worn.
    """

    name = "wear"
    title = "Worn edges"
    words_for_it = ("edge wear", "edges", "scuffed", "chipped", "rubbed", "bare", "handled", "paint", "convex", "old")
    sentence = "A mask of edges where paint or polish is rubbed off first: those that stand out, broken up by chance."
    decides = True
    decision_scale = 0.5
    Settings = WearSettings
    presets = (
        Preset("Rubbed bare", {"share": 0.15, "ragged": 0.35, "softness": 0.6}),
        Preset("A few chips", {"share": 0.03, "ragged": 1.0, "softness": 0.05, "grain_mm": 20.0}),
    )

    def words(self, s: WearSettings) -> str:
        return f"{100 * s.share:g} % worn"

    def reads(self, s: WearSettings) -> tuple[str, ...]:
        return (s.reads_from,)

    def writes(self, s: WearSettings) -> tuple[str, ...]:
        return ("wear",)

    def makes(self, s: WearSettings) -> tuple[threads.ThreadSpec, ...]:
        return (threads.helper("wear"),)

    def decide(self, s: WearSettings, inputs: Mapping[str, Image], geometry: Geometry, task: Task) -> Decision:
        height = inputs[s.reads_from]
        near, far = (np.quantile(np.abs(b), MOST) for b in _bulges(s, height, task))
        if near < 1e-9:
            return Decision({}, {"near": 0.0, "far": 0.0, "level": 1.0}, ("The height is flat at this width: it has no edges.",))
        figures = {"near": float(near), "far": float(max(far, 1e-9))}
        ground = Ground.of(height.width, height.height, geometry.size_mm)
        reached = _reached(s, height, figures, ground, task)
        return Decision({}, {**figures, "level": max(LEAST, float(np.quantile(reached, 1 - s.share)))})

    def run(self, s: WearSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task) -> dict[str, Image]:
        height, level = inputs[s.reads_from], decision.figures["level"]
        if not decision.figures["near"] or not s.share:
            return {"wear": data(np.zeros((height.height, height.width), np.float32), height)}
        across, down = (mm / pitch for mm, pitch in zip(sheet.after.size_mm, sheet.pitch, strict=True))
        ground = Ground(sheet.width, sheet.height, sheet.after.size_mm, (across, down))
        reached = _reached(s, height, decision.figures, ground, task)
        reach = max(0.02, 0.8 * s.softness) * level
        t = np.clip((reached - np.float32(level - reach)) * np.float32(1 / (2 * reach)), 0, 1)
        return {"wear": data(np.asarray(t * t * (3 - 2 * t), np.float32), height)}


def _bulges(s: WearSettings, height: Image, task: Task) -> tuple[Floats, Floats]:
    return bulging(height, s.scale_mm, task), bulging(height, BROADER * s.scale_mm, task)


def _reached(s: WearSettings, height: Image, figures: Mapping[str, float], ground: Ground, task: Task) -> Floats:
    """How soon each place is worn, shape (H, W); 0 where nothing is convex."""
    near, far = _bulges(s, height, task)
    edge = np.maximum(near, 0) * np.float32(1 / figures["near"])
    out = np.clip(far * np.float32(1 / figures["far"]), -1, 1)
    chance = noise(ground, cells_of(ground, s.grain_mm), octaves=4, seed=s.seed, task=task)
    proud = 1 + np.float32(s.standing_out) * out + np.float32(1.5 * s.ragged) * chance
    return np.asarray(edge * np.maximum(proud, 0), np.float32)
