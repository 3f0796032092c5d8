"""Tone: levels, hue, saturation, brightness and contrast of any thread of colour or data."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial
from typing import Literal

import numpy as np
from pydantic import field_validator, model_validator

from silent_loom.core.base.colour import LUMA, decode_one, encode, encode_one, luminance
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import Task, over_rows
from silent_loom.core.base.srgb import decode_srgb
from silent_loom.core.maps import curve as tone_curve
from silent_loom.core.moving.slopes import normals_of, slopes_of
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import Geometry, MapStep, Sheet, Texels

Stop = tuple[float, float, float, float]
"""Place from dark to light, and red, green, blue as sRGB values, all 0…1."""


class ToneSettings(Settings):
    thread: ThreadName = setting("base", "Which thread is changed.", shape="thread", kinds=(Kind.COLOUR, Kind.DATA, Kind.NORMAL))
    black: float = setting(0.0, "What becomes black.", low=-1, high=1, soft=(0, 1), step=0.005, shape="levels")
    white: float = setting(1.0, "What becomes white.", low=0, high=4, soft=(0, 1), step=0.005)
    gamma: float = setting(
        1.0,
        "Lifts (above 1) or lowers the middle.",
        title="Middle",
        low=0.1,
        high=10,
        soft=(0.2, 5),
        step=0.01,
        log=True,
    )
    brightness: float = setting(
        0.0,
        "Stops of light, up or down; for data, tenths added.",
        unit="stops",
        low=-5,
        high=5,
        soft=(-2, 2),
        step=0.01,
    )
    contrast: float = setting(
        0.0, "Steeper or gentler around the middle.", unit="%", low=-100, high=200, soft=(-100, 100), step=1
    )
    saturation: float = setting(0.0, "More or less colour; −100 is grey.", unit="%", low=-100, high=200, soft=(-100, 100), step=1)
    hue: float = setting(0.0, "Turns all hues.", unit="°", low=-180, high=180, step=1)

    gain: float = setting(
        1.0,
        "Factor on all values; normals take it on their slopes, and nothing else acts on them.",
        low=0,
        high=16,
        soft=(0, 4),
        step=0.01,
    )
    channel: Literal["all", "red", "green", "blue"] = setting(
        "all", "Which channel of a colour levels and curve act on.", names={"all": "all channels"}
    )
    curve: tone_curve.Points = setting(tone_curve.STRAIGHT, "From dark to light, after the levels.", shape="curve")
    ramp: tuple[Stop, ...] = setting(
        (), "Colours laid over the tones, dark to light; plain numbers take their lightness.", title="Ramp", shape="ramp"
    )
    ramp_share: float = setting(1.0, "How much of the ramp shows.", title="Ramp's share", low=0, high=1, step=0.01)

    @field_validator("curve")
    @classmethod
    def _rising(cls, value: tone_curve.Points) -> tone_curve.Points:
        return tone_curve.checked(value)

    @field_validator("ramp")
    @classmethod
    def _stops(cls, value: tuple[Stop, ...]) -> tuple[Stop, ...]:
        if len(value) == 1 or len(value) > 16:
            raise ValueError("a ramp has 2 to 16 stops, or none")
        if any(not 0 <= v <= 1 for stop in value for v in stop):
            raise ValueError("places and colours of a ramp lie between 0 and 1")
        return tuple(sorted(value))

    @model_validator(mode="after")
    def _apart(self) -> ToneSettings:
        if self.white - self.black < 0.005:
            raise ValueError("white must lie above black")
        return self


class Tone(MapStep[ToneSettings]):
    """Levels, contrast and curve act on sRGB-encoded values; gain, brightness, hue and saturation on linear light.

    Notes
    -----
    Hue turns about the grey axis with luminance held (a rotation in the plane of opponent colours, then the Rec. 709
    luminance restored); saturation moves along the line to grey of the same luminance. Of a thread with a unit, as heights
    in millimetres, only ``contrast`` says something: it scales them; levels do not apply.
    """

    name = "tone"
    can = frozenset({"tone"})
    title = "Tone"
    words_for_it = (
        "colour",
        "brightness",
        "contrast",
        "saturation",
        "hue",
        "levels",
        "curve",
        "invert",
        "hsl",
        "exposure",
        "gamma",
        "adjust",
        "black and white",
    )
    sentence = "Levels, hue, saturation, brightness and contrast of one thread."
    Settings = ToneSettings

    def words(self, s: ToneSettings) -> str:
        return s.thread

    def reads(self, s: ToneSettings) -> tuple[str, ...]:
        return (s.thread,)

    def writes(self, s: ToneSettings) -> tuple[str, ...]:
        return (s.thread,)

    def halo(self, s: ToneSettings, after: Geometry, texels: Texels) -> int:
        return 0

    def idle(self, s: ToneSettings) -> bool:
        return s.model_copy(update={"thread": "base"}) == ToneSettings()

    def run(self, s: ToneSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task) -> dict[str, Image]:
        image = inputs[s.thread]
        slope = np.float32(1 + s.contrast / 100 if s.contrast <= 0 else 1 / max(1 - s.contrast / 201, 1e-3))
        if sheet.meaning(s.thread).unit:
            return {s.thread: image.with_pixels(image.pixels * (slope * np.float32(s.gain)))}
        if image.kind is Kind.NORMAL:
            return {s.thread: image.with_pixels(normals_of(slopes_of(image.pixels, task) * np.float32(s.gain), task))}
        if image.kind is Kind.COLOUR:
            return {s.thread: image.with_pixels(self._coloured(s, image, slope, task))}
        t = (image.pixels * np.float32(s.gain) - np.float32(s.black)) / np.float32(s.white - s.black)
        t = np.sign(t) * np.abs(t) ** np.float32(1 / s.gamma)
        t = (t - 0.5) * slope + 0.5 + np.float32(s.brightness / 10)
        if s.curve != tone_curve.STRAIGHT:
            t = tone_curve.through(t, s.curve)
        if s.ramp:
            light = encode(luminance(ramp_of(s.ramp, t[..., 0]), task), task)[..., None]
            t = t + np.float32(s.ramp_share) * (light - t)
        return {s.thread: image.with_pixels(np.ascontiguousarray(t, np.float32))}

    @staticmethod
    def _coloured(s: ToneSettings, image: Image, slope: np.float32, task: Task) -> Floats:
        matrix = hue_saturation(s.hue, 1 + s.saturation / 100) * np.float32(2.0**s.brightness * s.gain)
        out: Floats = np.empty_like(image.pixels)
        levels = (np.float32(s.black), np.float32(1 / (s.white - s.black)), np.float32(1 / s.gamma), slope)
        over_rows(image.height, partial(_colour, image.pixels, matrix, *levels, out), task, cost=image.width * 64 * 6e-5)
        if s.curve != tone_curve.STRAIGHT:
            out = decode_srgb(tone_curve.through(encode(out, task), s.curve)).astype(np.float32)
        if s.channel != "all":
            kept = np.einsum("...j,kj->...k", image.pixels, matrix)
            k = ("red", "green", "blue").index(s.channel)
            kept[..., k] = out[..., k]
            out = kept
        if s.ramp:
            laid = ramp_of(s.ramp, encode(luminance(np.ascontiguousarray(out), task), task))
            out = out + np.float32(s.ramp_share) * (laid - out)
        return np.ascontiguousarray(out, np.float32)


def ramp_of(stops: tuple[Stop, ...], tones: Floats) -> Floats:
    """Linear colours of tones 0…1, shape (..., 3): straight between stops in sRGB values.

    >>> ramp_of(((0.0, 0.0, 0.0, 0.0), (1.0, 1.0, 0.0, 0.0)), np.float32([1.0]))[0].tolist()
    [1.0, 0.0, 0.0]
    """
    at = [stop[0] for stop in stops]
    planes = [np.interp(tones, at, [stop[k] for stop in stops]) for k in (1, 2, 3)]
    out: Floats = decode_srgb(np.stack(planes, -1)).astype(np.float32)
    return out


def hue_saturation(degrees: float, saturation: float) -> np.ndarray[tuple[int, int], np.dtype[np.float32]]:
    """3×3 matrix on linear Rec. 709 that turns hue and scales colourfulness with luminance kept.

    >>> hue_saturation(0.0, 1.0).round(3).tolist()
    [[1.0, 0.0, 0.0], [0.0, 1.0, 0.0], [0.0, 0.0, 1.0]]
    """
    a = np.deg2rad(degrees)
    axis = np.ones(3) / np.sqrt(3)
    cross = np.array([[0, -axis[2], axis[1]], [axis[2], 0, -axis[0]], [-axis[1], axis[0], 0]])
    turn = np.cos(a) * np.eye(3) + np.sin(a) * cross + (1 - np.cos(a)) * np.outer(axis, axis)
    luma = LUMA.astype(np.float64) / LUMA.sum()
    # Bring the luminance of the turned colour back by adding grey
    turn = turn + np.ones((3, 1)) @ (luma[None] - luma[None] @ turn)
    grey = np.ones((3, 1)) @ luma[None]
    return np.ascontiguousarray((grey + saturation * (turn - grey)).astype(np.float32))


@kernel("f4[:,:,::1], f4[:,::1], f4, f4, f4, f4, f4[:,:,::1], i8, i8")
def _colour(src, m, black, scale, gamma, slope, out, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(src.shape[1]):
            r, g, b = src[y, x, 0], src[y, x, 1], src[y, x, 2]
            for k in range(3):
                v = encode_one(m[k, 0] * r + m[k, 1] * g + m[k, 2] * b)
                v = (v - black) * scale
                if gamma != np.float32(1):
                    v = abs(v) ** gamma if v >= 0 else -(abs(v) ** gamma)
                v = (v - np.float32(0.5)) * slope + np.float32(0.5)
                out[y, x, k] = decode_one(v)
