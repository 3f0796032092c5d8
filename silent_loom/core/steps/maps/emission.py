"""Emission: light that the surface gives of itself."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

import numpy as np

from silent_loom.core.base.colour import lab, lab_distance
from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.parallel import Task
from silent_loom.core.base.srgb import decode_srgb
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import Geometry, MapStep, Sheet, Texels

Rgb = tuple[float, float, float]


class EmissionSettings(Settings):
    where: Literal["by colour", "by thread", "everywhere"] = setting(
        "by colour", "Where it shines: where the picture has a colour, where a thread is high, or everywhere."
    )
    key: Rgb = setting((1.0, 0.75, 0.35), "Colour of what shines.", shape="colour", when={"where": ["by colour"]})
    tolerance: float = setting(
        20.0,
        "How far from that colour still counts, in CIE L*a*b* units.",
        unit="ΔE",
        low=0,
        high=150,
        soft=(0, 80),
        step=0.5,
        when={"where": ["by colour"]},
    )
    softness: float = setting(
        10.0, "Width of the change-over.", unit="ΔE", low=0.1, high=80, step=0.1, when={"where": ["by colour"]}
    )
    mask: ThreadName = setting(
        "height", "Shines where this thread is high.", shape="thread", kinds=(Kind.DATA,), when={"where": ["by thread"]}
    )
    colour: Literal["of the picture", "one colour"] = setting("of the picture", "Its colour: that of the picture, or one.")
    tint: Rgb = setting((1.0, 0.72, 0.36), "That colour.", shape="colour", when={"colour": ["one colour"]})
    strength: float = setting(1.0, "Factor on its light.", low=0, high=100, soft=(0, 4), step=0.01)
    reads_from: ThreadName = setting(
        "base", "The picture that is looked at.", title="Read from", shape="thread", kinds=(Kind.COLOUR,)
    )


class Emission(MapStep[EmissionSettings]):
    """Linear light: strength × colour × where it shines; a file holds what of it lies within 0…1."""

    name = "emission"
    title = "Emission"
    words_for_it = ("glow", "lamp", "light", "ember", "lit", "shine", "emissive", "luminous")
    sentence = "Light that the surface itself gives off, by colour or by a mask."
    Settings = EmissionSettings

    def words(self, s: EmissionSettings) -> str:
        return f"{s.where}, strength {s.strength:g}"

    def reads(self, s: EmissionSettings) -> tuple[str, ...]:
        picture = s.where == "by colour" or s.colour == "of the picture"
        return ((s.reads_from,) if picture else ()) + ((s.mask,) if s.where == "by thread" else ())

    def writes(self, s: EmissionSettings) -> tuple[str, ...]:
        return ("emission",)

    def halo(self, s: EmissionSettings, after: Geometry, texels: Texels) -> int:
        return 0

    def run(
        self, s: EmissionSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        out = sheet.flat("emission", *(float(v) * s.strength for v in decode_srgb(np.array(s.tint, np.float32))))
        pixels = out.pixels if s.colour == "one colour" else inputs[s.reads_from].pixels * np.float32(s.strength)
        if s.where == "by colour":
            key = lab(decode_srgb(np.array([s.key], np.float32)))[0]
            far = lab_distance(inputs[s.reads_from].pixels, key, np.ones(3), task)
            much = np.clip((np.float32(s.tolerance + s.softness / 2) - far) / np.float32(s.softness), 0, 1)[..., None]
            pixels = pixels * (much * much * (3 - 2 * much))
        elif s.where == "by thread":
            scale, offset = sheet.meaning(s.mask).scale()
            pixels = pixels * np.clip(inputs[s.mask].pixels * scale + offset, 0, 1)
        return {"emission": out.with_pixels(np.ascontiguousarray(pixels, np.float32))}
