"""Height read from a picture: relief weighed by feature size, from brightness and from shading."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from pydantic import field_validator

from silent_loom.core.base.colour import channel_mix, encode
from silent_loom.core.base.images import Floats, Image, Kind, data
from silent_loom.core.base.parallel import Task
from silent_loom.core.maps import curve as tone_curve
from silent_loom.core.maps import shading
from silent_loom.core.maps import sizes as by_size
from silent_loom.core.maps.spared import without
from silent_loom.core.maps.stain import Stain, learn
from silent_loom.core.moving.resample import blur
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import Geometry, MapStep, Preset, Sheet
from silent_loom.core.weave.threads import ThreadSpec, spec

SIZES: tuple[by_size.Handle, ...] = ((0.006, 0.15, 0.4), (0.02, 0.5, 0.5), (0.06, 0.9, 0.4), (0.17, 0.8, 0.2), (0.5, 0.3, 0.0))
"""Fine features may be noise, the broadest are mostly light and stain; shading tells most about those between."""
_OLD = ("fine", "small", "middling", "large", "broad")
WHOLE = 0.7
"""Spread of what is read, in sRGB-encoded values, that fills the depth by contrast."""
FINE = 1 / 400
"""Blur that parts the finest features from the rest, as a part of the repeat's longer side."""
WHOLE_DEPTH = "whole depth"
_HEAD = 0.04
"""Part of the depth kept free at either end, so that other sizes do not clip."""


def not_form() -> Any:
    """The setting of a step that reads form out of colour: what has colour and no form."""
    return setting(
        "none",
        "A mask of lichen, paint or rust: colour that has no form, and does not count here.",
        title="Colour, not form",
        shape="thread",
        kinds=(Kind.DATA,),
        also=("none",),
    )


class HeightSettings(Settings):
    depth_mm: float = setting(
        10.0,
        "From black to white of the height map.",
        title="Depth",
        unit="mm",
        low=0.001,
        high=100_000,
        soft=(0.1, 100),
        log=True,
    )
    fill: Literal["by contrast", "whole depth", "as read"] = setting(
        "by contrast",
        "As deep as the picture is contrasty, so that an even picture stays even; or whatever is read takes up the whole depth; "
        "or as deep as a relief that was read from light says, at most the depth.",
        title="Depth is used",
        names={"by contrast": "by contrast", "whole depth": "all of it", "as read": "as read from light"},
    )
    sizes: tuple[by_size.Handle, ...] = setting(
        SIZES,
        "How much of each feature size: above the line bright is high, below it dark is high, on it off.",
        title="Feature sizes",
        shape="sizes",
    )
    guard: float = setting(
        1.0,
        "Keeps changes of colour without a change of shading from becoming depth.",
        title="Stain guard",
        low=0,
        high=4,
        soft=(0, 3),
        step=0.05,
    )
    light_deg: float | None = setting(
        None,
        "Where the light on the photo came from: 0 from the right, 90 from the top. Then shading is read as slope, too.",
        title="Light from",
        unit="°",
        low=-360,
        high=360,
        soft=(0, 360),
        step=1,
        shape="sun",
        empty="not told",
    )
    relief: ThreadName = setting(
        "none",
        "A relief that was read from light: the share of shading in each feature size is taken of it.",
        title="Relief from light",
        shape="thread",
        kinds=(Kind.DATA,),
        also=("none",),
    )
    contrast: float = setting(
        0.0,
        "Steeper or gentler around the middle; beyond the depth it is cut on delivery.",
        unit="%",
        low=-100,
        high=300,
        soft=(-100, 100),
        step=1,
    )
    invert: bool = setting(False, "Dark is high.")
    curve: tone_curve.Points = setting(tone_curve.STRAIGHT, "From what is read, low to high, to height.", shape="curve")
    soften_mm: float = setting(0.0, "Smooths the relief.", title="Soften", unit="mm", low=0, high=1000, soft=(0, 20), step=0.01)
    fine: float = setting(
        1.0,
        "How much of the finest features: below 1 softer (noise is there, too), above 1 sharper.",
        low=0,
        high=4,
        soft=(0, 2),
        step=0.01,
    )
    reads_from: ThreadName = setting(
        "base", "What it is read from.", title="Read from", shape="thread", kinds=(Kind.COLOUR, Kind.DATA)
    )
    spare: ThreadName = not_form()
    red: float = setting(0.2126, "Share of the red channel in what is read as height.", low=-2, high=2, soft=(0, 1), step=0.01)
    green: float = setting(0.7152, "Share of the green channel.", low=-2, high=2, soft=(0, 1), step=0.01)
    blue: float = setting(0.0722, "Share of the blue channel.", low=-2, high=2, soft=(0, 1), step=0.01)

    @field_validator("sizes")
    @classmethod
    def _in_order(cls, value: tuple[by_size.Handle, ...]) -> tuple[by_size.Handle, ...]:
        return by_size.checked(value)

    @field_validator("curve")
    @classmethod
    def _rising(cls, value: tone_curve.Points) -> tone_curve.Points:
        return tone_curve.checked(value)


