"""Smooth steps: the stairs of a source with few codes taken out of a map, its edges kept."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from silent_loom.core.base.colour import encode
from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.parallel import Task
from silent_loom.core.base.srgb import decode_srgb
from silent_loom.core.maps.stairs import unstepped
from silent_loom.core.moving.resample import normalise
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import MapStep, Sheet


class StepsSettings(Settings):
    thread: ThreadName = setting(
        "height",
        "The map that shows stairs.",
        title="Map",
        shape="thread",
        kinds=(Kind.DATA, Kind.COLOUR, Kind.NORMAL, Kind.CHANNELS),
    )
    levels: int = setting(
        256,
        "Codes over the whole range of the map: 256 for a source of 8 bits.",
        low=4,
        high=65536,
        soft=(16, 1024),
        step=1,
    )


class Steps(MapStep[StepsSettings]):
    """By no more than half a code: colour in sRGB-encoded values, normals in their parts, everything else over its range."""

    name = "steps"
    can = frozenset({"unstep"})
    title = "Smooth steps"
    words_for_it = ("banding", "deband", "stairs", "terraces", "8 bit", "quantised", "dither", "bits")
    sentence = "Takes the stairs of 8-bit sources out of slopes, by no more than rounding has hidden; edges stay."
    Settings = StepsSettings

    def words(self, s: StepsSettings) -> str:
        return f"{s.thread.replace('_', ' ')}, {s.levels} levels"

    def reads(self, s: StepsSettings) -> tuple[str, ...]:
        return (s.thread,)

    def writes(self, s: StepsSettings) -> tuple[str, ...]:
        return (s.thread,)

    def run(
        self, s: StepsSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        image = inputs[s.thread]
        colour = image.kind is Kind.COLOUR
        whole = encode(image.pixels, task) if colour else image.pixels
        step = (1.0 if colour else sheet.meaning(s.thread).depth) / (s.levels - 1)
        planes = [unstepped(whole[..., k], step, image.wraps, task) for k in range(whole.shape[2])]
        done = np.ascontiguousarray(np.stack(planes, 2), np.float32)
        if colour:
            done = decode_srgb(done).astype(np.float32)
        return {s.thread: image.with_pixels(normalise(done) if image.kind is Kind.NORMAL else done)}
