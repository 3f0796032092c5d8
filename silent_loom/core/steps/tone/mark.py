"""Mark out: a mask of its own, painted, drawn round, picked by tone, by colour or by element."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from silent_loom.core.base.images import Image, Kind, data
from silent_loom.core.base.parallel import Task
from silent_loom.core.maps.distance import signed
from silent_loom.core.maps.elements import labels_of
from silent_loom.core.moving.resample import blur
from silent_loom.core.weave import threads
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.marks import Region, mask_of
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import MapStep, Sheet


class MarkSettings(Settings):
    regions: tuple[Region, ...] = setting(
        (), "Places: painted, drawn round, picked by their tone or by element.", title="Marked", shape="regions"
    )
    grow_mm: float = setting(
        0.0, "Larger, or smaller below zero.", title="Grow", unit="mm", low=-1e4, high=1e4, soft=(-20, 20), step=0.1
    )
    feather_mm: float = setting(
        1.0, "Softness of its border.", title="Feather", unit="mm", low=0, high=1e4, soft=(0, 50), step=0.1
    )
    invert: bool = setting(False, "Everything else instead.")
    reads_from: ThreadName = setting(
        "base", "The picture in which tones are picked.", title="Picked in", shape="thread", kinds=(Kind.COLOUR,)
    )
    ids: ThreadName = setting(
        "none", "Elements that may be picked.", title="Elements", shape="thread", kinds=(Kind.ID,), also=("none",)
    )
    name: ThreadName = setting("mark", "Name of the mask that it makes.", title="Makes", shape="thread", new=True)


class Mark(MapStep[MarkSettings]):
    """1 inside, 0 outside, with a border of even width; drawn anew at every size from what was marked."""

    name = "mark"
    title = "Mark out"
    can = frozenset({"marks", "mask"})
    words_for_it = ("mask", "paint", "brush", "lasso", "select", "region", "pick", "tone", "colour")
    sentence = "Makes a mask by hand: with the brush, an outline, a tone or elements. Any step can then be limited to it."
    Settings = MarkSettings

    def words(self, s: MarkSettings) -> str:
        count = len(s.regions)
        return f"{s.name.replace('_', ' ')}, {count} place{'' if count == 1 else 's'}"

    def reads(self, s: MarkSettings) -> tuple[str, ...]:
        return (s.reads_from,) if s.ids == "none" else (s.reads_from, s.ids)

    def writes(self, s: MarkSettings) -> tuple[str, ...]:
        return (s.name,)

    def makes(self, s: MarkSettings) -> tuple[threads.ThreadSpec, ...]:
        usual = threads.spec(s.name)
        return (usual if usual.kind is Kind.DATA else threads.helper(s.name),)

    def run(self, s: MarkSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task) -> dict[str, Image]:
        picture = inputs[s.reads_from]
        ids = None if s.ids == "none" else labels_of(inputs[s.ids].plane())
        marked = mask_of(s.regions, picture, picture.width, picture.height, ids, wraps=picture.wraps)
        if s.grow_mm:
            marked = signed(marked, picture.wraps, picture.texel_mm) > -s.grow_mm
        tx, ty = picture.texel_mm
        soft = (max(s.feather_mm / 2 / tx, 0.4), max(s.feather_mm / 2 / ty, 0.4))
        plane = np.clip(blur(marked.astype(np.float32), soft, picture.wraps, task), 0, 1)
        return {s.name: data(1 - plane if s.invert else plane, picture)}
