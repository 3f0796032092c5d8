"""Mould: a height worked on in places, each kept as an entry of its own."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Literal

import numpy as np
from pydantic import field_validator

from silent_loom.core.base.images import Floats, Image, Kind, data
from silent_loom.core.base.parallel import Task
from silent_loom.core.maps import curve as tone_curve
from silent_loom.core.maps.distance import inside
from silent_loom.core.maps.elements import labels_of
from silent_loom.core.moving.resample import blur
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.marks import Region, mask_of
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import MapStep, Preset, Sheet
from silent_loom.core.weave.threads import ThreadSpec

ROUND: tone_curve.Points = ((0.0, 0.0), (0.1, 0.44), (0.3, 0.71), (0.6, 0.92), (1.0, 1.0))
"""A quarter of a circle, from the border to the middle."""


class MouldSettings(Settings):
    regions: tuple[Region, ...] = setting(
        (), "Where: drawn round, painted, picked by tone or by element.", title="Where", shape="regions"
    )
    action: Literal["raise", "lower", "flatten", "fill", "soften", "dome", "curve"] = setting(
        "raise",
        "What is done there. Flatten brings it to its mean, fill raises what lies deep, dome rounds it up from its border.",
        names={"curve": "tone curve"},
    )
    amount_mm: float = setting(
        1.0,
        "How much; for a dome, its height in the middle: below zero it is a hollow.",
        title="Amount",
        unit="mm",
        low=-10_000,
        high=10_000,
        soft=(-20, 20),
        step=0.01,
        when={"action": ["raise", "lower", "dome"]},
    )
    strength: float = setting(
        1.0, "How much of it takes effect.", low=0, high=1, step=0.01, when={"action": ["flatten", "fill", "soften", "curve"]}
    )
    radius_mm: float = setting(
        5.0,
        "How far it is softened, or how wide the hollows are that get filled.",
        title="Radius",
        unit="mm",
        low=0.01,
        high=10_000,
        soft=(0.1, 100),
        log=True,
        when={"action": ["soften", "fill"]},
    )
    reach_mm: float = setting(
        0.0,
        "From the border to where a dome has its whole height.",
        title="Reach",
        unit="mm",
        low=0,
        high=10_000,
        soft=(0, 200),
        step=0.1,
        empty="to the middle",
        when={"action": ["dome"]},
    )
    profile: tone_curve.Points = setting(
        ROUND, "For a dome, from border to middle; for a tone curve, from low to high.", shape="curve"
    )
    feather_mm: float = setting(
        1.0, "Softness of its border.", title="Feather", unit="mm", low=0, high=1e4, soft=(0, 50), step=0.1
    )
    thread: ThreadName = setting("height", "What is worked on.", shape="thread", kinds=(Kind.DATA,))
    reads_from: ThreadName = setting(
        "base", "The picture in which tones are picked.", title="Picked in", shape="thread", kinds=(Kind.COLOUR,)
    )
    ids: ThreadName = setting(
        "none", "Elements that may be picked.", title="Elements", shape="thread", kinds=(Kind.ID,), also=("none",)
    )

    @field_validator("profile")
    @classmethod
    def _rising(cls, value: tone_curve.Points) -> tone_curve.Points:
        return tone_curve.checked(value)


class Mould(MapStep[MouldSettings]):
    """Acts within its places and nowhere else; lengths in millimetres of the thread's own unit."""

    name = "mould"
    title = "Mould"
    can = frozenset({"marks"})
    words_for_it = ("raise", "lower", "flatten", "dome", "bulge", "hollow", "region", "local", "height", "sculpt")
    sentence = "Works on the height in places: raise, lower, flatten, fill, soften, a dome. Each stays an entry of its own."
    Settings = MouldSettings
    presets = (
        Preset("Raise", {"action": "raise", "amount_mm": 1.0}, "what to do"),
        Preset("Lower", {"action": "lower", "amount_mm": 1.0}),
        Preset("Flatten", {"action": "flatten"}),
        Preset("Fill", {"action": "fill"}),
        Preset("Soften", {"action": "soften"}),
        Preset("Dome", {"action": "dome", "amount_mm": 4.0, "profile": ROUND}),
        Preset("Hollow", {"action": "dome", "amount_mm": -4.0, "profile": ROUND}),
        Preset("Cone", {"action": "dome", "amount_mm": 4.0, "profile": tone_curve.STRAIGHT}),
    )

    def words(self, s: MouldSettings) -> str:
        count = len(s.regions)
        return f"{s.action}, {count} place{'' if count == 1 else 's'}"

    def reads(self, s: MouldSettings) -> tuple[str, ...]:
        tones = (s.reads_from,) if any(r.kind == "tone" for r in s.regions) else ()
        return (s.thread, *tones, *(() if s.ids == "none" else (s.ids,)))

    def writes(self, s: MouldSettings) -> tuple[str, ...]:
        return (s.thread,)

    def makes_of(self, s: MouldSettings, present: Mapping[str, ThreadSpec]) -> tuple[ThreadSpec, ...]:
        """The range of the height grows with what is raised or lowered, so that nothing is cut on delivery."""
        meaning = present.get(s.thread)
        by = {"raise": s.amount_mm, "lower": -s.amount_mm, "dome": s.amount_mm}.get(s.action, 0.0)
        if meaning is None or not meaning.unit or not s.regions or not by:
            return ()
        return (replace(meaning, low=meaning.low + min(0.0, by), high=meaning.high + max(0.0, by)),)

    def idle(self, s: MouldSettings) -> bool:
        return not s.regions

    def run(
        self, s: MouldSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        image = inputs[s.thread]
        ids = None if s.ids == "none" else labels_of(inputs[s.ids].plane())
        marked = mask_of(s.regions, inputs.get(s.reads_from), image.width, image.height, ids, wraps=image.wraps)
        if not marked.any():
            return {s.thread: image}
        tx, ty = image.texel_mm
        soft = (max(s.feather_mm / 2 / tx, 0.4), max(s.feather_mm / 2 / ty, 0.4))
        weight = np.clip(blur(marked.astype(np.float32), soft, image.wraps, task), 0, 1)
        plane = image.plane()
        if s.action == "dome":
            return {s.thread: data(plane + np.float32(s.amount_mm) * self._rounded(s, marked, image), image)}
        wanted = self._wanted(s, plane, marked, image, task)
        amount = 1.0 if s.action in ("raise", "lower") else s.strength
        return {s.thread: data(plane + np.float32(amount) * weight * (wanted - plane), image)}

    @staticmethod
    def _rounded(s: MouldSettings, marked: np.ndarray[tuple[int, ...], np.dtype[np.bool_]], image: Image) -> Floats:
        far = inside(marked, image.wraps, image.texel_mm)
        reach = s.reach_mm or float(far.max())
        # Half a texel of the distance lies before the first texel's middle
        t = np.clip((far - np.float32(min(image.texel_mm) / 2)) / np.float32(max(reach, 1e-6)), 0, 1)
        return np.where(marked, tone_curve.through(t, s.profile), 0).astype(np.float32)

    @staticmethod
    def _wanted(
        s: MouldSettings, plane: Floats, marked: np.ndarray[tuple[int, ...], np.dtype[np.bool_]], image: Image, task: Task
    ) -> Floats:
        if s.action in ("raise", "lower"):
            return plane + np.float32(s.amount_mm if s.action == "raise" else -s.amount_mm)
        if s.action == "flatten":
            return np.full_like(plane, plane[marked].mean())
        sigma = (s.radius_mm / 2 / image.texel_mm[0], s.radius_mm / 2 / image.texel_mm[1])
        if s.action == "soften":
            return blur(plane, sigma, image.wraps, task)
        if s.action == "fill":
            return np.maximum(plane, blur(plane, sigma, image.wraps, task))
        low, high = float(plane[marked].min()), float(plane[marked].max())
        t = (plane - np.float32(low)) / np.float32(max(high - low, 1e-9))
        return np.float32(low) + np.float32(high - low) * tone_curve.through(np.clip(t, 0, 1), s.profile)