@dataclass(frozen=True)
class _Read:
    """What a relief is read with, beside the settings: light's part of it, and what brings that to the energy of brightness."""

    stain: Stain | None = None
    gain: float = 0.0
    light: Floats | None = None


class Height(MapStep[HeightSettings]):
    """Channel mix, split by feature size, weighed, and set into the depth.

    Notes
    -----
    White is up. The mix is read in sRGB-encoded values, in which steps of tone look even, and weighed by feature size (see
    `maps.sizes`; dark is deep, Glencross et al. 2008). Where the light is told, every size takes a share of its relief
    from shading (`shading.integrated`), which is brought to the energy of what brightness says, once, at the decision size.
    What colour explains of brightness (`stain`) is taken off before. The sum is set into the depth by the picture's own
    contrast, or by all but 0.02 % of its extremes where it is to fill the depth. Both are told with the stains in: what the
    guard takes away is not stretched out again, so paint on a flat wall comes out nearly flat. Height is millimetres around
    the middle of the depth, unclamped unless a curve is drawn.
    """

    name = "height"
    can = frozenset({"depth", "shading"})
    title = "Height"
    panel = "relief"
    words_for_it = ("depth", "relief", "displacement", "bump", "deep", "shading", "sun", "height map", "bumps")
    sentence = (
        "Reads height from the picture. A photo shows light, not depth: weigh the feature sizes until the form looks right."
    )
    version = 2
    decides = True
    decision_scale = 0.5
    Settings = HeightSettings
    presets = (
        Preset("Plaster", {"depth_mm": 1.5, "fill": WHOLE_DEPTH}, "kind of surface"),
        Preset(
            "Cloth",
            {
                "depth_mm": 0.8,
                "fill": WHOLE_DEPTH,
                "sizes": ((0.006, 1.0, 0.5), (0.03, 0.8, 0.5), (0.1, 0.3, 0.2), (0.5, 0.1, 0.0)),
            },
        ),
        Preset(
            "Boards",
            {
                "depth_mm": 3.0,
                "fill": WHOLE_DEPTH,
                "sizes": ((0.006, 0.5, 0.4), (0.05, 0.9, 0.4), (0.17, 0.8, 0.2), (0.5, 0.2, 0.0)),
            },
        ),
        Preset("Bricks", {"depth_mm": 6.0, "fill": WHOLE_DEPTH}),
        Preset("Slates", {"depth_mm": 8.0, "fill": WHOLE_DEPTH}),
        Preset(
            "Pebbles",
            {
                "depth_mm": 12.0,
                "fill": WHOLE_DEPTH,
                "sizes": ((0.006, 0.3, 0.4), (0.06, 1.0, 0.5), (0.2, 0.9, 0.3), (0.5, 0.3, 0.0)),
            },
        ),
        Preset("Bark", {"depth_mm": 15.0, "fill": WHOLE_DEPTH}),
        Preset(
            "Rubble",
            {
                "depth_mm": 25.0,
                "fill": WHOLE_DEPTH,
                "sizes": ((0.006, 0.4, 0.4), (0.06, 0.9, 0.4), (0.2, 1.0, 0.3), (0.5, 0.5, 0.0)),
            },
        ),
    )

    def upgrade(self, settings: dict[str, Any], from_version: int) -> dict[str, Any]:
        if from_version >= 2:
            return settings
        kept = {k: v for k, v in settings.items() if k not in _OLD}
        weights = {name: settings[name] for name in _OLD if name in settings}
        if weights:  # five fixed sizes once; they had no guard and no shading
            kept["sizes"] = [[h[0], weights.get(name, h[1]), h[2]] for name, h in zip(_OLD, SIZES, strict=True)]
        return {"guard": 0.0, "fill": "whole depth", **kept}

    def words(self, s: HeightSettings) -> str:
        return f"{s.depth_mm:g} mm deep" + ("" if s.light_deg is None else f", light from {s.light_deg:g}°")

    def reads(self, s: HeightSettings) -> tuple[str, ...]:
        return tuple(dict.fromkeys(t for t in (s.reads_from, s.spare, s.relief) if t != "none"))

    def does_without(self, s: HeightSettings) -> tuple[str, ...]:
        return () if s.relief == "none" else (s.relief,)

    def writes(self, s: HeightSettings) -> tuple[str, ...]:
        return ("height",)

    def makes(self, s: HeightSettings) -> tuple[ThreadSpec, ...]:
        return (spec("height").over(s.depth_mm),)

    def decide(self, s: HeightSettings, inputs: Mapping[str, Image], geometry: Geometry, task: Task) -> Decision:
        image = _read_from(s, inputs)
        stain = learn(image, task) if s.guard > 0 and image.kind is Kind.COLOUR else None
        light = _light(image, s, inputs, task)
        gain = _gain(image, s, light, task)
        light = light if gain else None
        field = relief(image, s, task, _Read(None, gain, light))
        low, middle, high = (float(v) for v in np.percentile(field, [0.02, 50, 99.98]))
        arrays = {} if stain is None else {"stain": stain.table}
        if high - low < 1e-6:
            even = ("The picture is even: there is nothing to read height from.",)
            return Decision({}, {"low": low, "high": low, "flat": True}, even)
        figures: dict[str, Any] = {"low": low, "middle": middle, "high": high, "flat": False, "gain": gain}
        if image.kind is Kind.COLOUR:
            plane = np.log(np.maximum(_plane(image, s, task, None), 0.02))
            soft = plane - blur(plane, max(plane.shape) / 24, image.wraps, task)
            figures["light_axis"], figures["light_sure"] = shading.light_axis(soft, image.texel_mm)
        if stain is not None:
            figures["stain"] = stain.part
        return Decision(arrays, figures)

    def run(
        self, s: HeightSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        image = _read_from(s, inputs)
        f = decision.figures
        if f["flat"]:
            return {"height": data(np.zeros((image.height, image.width), np.float32), image)}
        stain = Stain(decision.arrays["stain"], f["stain"]) if "stain" in decision.arrays else None
        field = relief(image, s, task, _Read(stain, f["gain"], _light(image, s, inputs, task) if f["gain"] else None))
        full = s.depth_mm * (1 - 2 * _HEAD)
        field -= np.float32((f["high"] + f["low"]) / 2)
        span = f["high"] - f["low"]
        field *= np.float32(_to_depth(s, full, span, f["gain"]))
        if s.curve != tone_curve.STRAIGHT:
            field = (tone_curve.through(field / np.float32(full) + np.float32(0.5), s.curve) - np.float32(0.5)) * np.float32(full)
        field *= np.float32((1 + s.contrast / 100) * (-1 if s.invert else 1))
        tx, ty = image.texel_mm
        if s.soften_mm > 0:
            field = blur(field, (s.soften_mm / tx, s.soften_mm / ty), image.wraps, task)
        if s.fine != 1:
            narrow = FINE * max(image.size_mm)
            field += np.float32(s.fine - 1) * (field - blur(field, (narrow / tx, narrow / ty), image.wraps, task))
        return {"height": data(field, image)}


def _read_from(s: HeightSettings, inputs: Mapping[str, Image]) -> Image:
    image = inputs[s.reads_from]
    return image if s.spare == "none" else without(image, inputs[s.spare])


def _plane(image: Image, s: HeightSettings, task: Task, stain: Stain | None) -> Floats:
    """What is read, shape (H, W), freed from stains where they are known."""
    if image.kind is not Kind.COLOUR:
        return image.plane().copy()
    mixed = channel_mix(image.pixels, np.array([s.red, s.green, s.blue], np.float32), task)
    if stain is not None:
        stain.taken_off(mixed, image, s.guard, task)
    return encode(mixed, task)


def _to_depth(s: HeightSettings, full: float, span: float, gain: float) -> float:
    """Millimetres of a unit of what was read."""
    if s.fill == "as read" and s.relief != "none" and gain:
        return min(1 / gain, full / span)
    return full / (span if s.fill == "whole depth" else max(span, WHOLE))


def _light(image: Image, s: HeightSettings, inputs: Mapping[str, Image], task: Task) -> Floats | None:
    """The part that comes from light: a relief that was read, or the linear integral where only the light is told."""
    if not any(share for *_, share in s.sizes):
        return None
    if s.relief in inputs:
        return inputs[s.relief].plane().copy()
    if s.light_deg is None:
        return None
    plane = _plane(image, s, task, None)
    light = np.log(np.maximum(plane, np.float32(0.02))) if image.kind is Kind.COLOUR else plane
    return shading.integrated(light, image.texel_mm, s.light_deg, image.wraps)


def _by_size(plane: Floats, image: Image, weight: Any, task: Task) -> Floats:
    return by_size.weighed(plane, image.texel_mm, max(image.size_mm), image.wraps, weight, task)


def _gain(image: Image, s: HeightSettings, light: Floats | None, task: Task) -> float:
    """What brings relief from light to the energy of relief from brightness, in the sizes that take from light."""
    if light is None:
        return 0.0
    plane, least = _plane(image, s, task, None), 1e-12

    def shared(size: float) -> float:
        weight, share = by_size.along(s.sizes, size)
        return weight * share

    bright = _by_size(plane, image, shared, task).std()
    if s.relief != "none":
        bright, least = max(bright, 1e-4), 1e-6  # an even picture has a relief all the same, an even relief stays even
    return float(bright / max(float(_by_size(light, image, shared, task).std()), least))


def relief(image: Image, s: HeightSettings, task: Task, read: _Read) -> Floats:
    """The weighed sum of the bands, shape (H, W), before it is set into the depth.

    >>> from silent_loom.core.base.images import Kind
    >>> from silent_loom.core.base.parallel import IDLE
    >>> even = Image(np.full((64, 64, 3), 0.2, np.float32), Kind.COLOUR)
    >>> float(np.ptp(relief(even, HeightSettings(), IDLE, _Read())).round(6))
    0.0
    """
    if read.light is None:
        plane = _plane(image, s, task, read.stain)
        return _by_size(plane, image, lambda size: by_size.along(s.sizes, size)[0], task)

    def bright(size: float) -> float:
        weight, share = by_size.along(s.sizes, size)
        return weight * (1 - share)

    def shaded(size: float) -> float:
        weight, share = by_size.along(s.sizes, size)
        return weight * share

    total = np.float32(read.gain) * _by_size(read.light, image, shaded, task)
    if any(weight and share < 1 for _, weight, share in s.sizes):
        total = _by_size(_plane(image, s, task, read.stain), image, bright, task) + total
    return total
