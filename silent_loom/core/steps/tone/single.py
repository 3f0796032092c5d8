"""Single out: one channel of a thread as a thread of its own, for masks and for other steps to read."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

import numpy as np

from silent_loom.core.base.colour import encode, luminance
from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.images import Floats, Image, Kind, data
from silent_loom.core.base.parallel import Task
from silent_loom.core.weave import threads
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import Geometry, MapStep, Sheet, Texels

_CHANNELS = {"first": 0, "second": 1, "third": 2, "fourth": 3}


class SingleSettings(Settings):
    thread: ThreadName = setting(
        "base",
        "Where it is taken from.",
        title="Taken from",
        shape="thread",
        kinds=(Kind.COLOUR, Kind.DATA, Kind.NORMAL, Kind.VECTOR, Kind.CHANNELS),
    )
    channel: Literal["lightness", "first", "second", "third", "fourth"] = setting(
        "lightness",
        "The lightness of a colour, or one channel: red, green or blue of a colour; right or up of directions.",
        names={"first": "first: red, right", "second": "second: green, up", "third": "third: blue, out"},
    )
    invert: bool = setting(False, "Low is high.")
    whole: bool = setting(
        False, "0 to 1 becomes the whole range of the thread that it makes: for a height, its depth.", title="Over its range"
    )
    name: ThreadName = setting("helper", "Name of the thread that it makes.", title="Makes", shape="thread", new=True)


class Single(MapStep[SingleSettings]):
    """Colour in sRGB-encoded values, directions from −1…1 to 0…1, plain numbers as they are."""

    name = "single"
    can = frozenset({"single"})
    title = "Single out"
    words_for_it = ("channel", "helper", "mask", "split", "copy", "thread", "extract")
    sentence = "Makes a thread of its own out of one channel: for masks, and for other steps to read."
    Settings = SingleSettings

    def words(self, s: SingleSettings) -> str:
        return f"{s.name.replace('_', ' ')} from {s.thread.replace('_', ' ')}"

    def reads(self, s: SingleSettings) -> tuple[str, ...]:
        return (s.thread,)

    def writes(self, s: SingleSettings) -> tuple[str, ...]:
        return (s.name,)

    def halo(self, s: SingleSettings, after: Geometry, texels: Texels) -> int:
        return 0

    def makes_of(self, s: SingleSettings, present: Mapping[str, threads.ThreadSpec]) -> tuple[threads.ThreadSpec, ...]:
        usual = present.get(s.name) or threads.spec(s.name)
        return (usual if usual.kind is Kind.DATA else threads.helper(s.name),)

    def run(
        self, s: SingleSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        image = inputs[s.thread]
        plane = self._plane(s, image, task)
        meaning = sheet.meaning(s.thread)
        if meaning.unit or image.kind in (Kind.NORMAL, Kind.VECTOR):
            scale, offset = meaning.scale()
            plane = plane * scale + offset
        plane = 1 - plane if s.invert else plane
        if s.whole:
            made = self.makes_of(s, sheet.meanings)[0]
            plane = plane * np.float32(made.depth) + np.float32(made.low)
        return {s.name: data(plane, image)}

    def _plane(self, s: SingleSettings, image: Image, task: Task) -> Floats:
        channels = image.pixels.shape[2]
        if s.channel == "lightness":
            return encode(luminance(image.pixels, task), task) if image.kind is Kind.COLOUR else image.pixels[..., 0].copy()
        at = _CHANNELS[s.channel]
        if at >= channels:
            raise WeaveError(f"{s.thread.replace('_', ' ')} has {channels} channels", self.title, "Choose another channel.")
        plane = np.ascontiguousarray(image.pixels[..., at])
        return encode(plane, task) if image.kind is Kind.COLOUR else plane
