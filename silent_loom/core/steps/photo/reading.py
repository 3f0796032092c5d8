"""Read from light: what the light on a photo tells of the surface, as threads that any row can use."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from silent_loom.core.base.colour import luminance
from silent_loom.core.base.images import Floats, Image, Kind, data
from silent_loom.core.base.parallel import Task
from silent_loom.core.maps import shading
from silent_loom.core.moving.resample import blur, resize
from silent_loom.core.reading.network import shipped
from silent_loom.core.reading.sheet import read_sheet
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import Geometry, MapStep, Sheet
from silent_loom.core.weave.threads import ThreadSpec, helper, spec

RELIEF, SLOPES, LIGHT, OPEN, FINISH, SURE = "relief_read", "slopes_read", "light_read", "openness_read", "finish_read", "sureness"
_DARK = np.float32(0.02)
_GUESS = 0.35
"""Spread of the parts of a normal, as the network expects it of its own error, at which a place counts as half sure."""


class ReadingSettings(Settings):
    light_deg: float | None = setting(
        None,
        "Where the light on the photo came from: 0 from the right, 90 from the top. Told, form is read far more surely.",
        title="Light from",
        unit="°",
        low=-360,
        high=360,
        soft=(0, 360),
        step=1,
        shape="sun",
        empty="not told",
    )
    gentle: float = setting(
        1.0,
        "Where the reading is unsure, the relief is lower by so much of its doubt.",
        title="Gentle where unsure",
        low=0,
        high=1,
        step=0.01,
    )
    thread: ThreadName = setting("base", "The picture that is read.", title="Picture", shape="thread", kinds=(Kind.COLOUR,))


class ReadFromLight(MapStep[ReadingSettings]):
    """Relief, slopes, light, openness and finish as a small network reads them off a picture, and how sure that is.

    Notes
    -----
    The network (a U-Net; Ronneberger, Fischer & Brox 2015) was trained on surfaces of known shape, photographed by code; see
    docs/reading.md for what it saw and what it cannot. The picture is turned so that the light comes from the right, read in
    overlapping windows and at several scales, once, at the decision size; other sizes are that reading enlarged or reduced.

    Threads that it makes: relief in millimetres, without its broadest part; slopes as unit normals, green up; light as the share
    of what a flat, open place gets, halved (0.5 is a flat place); openness, the share of the sky that is seen; finish, a guess
    at roughness; sureness, 1 where the reading knows and 0 where it guesses.
    """

    name = "reading"
    can = frozenset({"shading"})
    title = "Read from light"
    panel = "sun"
    words_for_it = ("shading", "sun", "relief", "depth", "shape from shading", "delight", "albedo", "confidence", "height")
    sentence = "Reads relief, light and finish off the light on a photo, and says how sure it is."
    decides = True
    Settings = ReadingSettings

    def words(self, s: ReadingSettings) -> str:
        return "light not told" if s.light_deg is None else f"light from {s.light_deg:g}°"

    def reads(self, s: ReadingSettings) -> tuple[str, ...]:
        return (s.thread,)

    def writes(self, s: ReadingSettings) -> tuple[str, ...]:
        return (RELIEF, SLOPES, LIGHT, OPEN, FINISH, SURE)

    def makes(self, s: ReadingSettings) -> tuple[ThreadSpec, ...]:
        return (
            helper(RELIEF, unit="mm").over(spec("height").depth),
            helper(SLOPES, Kind.NORMAL, says="green up"),
            helper(LIGHT, title="Light read"),
            helper(OPEN, title="Openness read"),
            helper(FINISH, title="Finish read"),
            helper(SURE),
        )

    def mixed(self, s: ReadingSettings) -> tuple[str, ...]:
        return ()

    def decide(self, s: ReadingSettings, inputs: Mapping[str, Image], geometry: Geometry, task: Task) -> Decision:
        image = inputs[s.thread]
        said = read_sheet(shipped(), image, s.light_deg, task)
        sure = _sureness(said.unsure)
        relief = said.height()
        arrays = {
            RELIEF: relief,
            "right": said.right,
            "down": said.down,
            LIGHT: said.shading,
            OPEN: said.occlusion,
            FINISH: said.roughness,
            SURE: sure,
        }
        light = np.log(np.maximum(luminance(image.pixels, task), _DARK))
        soft = light - blur(light, max(light.shape) / 24, image.wraps, task)
        axis, clear = shading.light_axis(soft, image.texel_mm)
        figures: dict[str, Any] = {
            "light_axis": axis,
            "light_sure": clear,
            "sure": round(float(sure.mean()), 3),
            "depth_mm": round(float(np.ptp(np.percentile(relief, [0.5, 99.5]))) * _texel(image.size_mm, relief), 3),
        }
        return Decision({k: v.astype(np.float16) for k, v in arrays.items()}, figures)

    def run(
        self, s: ReadingSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        image = inputs[s.thread]
        a = {name: plane.astype(np.float32) for name, plane in decision.arrays.items()}
        trust = 1 - np.float32(s.gentle) * (1 - a[SURE])
        planes = {
            RELIEF: a[RELIEF] * np.float32(_texel(image.size_mm, a[RELIEF])),
            LIGHT: 0.5 * np.exp(a[LIGHT]),
            OPEN: a[OPEN],
            FINISH: a[FINISH],
            SURE: a[SURE],
        }
        planes[RELIEF] = planes[RELIEF] * _broad(trust, image.wraps, task)
        made = {name: _sized(plane, image, task) for name, plane in planes.items()}
        for name in (OPEN, FINISH, SURE):
            np.clip(made[name].pixels, 0, 1, out=made[name].pixels)
        right, up = a["right"] * trust, -a["down"] * trust
        steep = np.sqrt(np.maximum(1 - right**2 - up**2, np.float32(1e-3)))
        normal = np.stack([right, up, steep], -1).astype(np.float32)
        normal /= np.linalg.norm(normal, axis=-1, keepdims=True)
        small = Image(normal, Kind.NORMAL, image.size_mm, image.wraps)
        made[SLOPES] = resize(small, image.width, image.height, task)
        return made


def _texel(size_mm: tuple[float, float], plane: Any) -> float:
    """Millimetres of a texel of a plane that covers the whole sheet."""
    return float(np.sqrt(size_mm[0] / plane.shape[1] * size_mm[1] / plane.shape[0]))


def _sureness(unsure: Floats) -> Floats:
    """1 where nothing is expected to be wrong, falling with the error that is expected."""
    return np.asarray(1 / (1 + (unsure / np.float32(_GUESS)) ** 2), np.float32)


def _broad(trust: Floats, wraps: bool, task: Task) -> Floats:
    """What trust there is around a place: a relief that is lowered texel by texel would take on the shape of the doubt."""
    return blur(np.ascontiguousarray(trust, np.float32), max(trust.shape) / 64, wraps, task)


def _sized(plane: Any, image: Image, task: Task) -> Image:
    return resize(data(plane, image), image.width, image.height, task)
