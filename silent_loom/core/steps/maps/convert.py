"""Reflection: what an older set's specular map is made into."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

import numpy as np

from silent_loom.core.base.colour import encode, luminance
from silent_loom.core.base.images import Floats, Image, Kind, data
from silent_loom.core.base.parallel import Task
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import Geometry, MapStep, Preset, Sheet, Texels

DIELECTRIC = 0.04
"""Reflectance of most things that are no metal, straight on."""


class ConvertSettings(Settings):
    into: Literal["specular weight", "roughness", "base and metallic"] = setting(
        "specular weight",
        "Specular weight keeps it as what it most likely is; roughness is a guess, bright is smooth; base and metallic for a "
        "set of diffuse, specular and glossiness.",
    )
    specular: ThreadName = setting(
        "specular_colour", "The specular map.", title="Specular map", shape="thread", kinds=(Kind.COLOUR, Kind.DATA)
    )
    base: ThreadName = setting(
        "base",
        "The diffuse colour that came with it.",
        title="Diffuse",
        shape="thread",
        kinds=(Kind.COLOUR,),
        when={"into": ["base and metallic"]},
    )
    low: float = setting(0.3, "Roughness where it is brightest.", low=0, high=1, step=0.01, when={"into": ["roughness"]})
    high: float = setting(0.9, "Roughness where it is darkest.", low=0, high=1, step=0.01, when={"into": ["roughness"]})


class Convert(MapStep[ConvertSettings]):
    """Specular and diffuse into base and metallic, specular weight, or a guess at roughness.

    Notes
    -----
    With diffuse d, specular s and brightness of each, metallic m solves d·(1 − 0.04) / (1 − m) + 0.04 (1 − …): the share of
    reflectance that a dielectric of 0.04 cannot have (the conversion of the glTF extension for specular and glossiness, by
    Khronos, 2017). A reflectance of 0.04 is no metal. The base is the diffuse where it is none, the specular where it is.
    """

    name = "convert"
    title = "Older specular"
    words_for_it = ("specular", "glossiness", "diffuse", "metal", "old set")
    sentence = "Makes an older set's specular map into specular weight, a guess at roughness, or base and metallic."
    Settings = ConvertSettings
    presets = (
        Preset("Specular weight", {"into": "specular weight"}, "what becomes of it"),
        Preset("Roughness, a guess", {"into": "roughness"}),
        Preset("Base and metallic", {"into": "base and metallic"}),
    )

    def words(self, s: ConvertSettings) -> str:
        return f"into {s.into}"

    def reads(self, s: ConvertSettings) -> tuple[str, ...]:
        return (s.specular, s.base) if s.into == "base and metallic" else (s.specular,)

    def writes(self, s: ConvertSettings) -> tuple[str, ...]:
        return {"specular weight": ("specular",), "roughness": ("roughness",)}.get(s.into, ("base", "metallic"))

    def halo(self, s: ConvertSettings, after: Geometry, texels: Texels) -> int:
        return 0

    def decide(self, s: ConvertSettings, inputs: Mapping[str, Image], geometry: Geometry, task: Task) -> Decision:
        guess = "Roughness is a guess here: nothing in a specular map says how rough a surface is."
        return Decision({}, {}, (guess,) if s.into == "roughness" else ())

    decides = True
    decision_scale = 0.0

    def run(
        self, s: ConvertSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        image = inputs[s.specular]
        if s.into == "base and metallic":
            specular = image.pixels if image.kind is Kind.COLOUR else np.repeat(image.pixels, 3, 2)
            base, metallic = from_specular(inputs[s.base].pixels, specular)
            return {"base": inputs[s.base].with_pixels(base), "metallic": data(metallic, image)}
        plane = encode(luminance(image.pixels, task), task) if image.kind is Kind.COLOUR else image.plane()
        plane = np.clip(plane, 0, 1)
        if s.into == "roughness":
            return {"roughness": data(np.float32(s.high) + np.float32(s.low - s.high) * plane, image)}
        return {"specular": data(plane, image)}


def from_specular(diffuse: Floats, specular: Floats) -> tuple[Floats, Floats]:
    """Base colour, shape (H, W, 3), and metallic, shape (H, W), of linear diffuse and specular colours.

    >>> base, metal = from_specular(np.float32([[[0.5, 0.4, 0.3]], [[0, 0, 0]]]), np.float32([[[0.04] * 3], [[0.9, 0.6, 0.3]]]))
    >>> metal[:, 0].round(2).tolist(), base[1, 0].astype(float).round(2).tolist()
    ([0.0, 1.0], [0.9, 0.6, 0.3])
    """
    weights = np.array([0.299, 0.587, 0.114], np.float32)
    lit = np.sqrt(np.square(diffuse) @ weights)
    mirror = np.sqrt(np.square(specular) @ weights)
    rest = 1 - specular.max(-1)
    b = lit * rest / (1 - DIELECTRIC) + mirror - 2 * DIELECTRIC
    c = DIELECTRIC - mirror
    metal = np.where(mirror <= DIELECTRIC + 1e-4, 0, (-b + np.sqrt(np.maximum(b * b - 4 * DIELECTRIC * c, 0))) / (2 * DIELECTRIC))
    metal = np.clip(metal, 0, 1)[..., None]
    plain = diffuse * (rest[..., None] / (1 - DIELECTRIC) / np.maximum(1 - metal, 1e-4))
    metallic = (specular - DIELECTRIC * (1 - metal)) / np.maximum(metal, 1e-4)
    base = np.clip(plain + np.square(metal) * (metallic - plain), 0, 1)
    return np.ascontiguousarray(base, np.float32), metal[..., 0].astype(np.float32)
