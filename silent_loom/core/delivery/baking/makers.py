"""How the maps of a bake are made: as they are, from a larger sheet, or with light in the colour."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Image
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.delivery.reduce import lost, rougher
from silent_loom.core.moving.resample import resize
from silent_loom.core.screen.shading import lamp_light
from silent_loom.core.weave import threads
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.model import Weave

Make = Callable[[str], Image]
LAMP = (-0.58, 0.58, 0.57)
"""Towards the lamp of a lit colour: from the upper left, 35° above the sheet."""
LAMP_LIGHT, SKY = 2.4, 0.45
"""Irradiance of the lamp and radiance of an even sky, by which a flat grey keeps about its tone."""


@dataclass(frozen=True)
class How:
    """How maps are made.

    Attributes
    ----------
    supersample : int
        1, 2 or 4: how many times as large each way they are computed before they are reduced.
    lost_length : bool
        With supersampling: roughness takes up what normals lose.
    lit : bool
        The base colour is the surface under light.
    """

    supersample: int = 1
    lost_length: bool = True
    lit: bool = False


def maker(evaluator: Evaluator, weave: Weave, size: int, how: How, task: Task = IDLE) -> Make:
    """What makes one thread of a weave at a size, as a bake has it."""
    plan = evaluator.plan(weave)
    w, h = plan.geometry.at_longer_side(size)
    width, height = round(w), round(h)

    def plain(name: str) -> Image:
        if how.supersample == 1:
            return evaluator.ask(weave, name, size, task)
        large = evaluator.ask(weave, name, size * how.supersample, task)
        small = resize(large, width, height, task)
        if name == "roughness" and how.lost_length and "normal" in plan.threads:
            spread = lost(evaluator.ask(weave, "normal", size * how.supersample, task), width, height)
            return small.with_pixels(rougher(small.pixels, spread))
        return small

    def make(name: str) -> Image:
        return lit(plain, list(plan.threads)) if name == "base" and how.lit else plain(name)

    return make


def lit(make: Make, present: list[str]) -> Image:
    """The base colour as the surface looks under a lamp and an even sky, from straight above; linear light, 0…1.

    Shaded as the form view is (see `lamp_light`); heights cast no shadows, occlusion darkens the sky alone.
    """
    base = make("base")
    out = np.empty_like(base.pixels)
    maps = {n: make(n) for n in ("normal", "roughness", "metallic", "occlusion", "specular") if n in present}
    to_light = np.array(LAMP) / np.linalg.norm(LAMP)

    def get(name: str, rows: slice) -> NDArray[np.float64]:
        if name in maps:
            return maps[name].pixels[rows].astype(np.float64)
        neutral = np.array(threads.spec(name).neutral, np.float64)
        return np.broadcast_to(neutral, (*base.pixels[rows].shape[:2], len(neutral)))

    for y in range(0, base.height, 256):  # the shading is in double precision
        rows = slice(y, y + 256)
        colour = np.clip(base.pixels[rows].astype(np.float64), 0, 1)
        rough, metal, weight = (np.clip(get(n, rows)[..., 0], 0, 1) for n in ("roughness", "metallic", "specular"))
        light = lamp_light(
            colour,
            get("normal", rows),
            rough,
            metal,
            to_light=to_light,
            to_eye=(0, 0, 1),
            light=(LAMP_LIGHT,) * 3,
            specular=weight,
        )
        out[rows] = np.clip(light + SKY * colour * get("occlusion", rows), 0, 1)
    return base.with_pixels(out)
