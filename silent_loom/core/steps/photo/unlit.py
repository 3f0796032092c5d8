"""Colour without light: the light that was read off a photo divided out of its colour."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import Task
from silent_loom.core.moving.resample import blur
from silent_loom.core.steps.photo.reading import LIGHT
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import Geometry, MapStep, Sheet

FLAT = np.float32(0.5)
"""A flat, open place in the thread of light."""


class UnlitSettings(Settings):
    amount: float = setting(1.0, "How much of the light that was read is taken out.", low=0, high=1, step=0.01)
    fill: float = setting(
        0.12,
        "Where less light than this fell, against a flat and open place, colour is filled from what lies around.",
        title="Fill shadows below",
        low=0,
        high=1,
        soft=(0, 0.5),
        step=0.01,
    )
    reach: float = setting(
        0.01,
        "How far away colour is fetched from for shadows.",
        title="Fill from",
        unit="of the sheet",
        low=0.001,
        high=0.1,
        log=True,
    )
    light: ThreadName = setting(LIGHT, "The light that was read.", title="Light", shape="thread", kinds=(Kind.DATA,))
    thread: ThreadName = setting("base", "The colour it is taken out of.", title="Of", shape="thread", kinds=(Kind.COLOUR,))


class ColourWithoutLight(MapStep[UnlitSettings]):
    """Colour is what was seen over the light that fell (Barrow & Tenenbaum 1978); in the dark nothing was seen.

    Notes
    -----
    All channels are divided alike, so hue stays. Where the light falls below ``fill`` the answer fades into a normalised blur of
    what is known around (Knutsson & Westin, Normalized and differential convolution, 1993): dividing there by next to nothing
    would bring up noise. The mean brightness is kept.
    """

    name = "unlit"
    title = "Colour without light"
    words_for_it = ("delight", "albedo", "shadow", "shading", "light", "base colour")
    sentence = "Divides the light that was read off the photo out of its colour, and fills shadows in which nothing was seen."
    decides = True
    decision_scale = 0.5
    Settings = UnlitSettings

    def words(self, s: UnlitSettings) -> str:
        return f"{s.amount:.0%}"

    def reads(self, s: UnlitSettings) -> tuple[str, ...]:
        return (s.thread, s.light)

    def does_without(self, s: UnlitSettings) -> tuple[str, ...]:
        return (s.light,)

    def writes(self, s: UnlitSettings) -> tuple[str, ...]:
        return (s.thread,)

    def idle(self, s: UnlitSettings) -> bool:
        return s.amount == 0

    def decide(self, s: UnlitSettings, inputs: Mapping[str, Image], geometry: Geometry, task: Task) -> Decision:
        if s.light not in inputs:
            return Decision({}, {"gain": 1.0})
        before = inputs[s.thread].pixels
        after = _without(s, before, inputs[s.light], task)
        return Decision({}, {"gain": float(before.mean() / max(float(after.mean()), 1e-6))})

    def run(
        self, s: UnlitSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        image = inputs[s.thread]
        if s.light not in inputs:
            return {s.thread: image}
        pixels = _without(s, image.pixels, inputs[s.light], task)
        pixels *= np.float32(decision.figures["gain"])
        return {s.thread: image.with_pixels(pixels)}


def _without(s: UnlitSettings, colour: Floats, light: Image, task: Task) -> Floats:
    fell = np.maximum(light.pixels / FLAT, np.float32(0.02))
    out: Floats = np.ascontiguousarray(colour * fell ** np.float32(-s.amount), np.float32)
    if s.fill == 0 or float(fell.min()) >= 1.5 * s.fill:
        return out
    known = np.clip(fell / np.float32(s.fill) - np.float32(0.5), 0, 1)  # from nothing at half of the limit to all at 1.5 of it
    wide = s.reach * max(light.size_mm)
    sigma = wide / light.texel_mm[0], wide / light.texel_mm[1]
    around = np.stack([blur(np.ascontiguousarray(out[..., k] * known[..., 0]), sigma, light.wraps, task) for k in range(3)], -1)
    there = blur(np.ascontiguousarray(known[..., 0]), sigma, light.wraps, task)[..., None]
    filled = around / np.maximum(there, np.float32(1e-3))
    mixed: Floats = known * out + (1 - known) * filled
    return np.ascontiguousarray(mixed, np.float32)
