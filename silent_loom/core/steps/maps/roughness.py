"""Roughness from a picture, the height or a constant, through a tone curve into limits."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from pydantic import field_validator

from silent_loom.core.base.colour import encode, luminance
from silent_loom.core.base.images import Floats, Image, Kind, data
from silent_loom.core.base.parallel import Task
from silent_loom.core.maps import curve as tone_curve
from silent_loom.core.maps.spared import without
from silent_loom.core.moving.resample import blur
from silent_loom.core.steps.maps.height import not_form
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import Geometry, MapStep, Preset, Sheet, Texels

GREASY = 0.35
"""Roughness spread (5th to 95th percentile) above which a surface tends to look greasy."""


class RoughnessSettings(Settings):
    reads_from: ThreadName = setting(
        "base",
        "What it is read from; 'constant' reads nothing.",
        title="Read from",
        shape="thread",
        kinds=(Kind.COLOUR, Kind.DATA),
        also=("constant",),
    )
    low: float = setting(
        0.5,
        "Roughness where the curve is at its bottom.",
        title="Lower limit",
        low=0,
        high=1,
        step=0.01,
        ends=("mirror", "chalk"),
    )
    high: float = setting(
        0.8,
        "Roughness where the curve is at its top; a constant is this value.",
        title="Upper limit",
        low=0,
        high=1,
        step=0.01,
        ends=("mirror", "chalk"),
    )
    curve: tone_curve.Points = setting(
        tone_curve.STRAIGHT, "From what is read, dark to light or low to high, to roughness.", shape="curve"
    )
    invert: bool = setting(True, "Dark (or low) is rough.")
    local: float = setting(
        0.12,
        "How far roughness may stray from what lies around it; more of it looks greasy.",
        title="Local contrast",
        low=0.01,
        high=1,
        step=0.01,
    )
    read: ThreadName = setting(
        "none",
        "A finish that was read from light: it is a roughness already, and takes the place of what the limits say.",
        title="Finish read",
        shape="thread",
        kinds=(Kind.DATA,),
        also=("none",),
    )
    read_amount: float = setting(1.0, "How much of the finish that was read is taken.", title="Of that", low=0, high=1, step=0.01)
    spare: ThreadName = not_form()
    joints: ThreadName = setting(
        "none",
        "Joints lie where this thread is high: they are rough, however pale.",
        title="Joints",
        shape="thread",
        kinds=(Kind.DATA,),
        also=("none",),
    )
    joint_roughness: float = setting(
        0.9,
        "Roughness of the joints.",
        low=0,
        high=1,
        step=0.01,
        ends=("mirror", "chalk"),
    )

    @field_validator("curve")
    @classmethod
    def _rising(cls, value: tone_curve.Points) -> tone_curve.Points:
        return tone_curve.checked(value)


def _finish(title: str, low: float, high: float, kind: str = "") -> Preset:
    return Preset(title, {"low": low, "high": high}, kind)


class Roughness(MapStep[RoughnessSettings]):
    """What is read is spread from its 1st to its 99th percentile, goes through the curve, and into the limits.

    Notes
    -----
    Where roughness strays from its local mean, a Gaussian of a 40th of the repeat, by more than ``local`` allows, the excess
    is bent back smoothly (a hyperbolic tangent): glints beside dull grains are what makes a surface look greasy.
    """

    name = "roughness"
    title = "Roughness"
    words_for_it = ("gloss", "shine", "matt", "smoothness", "reflection", "finish", "wet", "polished", "roughness map", "glossy")
    sentence = "How matt the surface is, read from another thread through a curve."
    version = 2
    decides = True
    decision_scale = 0.5
    Settings = RoughnessSettings
    presets = (
        _finish("Wet", 0.06, 0.22, "finish"),
        _finish("Polished", 0.12, 0.28),
        _finish("Glazed", 0.18, 0.35),
        _finish("Oiled", 0.3, 0.48),
        _finish("Satin", 0.4, 0.58),
        _finish("Dry", 0.6, 0.82),
        _finish("Weathered", 0.7, 0.9),
        _finish("Chalky", 0.85, 0.97),
        _finish("Pile", 0.82, 0.94),
        _finish("Felt", 0.92, 1.0),
    )

    def upgrade(self, settings: dict[str, Any], from_version: int) -> dict[str, Any]:
        return settings if from_version >= 2 else {"low": 0.45, "local": 1.0, **settings}

    def words(self, s: RoughnessSettings) -> str:
        return f"{s.high:g}" if s.reads_from == "constant" else f"{s.low:g} to {s.high:g} from {s.reads_from}"

    def reads(self, s: RoughnessSettings) -> tuple[str, ...]:
        named = (s.reads_from, s.joints, s.spare if s.reads_from != "constant" else "none", s.read)
        return tuple(dict.fromkeys(n for n in named if n not in ("constant", "none")))

    def does_without(self, s: RoughnessSettings) -> tuple[str, ...]:
        return () if s.read == "none" else (s.read,)

    def writes(self, s: RoughnessSettings) -> tuple[str, ...]:
        return ("roughness",)

    def halo(self, s: RoughnessSettings, after: Geometry, texels: Texels) -> int | None:
        return 0 if s.local >= 1 and s.spare == "none" else None

    def decide(self, s: RoughnessSettings, inputs: Mapping[str, Image], geometry: Geometry, task: Task) -> Decision:
        if s.reads_from == "constant":
            return Decision({}, {"low": 0.0, "high": 1.0})
        image = _read_from(s, inputs)
        plane = scalar(image, task)
        low, high = (float(v) for v in np.percentile(plane[::2, ::2], [1, 99]))
        made = _made(s, plane, low, high, image, task)[::4, ::4]
        p5, p95 = np.percentile(made, [5, 95])
        warnings: tuple[str, ...] = ()
        if p95 - p5 > GREASY:
            warnings = (f"Roughness varies by {p95 - p5:.2f}; beyond {GREASY} a surface tends to look greasy.",)
        return Decision({}, {"low": low, "high": high, "spread": float(p95 - p5)}, warnings)

    def run(
        self, s: RoughnessSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        low, high = decision.figures["low"], decision.figures["high"]
        if s.reads_from == "constant" or high - low < 1e-6:
            made = sheet.flat("roughness", s.high)
        else:
            image = _read_from(s, inputs)
            made = data(_made(s, scalar(image, task), low, high, image, task), image)
        if s.read in inputs and s.read_amount:
            finish = np.clip(inputs[s.read].pixels, 0, 1)
            made = made.with_pixels(made.pixels + np.float32(s.read_amount) * (finish - made.pixels))
        if s.joints == "none":
            return {"roughness": made}
        joint = np.clip(inputs[s.joints].pixels, 0, 1)
        return {"roughness": made.with_pixels(made.pixels + joint * (np.float32(s.joint_roughness) - made.pixels))}


def _read_from(s: RoughnessSettings, inputs: Mapping[str, Image]) -> Image:
    image = inputs[s.reads_from]
    return image if s.spare == "none" else without(image, inputs[s.spare])


def _made(s: RoughnessSettings, plane: Floats, low: float, high: float, image: Image, task: Task) -> Floats:
    """Roughness of a plane that may be written to, its joints apart."""
    plane -= np.float32(low)
    plane *= np.float32(1 / max(high - low, 1e-6))
    np.clip(plane, 0, 1, out=plane)
    if s.invert:
        np.subtract(1, plane, out=plane)
    if s.curve != tone_curve.STRAIGHT:
        plane = tone_curve.through(plane, s.curve)
    plane *= np.float32(s.high - s.low)
    plane += np.float32(s.low)
    if s.local < 1:
        sigma = max(image.size_mm) / 40
        mean = blur(plane, (sigma / image.texel_mm[0], sigma / image.texel_mm[1]), image.wraps, task)
        plane -= mean
        plane /= np.float32(s.local)
        np.tanh(plane, out=plane)
        plane *= np.float32(s.local)
        plane += mean
    return plane


def scalar(image: Image, task: Task) -> Floats:
    """One plane: sRGB-encoded luminance of colour, the plane itself of data. A fresh array.

    >>> from silent_loom.core.base.parallel import IDLE
    >>> scalar(Image(np.full((1, 1, 3), 0.214, np.float32), Kind.COLOUR), IDLE).ravel().round(2).tolist()
    [0.5]
    """
    if image.kind is Kind.COLOUR:
        return encode(luminance(image.pixels, task), task)
    return image.plane().copy()
