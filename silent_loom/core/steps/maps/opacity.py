"""Opacity: what is cut out, with colour carried outwards past its edge."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

import numpy as np

from silent_loom.core.base.colour import lab, lab_distance
from silent_loom.core.base.images import Floats, Image, Kind, data
from silent_loom.core.base.parallel import Task
from silent_loom.core.base.srgb import decode_srgb
from silent_loom.core.maps.bleed import bled
from silent_loom.core.maps.distance import signed
from silent_loom.core.moving.resample import blur
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.marks import Region, mask_of
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import MapStep, Sheet

Rgb = tuple[float, float, float]


class OpacitySettings(Settings):
    by: Literal["key colour", "outline", "thread"] = setting(
        "key colour", "What is cut out: everything of one colour, what lies outside an outline, or where a thread is low."
    )
    key: Rgb = setting((1.0, 1.0, 1.0), "Colour of the background.", shape="colour", when={"by": ["key colour"]})
    tolerance: float = setting(
        12.0,
        "How far from that colour is still background, in CIE L*a*b* units.",
        unit="ΔE",
        low=0,
        high=150,
        soft=(0, 60),
        step=0.5,
        when={"by": ["key colour"]},
    )
    softness: float = setting(
        10.0, "Width of the change-over.", unit="ΔE", low=0.1, high=80, step=0.1, when={"by": ["key colour"]}
    )
    regions: tuple[Region, ...] = setting((), "What is kept: drawn round, painted, or picked.", title="Kept", shape="regions")
    mask: ThreadName = setting(
        "height",
        "Present where this thread is high.",
        title="Thread",
        shape="thread",
        kinds=(Kind.DATA,),
        when={"by": ["thread"]},
    )
    threshold: float = setting(
        0.5,
        "The value from which it is present, from the thread's lowest to its highest.",
        low=0,
        high=1,
        step=0.01,
        when={"by": ["thread"]},
    )
    border: float = setting(0.1, "Width of the change-over.", low=0.005, high=1, step=0.005, when={"by": ["thread"]})
    edge_mm: float = setting(
        0.0,
        "Moves the edge outwards, or inwards below zero.",
        title="Edge",
        unit="mm",
        low=-100,
        high=100,
        soft=(-5, 5),
        step=0.01,
    )
    clean: bool = setting(True, "Takes the background's colour out of the edge.", title="Clean edge")
    reads_from: ThreadName = setting(
        "base", "The picture it is cut from.", title="Cut from", shape="thread", kinds=(Kind.COLOUR,)
    )


class Opacity(MapStep[OpacitySettings]):
    """Opacity 0…1, and the picture with its own colours carried outwards: no dark rim at any size."""

    name = "opacity"
    version = 2
    title = "Opacity"
    words_for_it = ("alpha", "cut", "transparent", "mask", "leaf", "key", "hole")
    sentence = "Cuts out by colour, outline or mask, and carries colour past the edge so that no rim shows."
    Settings = OpacitySettings

    def words(self, s: OpacitySettings) -> str:
        return f"by {s.by}"

    def reads(self, s: OpacitySettings) -> tuple[str, ...]:
        return (s.reads_from, s.mask) if s.by == "thread" else (s.reads_from,)

    def writes(self, s: OpacitySettings) -> tuple[str, ...]:
        return ("opacity", s.reads_from) if s.clean else ("opacity",)

    def run(
        self, s: OpacitySettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        picture = inputs[s.reads_from]
        plane = self._there(s, inputs, sheet, task)
        if s.edge_mm:
            plane = moved(plane, s.edge_mm, picture, task)
        made = {"opacity": data(plane, picture)}
        if s.clean:
            made[s.reads_from] = picture.with_pixels(bled(picture.pixels, plane, picture.wraps))
        return made

    def _there(self, s: OpacitySettings, inputs: Mapping[str, Image], sheet: Sheet, task: Task) -> Floats:
        picture = inputs[s.reads_from]
        if s.by == "thread":
            scale, offset = sheet.meaning(s.mask).scale()
            t = inputs[s.mask].plane() * scale + offset
            return np.clip((t - np.float32(s.threshold)) / np.float32(s.border) + np.float32(0.5), 0, 1).astype(np.float32)
        if s.by == "key colour":
            key = lab(decode_srgb(np.array([s.key], np.float32)))[0]
            far = lab_distance(picture.pixels, key, np.ones(3), task)
            t = np.clip((far - np.float32(s.tolerance)) / np.float32(s.softness), 0, 1)
            return (t * t * (3 - 2 * t)).astype(np.float32)
        kept = mask_of(s.regions, picture, picture.width, picture.height, wraps=picture.wraps).astype(np.float32)
        return kept if not s.regions else np.clip(blur(kept, 0.6, picture.wraps, task), 0, 1)


def moved(plane: Floats, by_mm: float, like: Image, task: Task) -> Floats:
    """A mask with its edge moved outwards by so many millimetres, a texel soft.

    >>> from silent_loom.core.base.images import Kind
    >>> from silent_loom.core.base.parallel import IDLE
    >>> hole = Image(np.ones((8, 8, 1), np.float32), Kind.DATA, (8.0, 8.0))
    >>> moved(hole.plane(), 1.0, hole, IDLE).min()
    np.float32(1.0)
    """
    far = signed(plane >= 0.5, like.wraps, like.texel_mm)
    soft = np.float32(max(like.texel_mm))
    out: Floats = np.clip((far + np.float32(by_mm)) / soft + np.float32(0.5), 0, 1).astype(np.float32)
    return out
