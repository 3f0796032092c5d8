"""Curvature: where the relief bulges and where it is hollow, at one scale."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from silent_loom.core.base.images import Floats, Image, Kind, data
from silent_loom.core.base.parallel import Task
from silent_loom.core.moving.resample import blur
from silent_loom.core.weave import threads
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import Geometry, MapStep, Sheet

WIDER = 1.6
"""How much wider the second blur is: their difference comes nearest to a Laplacian of a Gaussian (Marr & Hildreth 1980)."""
MOST = 0.995
"""Share of the surface whose curvature lies within −1 and 1."""


class CurvatureSettings(Settings):
    scale_mm: float = setting(
        5.0,
        "Features about this wide; finer ones are smoothed away, broader ones count little.",
        title="Scale",
        unit="mm",
        low=0.01,
        high=10_000,
        soft=(0.2, 100),
        log=True,
    )
    strength: float = setting(1.0, "Steeper or gentler around the middle.", low=0, high=20, soft=(0, 4), step=0.01)
    reads_from: ThreadName = setting(
        "height", "The height it is made from.", title="Made from", shape="thread", kinds=(Kind.DATA,)
    )


class Curvature(MapStep[CurvatureSettings]):
    """Difference of two Gaussians of the height, over what all but the sharpest half per cent of the surface has."""

    name = "curvature"
    title = "Curvature"
    words_for_it = ("cavity", "ridge", "edge", "wear", "convex", "concave", "crevice", "hollow", "dirt", "edges", "grime")
    sentence = "Tells ridges from hollows: curvature −1 to 1, and hollows and ridges each by themselves, to limit other steps."
    decides = True
    decision_scale = 0.5
    Settings = CurvatureSettings

    def words(self, s: CurvatureSettings) -> str:
        return f"at {s.scale_mm:g} mm"

    def reads(self, s: CurvatureSettings) -> tuple[str, ...]:
        return (s.reads_from,)

    def writes(self, s: CurvatureSettings) -> tuple[str, ...]:
        return ("curvature", "cavity", "ridge")

    def makes(self, s: CurvatureSettings) -> tuple[threads.ThreadSpec, ...]:
        return (
            threads.helper("curvature", low=-1.0, high=1.0, read_of=True),
            threads.helper("cavity"),
            threads.helper("ridge"),
        )

    def decide(self, s: CurvatureSettings, inputs: Mapping[str, Image], geometry: Geometry, task: Task) -> Decision:
        bulge = bulging(inputs[s.reads_from], s.scale_mm, task)
        most = float(np.quantile(np.abs(bulge), MOST))
        if most < 1e-9:
            return Decision({}, {"most": 0.0}, ("The height is flat at this scale: there is no curvature.",))
        return Decision({}, {"most": most})

    def run(
        self, s: CurvatureSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        height = inputs[s.reads_from]
        most = decision.figures["most"]
        bulge = bulging(height, s.scale_mm, task)
        signed = np.clip(bulge * np.float32(s.strength / most if most else 0), -1, 1)
        return {
            "curvature": data(signed, height),
            "cavity": data(np.maximum(-signed, 0), height),
            "ridge": data(np.maximum(signed, 0), height),
        }


def bulging(height: Image, scale_mm: float, task: Task) -> Floats:
    """How far a height rises above what lies around it at a scale, in millimetres, shape (H, W): above zero on ridges.

    >>> from silent_loom.core.base.images import Kind
    >>> from silent_loom.core.base.parallel import IDLE
    >>> bulging(Image(np.zeros((8, 8, 1), np.float32), Kind.DATA, wraps=True), 20.0, IDLE).max()
    np.float32(0.0)
    """
    (tx, ty), sigma = height.texel_mm, scale_mm / 2
    near = blur(height.plane(), (sigma / tx, sigma / ty), height.wraps, task)
    wide = blur(height.plane(), (WIDER * sigma / tx, WIDER * sigma / ty), height.wraps, task)
    return near - wide
