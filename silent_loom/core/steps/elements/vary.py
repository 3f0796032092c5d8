"""Vary: every element a little different in colour, height, lean and roughness."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import Task
from silent_loom.core.maps.elements import labels_of, measured, offsets, random
from silent_loom.core.maps.flood import Labels
from silent_loom.core.steps.tone.tone import hue_saturation
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import MapStep, Preset, Sheet

_LIGHT, _HUE, _CHROMA, _RAISE, _TILT, _WAY, _ROUGH, _CHOSEN = range(8)
"""Which random number of an element steers what."""


class VarySettings(Settings):
    share: float = setting(1.0, "Part of the elements that are varied.", low=0, high=1, step=0.01)
    light: float = setting(
        0.25, "Lighter or darker, by up to so many stops.", title="Light", unit="stops", low=0, high=4, step=0.01
    )
    hue_deg: float = setting(4.0, "Hue, either way.", title="Hue", unit="°", low=0, high=180, soft=(0, 60), step=0.5)
    chroma: float = setting(
        10.0, "More or less colourful, by up to so much.", title="Saturation", unit="%", low=0, high=100, step=1
    )
    raise_mm: float = setting(
        0.0, "Higher or lower, by up to so much.", title="Raise", unit="mm", low=0, high=1000, soft=(0, 10), step=0.01
    )
    lean_deg: float = setting(
        0.0, "Leans any way, by up to so much.", title="Lean", unit="°", low=0, high=45, soft=(0, 10), step=0.1
    )
    roughness: float = setting(0.05, "Rougher or smoother, by up to so much.", low=0, high=1, step=0.01)
    ids: ThreadName = setting("id", "The elements.", title="Elements", shape="thread", kinds=(Kind.ID,))
    joint: ThreadName = setting(
        "none", "What stays as it is: the joints.", title="Spare", shape="thread", kinds=(Kind.DATA,), also=("none",)
    )
    seed: int = setting(1, "Another wall of the same elements.", low=0, high=2**31 - 1, step=1)


class Vary(MapStep[VarySettings]):
    """Random numbers of each element, the same at every size; a lean goes about the element's own middle."""

    name = "vary"
    title = "Vary elements"
    words_for_it = ("random", "bricks", "stones", "colour", "lean", "id", "each")
    sentence = "Makes every brick, stone or plank a little different: colour, height, lean, roughness."
    Settings = VarySettings
    presets = (
        Preset("Barely", {"light": 0.12, "hue_deg": 2.0, "chroma": 5.0, "roughness": 0.03}, "how much"),
        Preset("Lively", {"light": 0.4, "hue_deg": 8.0, "chroma": 20.0, "raise_mm": 1.0, "lean_deg": 1.0, "roughness": 0.08}),
        Preset("Patched", {"share": 0.3, "light": 0.6, "hue_deg": 12.0, "chroma": 25.0, "roughness": 0.1}),
    )

    def words(self, s: VarySettings) -> str:
        return f"{s.share:.0%} of them, seed {s.seed}"

    def _on(self, s: VarySettings) -> tuple[str, ...]:
        return (
            (("base",) if s.light or s.hue_deg or s.chroma else ())
            + (("height",) if s.raise_mm or s.lean_deg else ())
            + (("roughness",) if s.roughness else ())
        )

    def reads(self, s: VarySettings) -> tuple[str, ...]:
        return (s.ids, *(() if s.joint == "none" else (s.joint,)), *self._on(s))

    def does_without(self, s: VarySettings) -> tuple[str, ...]:
        return self._on(s)

    def writes(self, s: VarySettings) -> tuple[str, ...]:
        return self._on(s)

    def idle(self, s: VarySettings) -> bool:
        return s.share == 0 or not self._on(s)

    def run(self, s: VarySettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task) -> dict[str, Image]:
        ids = inputs[s.ids]
        labels = labels_of(ids.plane())
        count = int(labels.max()) + 1

        def swing(channel: int) -> Floats:
            return ((random(count, s.seed, channel) * 2 - 1) * (random(count, s.seed, _CHOSEN) < s.share)).astype(np.float32)

        spare = 1 - np.clip(inputs[s.joint].pixels, 0, 1) if s.joint != "none" else np.float32(1)
        made: dict[str, Image] = {}
        on = [t for t in self._on(s) if t in inputs]
        if "base" in on:
            base = inputs["base"].pixels
            mats = np.stack(
                [
                    hue_saturation(float(h) * s.hue_deg, 1 + float(c) * s.chroma / 100) * np.float32(2.0 ** (float(v) * s.light))
                    for h, c, v in zip(swing(_HUE), swing(_CHROMA), swing(_LIGHT), strict=True)
                ]
            )
            turned = np.maximum(np.matmul(mats[labels], base[..., None])[..., 0], 0)
            made["base"] = inputs["base"].with_pixels(np.ascontiguousarray(base + spare * (turned - base), np.float32))
        if "height" in on:
            plane = inputs["height"].pixels
            moved = plane + np.float32(s.raise_mm) * swing(_RAISE)[labels][..., None]
            if s.lean_deg:
                moved = moved + lean(labels, ids, swing(_TILT) * s.lean_deg, random(count, s.seed, _WAY))[..., None]
            made["height"] = inputs["height"].with_pixels(np.ascontiguousarray(plane + spare * (moved - plane), np.float32))
        if "roughness" in on:
            rough = inputs["roughness"].pixels
            made["roughness"] = inputs["roughness"].with_pixels(
                np.clip(rough + spare * np.float32(s.roughness) * swing(_ROUGH)[labels][..., None], 0, 1).astype(np.float32)
            )
        return made


def lean(labels: Labels, like: Image, degrees: Floats, way: np.ndarray[tuple[int], np.dtype[np.float64]]) -> Floats:
    """What has to be added to a height, in millimetres, for each label to lean by its own angle in its own direction.

    >>> from silent_loom.core.base.images import Kind
    >>> labels = np.ones((4, 4), np.int32)
    >>> like = Image(np.zeros((4, 4, 1), np.float32), Kind.DATA, (4.0, 4.0))
    >>> lean(labels, like, np.array([0.0, 45.0], np.float32), np.zeros(2))[0].tolist()
    [-1.5, -0.5, 0.5, 1.5]
    """
    told = measured(labels, like.wraps)
    h, w = labels.shape
    tx, ty = like.texel_mm
    yy, xx = np.mgrid[0:h, 0:w]
    dx = offsets(xx, told.x[labels], w, like.wraps) * tx
    dy = offsets(yy, told.y[labels], h, like.wraps) * ty
    slope, angle = np.tan(np.deg2rad(degrees))[labels], (way * 2 * np.pi)[labels]
    out: Floats = (slope * (dx * np.cos(angle) + dy * np.sin(angle))).astype(np.float32)
    return out
