"""Blur or sharpen: a map made softer or crisper at one width."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.parallel import Task
from silent_loom.core.moving.resample import blur
from silent_loom.core.moving.slopes import normals_of, slopes_of
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import Geometry, MapStep, Preset, Sheet, Texels


class SoftenSettings(Settings):
    thread: ThreadName = setting(
        "base",
        "Which map is changed.",
        title="Map",
        shape="thread",
        kinds=(Kind.COLOUR, Kind.DATA, Kind.NORMAL, Kind.CHANNELS),
    )
    width_mm: float = setting(
        1.0,
        "Features up to about this wide are softened or sharpened.",
        title="Width",
        unit="mm",
        low=0.001,
        high=10_000,
        soft=(0.05, 50),
        log=True,
    )
    amount: float = setting(
        1.0,
        "1 takes the features out, 0 leaves them, below 0 makes them crisper.",
        low=-4,
        high=1,
        soft=(-2, 1),
        step=0.05,
        ends=("sharper", "softer"),
    )


class Soften(MapStep[SoftenSettings]):
    """A Gaussian blur mixed in, or taken away as unsharp masking does; colour in linear light, normals as slopes."""

    name = "soften"
    title = "Blur or sharpen"
    words_for_it = ("soften", "smooth", "gaussian", "unsharp", "crisp", "detail", "denoise")
    sentence = "Makes a map softer, or crisper, at one width."
    Settings = SoftenSettings
    presets = (
        Preset("Blur", {"amount": 1.0}, "what to do"),
        Preset("Sharpen", {"amount": -1.0}),
    )

    def words(self, s: SoftenSettings) -> str:
        return f"{s.thread.replace('_', ' ')}, {'softer' if s.amount > 0 else 'sharper'}"

    def reads(self, s: SoftenSettings) -> tuple[str, ...]:
        return (s.thread,)

    def writes(self, s: SoftenSettings) -> tuple[str, ...]:
        return (s.thread,)

    def idle(self, s: SoftenSettings) -> bool:
        return s.amount == 0

    def halo(self, s: SoftenSettings, after: Geometry, texels: Texels) -> int:
        return int(np.ceil(1.5 * s.width_mm / min(after.size_mm[0] / texels[0], after.size_mm[1] / texels[1]))) + 1

    def run(
        self, s: SoftenSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        image = inputs[s.thread]
        tx, ty = sheet.pitch
        sigma = s.width_mm / 2.355  # the width is that of the bell at half its height
        wide = (sigma / tx, sigma / ty)
        pixels = slopes_of(image.pixels, task) if image.kind is Kind.NORMAL else image.pixels
        soft = pixels + np.float32(s.amount) * (blur(np.ascontiguousarray(pixels), wide, image.wraps, task) - pixels)
        if image.kind is Kind.COLOUR:
            soft = np.maximum(soft, 0)
        if image.kind is Kind.NORMAL:
            soft = normals_of(np.ascontiguousarray(soft), task)
        return {s.thread: image.with_pixels(np.ascontiguousarray(soft, np.float32))}
