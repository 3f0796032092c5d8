"""Ramps: colours, or numbers, laid out over the values of another thread."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Mapping
from typing import Any, Literal

import numpy as np
from pydantic import field_validator

from silent_loom.core.base.colour import encode, luminance
from silent_loom.core.base.images import Floats, Image, Kind, data
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import IDLE, Task, over_rows
from silent_loom.core.maps import curve as tone_curve
from silent_loom.core.maps.elements import labels_of, random
from silent_loom.core.steps.tone.tone import Stop, ramp_of
from silent_loom.core.weave import threads
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import Geometry, MapStep, Sheet, Texels

KINDS = (Kind.DATA, Kind.CHANNELS, Kind.COLOUR, Kind.ID)
FINE = 2048
"""Places of a table between which values are interpolated."""
_CHANNELS = {"first": 0, "second": 1, "third": 2, "fourth": 3}


class _By(Settings):
    last = ("into",)

    thread: ThreadName = setting(
        "height",
        "The thread whose values it follows, from the lowest to the highest it can hold; for elements, by chance.",
        title="By",
        shape="thread",
        kinds=KINDS,
    )
    channel: Literal["first", "second", "third", "fourth"] = setting("first", "Which channel, where it has several.")
    low: float = setting(
        0.0, "Where it begins, in parts of the thread's range.", title="From", low=-2, high=3, soft=(0, 1), step=0.01
    )
    high: float = setting(1.0, "Where it ends.", title="To", low=-2, high=3, soft=(0, 1), step=0.01)


class RampSettings(_By):
    ramp: tuple[Stop, ...] = setting(
        ((0.0, 0.2, 0.18, 0.16), (1.0, 0.75, 0.7, 0.62)), "Colours from low to high.", title="Colours", shape="ramp"
    )
    into: ThreadName = setting("base", "The colour that it makes.", title="Makes", shape="thread", kinds=(Kind.COLOUR,), new=True)

    @field_validator("ramp")
    @classmethod
    def _stops(cls, value: tuple[Stop, ...]) -> tuple[Stop, ...]:
        if not 1 <= len(value) <= 16:
            raise ValueError("a ramp has 1 to 16 colours")
        if any(not 0 <= v <= 1 for stop in value for v in stop):
            raise ValueError("places and colours of a ramp lie between 0 and 1")
        return tuple(sorted(value))


class GradeSettings(_By):
    start: float = setting(
        0.0, "Where the other thread is low, in parts of this one's range.", title="Low becomes", low=0, high=1, step=0.01
    )
    end: float = setting(1.0, "Where it is high.", title="High becomes", low=0, high=1, step=0.01)
    curve: tone_curve.Points = setting(tone_curve.STRAIGHT, "How it passes from one to the other.", shape="curve")
    into: ThreadName = setting(
        "roughness", "The numbers that it makes.", title="Makes", shape="thread", kinds=(Kind.DATA,), new=True
    )

    @field_validator("curve")
    @classmethod
    def _rising(cls, value: tone_curve.Points) -> tone_curve.Points:
        return tone_curve.checked(value)


class _Laid(MapStep[Any]):
    """What both have in common."""

    def reads(self, s: _By) -> tuple[str, ...]:
        return (s.thread,)

    def halo(self, s: _By, after: Geometry, texels: Texels) -> int:
        return 0

    def objects(self, s: _By, present: Mapping[str, threads.ThreadSpec]) -> str:
        meaning = present[s.thread]
        if meaning.kind is Kind.CHANNELS and _CHANNELS[s.channel] >= len(meaning.neutral):
            return f"{meaning.title.lower()} has {len(meaning.neutral)} channels"
        return "" if s.low != s.high else "it begins and ends at the same value"

    def run(self, s: _By, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task) -> dict[str, Image]:
        image = inputs[s.thread]
        plane, scale, offset = values(s, image, sheet.meaning(s.thread), task)
        table = self.table(s, sheet)
        part = 1 / (s.high - s.low)
        out = np.empty((image.height, image.width, table.shape[1]), np.float32)
        fixed = plane, table, np.float32(scale * part), np.float32((offset - s.low) * part), out
        over_rows(image.height, lambda a, b: _look_up(*fixed, a, b), task, cost=image.width * 2e-4)
        return {self.writes(s)[0]: self.image(out, image)}

    @abstractmethod
    def table(self, s: Any, sheet: Sheet) -> Floats:
        """Values at even places, shape (N, C)."""

    @abstractmethod
    def image(self, out: Floats, like: Image) -> Image:
        """The result as an image."""


class Ramp(_Laid):
    """Straight between colours in sRGB values."""

    name = "dye"
    can = frozenset({"dye"})
    title = "Dye"
    words_for_it = ("ramp", "gradient", "colour", "colourise", "map", "palette", "tint", "elements")
    sentence = "Colours by the values of another thread: by height, by chance for each element, by noise."
    Settings = RampSettings

    def words(self, s: RampSettings) -> str:
        return f"by {s.thread.replace('_', ' ')}"

    def writes(self, s: RampSettings) -> tuple[str, ...]:
        return (s.into,)

    def makes_of(self, s: RampSettings, present: Mapping[str, threads.ThreadSpec]) -> tuple[threads.ThreadSpec, ...]:
        usual = present.get(s.into) or threads.spec(s.into)
        return (usual if usual.kind is Kind.COLOUR else threads.helper(s.into, Kind.COLOUR),)

    def table(self, s: RampSettings, sheet: Sheet) -> Floats:
        return np.ascontiguousarray(ramp_of(s.ramp, np.linspace(0, 1, FINE, dtype=np.float32)))

    def image(self, out: Floats, like: Image) -> Image:
        return Image(out, Kind.COLOUR, like.size_mm, like.wraps)


class Grade(_Laid):
    """Plain numbers through a curve, in the range of the thread that is made."""

    name = "grade"
    can = frozenset({"grade"})
    title = "Grade"
    words_for_it = ("ramp", "range", "remap", "levels", "roughness", "numbers", "fit", "curve", "constant", "invert")
    sentence = "Plain numbers by the values of another thread: roughness by height, opacity by a mask."
    Settings = GradeSettings

    def words(self, s: GradeSettings) -> str:
        return f"{s.into.replace('_', ' ')} by {s.thread.replace('_', ' ')}"

    def writes(self, s: GradeSettings) -> tuple[str, ...]:
        return (s.into,)

    def makes_of(self, s: GradeSettings, present: Mapping[str, threads.ThreadSpec]) -> tuple[threads.ThreadSpec, ...]:
        usual = present.get(s.into) or threads.spec(s.into)
        return (usual if usual.kind is Kind.DATA else threads.helper(s.into),)

    def table(self, s: GradeSettings, sheet: Sheet) -> Floats:
        made = self.makes_of(s, sheet.meanings)[0]
        t = tone_curve.table(s.curve, FINE) if s.curve != tone_curve.STRAIGHT else np.linspace(0, 1, FINE)
        part = s.start + (s.end - s.start) * t
        return np.ascontiguousarray(made.low + made.depth * part, np.float32)[:, None]

    def image(self, out: Floats, like: Image) -> Image:
        return data(out[..., 0], like)


def values(s: _By, image: Image, meaning: threads.ThreadSpec, task: Task = IDLE) -> tuple[Floats, float, float]:
    """A plane, and the factor and offset that make 0…1 of its thread's range.

    >>> from silent_loom.core.weave.threads import spec
    >>> half = Image(np.full((1, 1, 1), 0.5, np.float32), Kind.DATA)
    >>> values(RampSettings(), half, spec("roughness"))[1:]
    (1.0, -0.0)
    """
    if image.kind is Kind.COLOUR:
        return encode(luminance(image.pixels, task), task), 1.0, 0.0
    if image.kind is Kind.ID:
        labels = labels_of(image.plane())
        chance = random(int(labels.max()) + 1, 1, 0).astype(np.float32)
        return np.ascontiguousarray(chance[labels]), 1.0, 0.0
    if image.kind is Kind.CHANNELS:
        return np.ascontiguousarray(image.pixels[..., _CHANNELS[s.channel]]), 1.0, 0.0
    scale, offset = meaning.scale()
    return np.ascontiguousarray(image.plane()), float(scale), float(offset)


@kernel("f4[:,::1], f4[:,::1], f4, f4, f4[:,:,::1], i8, i8")
def _look_up(plane, table, scale, offset, out, y0, y1):  # type: ignore[no-untyped-def]
    last = table.shape[0] - 1
    for y in range(y0, y1):
        for x in range(plane.shape[1]):
            t = (plane[y, x] * scale + offset) * np.float32(last)
            t = min(max(t, np.float32(0)), np.float32(last))
            i = np.uintp(t)
            j = min(i + np.uintp(1), np.uintp(last))
            f = t - np.float32(i)
            for k in range(table.shape[1]):
                out[y, x, k] = table[i, k] + f * (table[j, k] - table[i, k])
