from __future__ import annotations

import numpy as np
import pytest

from silent_loom.core.images import Image, Kind
from silent_loom.core.parallel import IDLE
from silent_loom.core.photo.light import EvenLight, LightSettings, evenness, illumination
from silent_loom.core.resample import enlarge
from silent_loom.core.weave.step import Geometry, Sheet
from silent_loom.demo.surfaces import SURFACES


def scene(name: str, slope: float = 0.7, vignette: float = 0.8) -> tuple[np.ndarray, np.ndarray, Image]:
    albedo = SURFACES[name]((360, 480), 2.0).colour
    v, u = np.mgrid[0:360, 0:480]
    u, v = u / 480 * 2 - 1, v / 360 * 2 - 1
    light = (2.0 ** (slope * (0.4 * u - 0.3 * v) - vignette * (u * u + 0.56 * v * v) / 1.56)).astype(np.float32)
    return albedo, light, Image(albedo * light[..., None] * 0.9, Kind.COLOUR, (960, 720))


def run(image: Image, s: LightSettings) -> Image:
    step = EvenLight()
    geometry = Geometry(image.size_mm)
    decision = step.decide(s, {"base": image}, geometry, IDLE)
    return step.run(s, {"base": image}, decision, Sheet(geometry, geometry, (image.width, image.height), None), IDLE)["base"]  # type: ignore[arg-type]


@pytest.mark.parametrize("name", ["slate", "plaster", "hull", "tiles"])
def test_albedo_error_falls_and_fine_detail_stays(name: str) -> None:
    albedo, _, lit = scene(name)
    done = run(lit, LightSettings())

    def error(p: np.ndarray) -> float:
        scale = np.exp(np.median(np.log(albedo + 1e-3) - np.log(p + 1e-3)))
        return float(np.abs(np.log(p * scale + 1e-3) - np.log(albedo + 1e-3)).mean())

    assert error(done.pixels) < 0.65 * error(lit.pixels)
    assert evenness(done) < 0.5 * evenness(lit)

    def detail(p: np.ndarray) -> np.ndarray:
        y = np.log(p.mean(2))
        return np.diff(y, n=2, axis=1)  # second differences: the light's own slope is none of the material's detail

    assert np.abs(detail(done.pixels) - detail(lit.pixels)).mean() < 0.02 * np.abs(detail(lit.pixels)).mean()


def test_hue_is_left_alone() -> None:
    _, _, lit = scene("hull")
    done = run(lit, LightSettings())
    ratio = done.pixels / lit.pixels
    assert np.abs(ratio - ratio[..., :1]).max() < 1e-4


def test_illumination_found_is_the_one_laid_on() -> None:
    _, light, lit = scene("plaster")
    found = enlarge(illumination(lit, 0.3, 0.35, IDLE), 480, 360, False)
    want = np.log(light)
    rest = (found - found.mean()) - (want - want.mean())
    assert np.abs(rest).mean() < 0.06
    assert want.std() > 0.15


def test_amount_zero_changes_nothing_and_even_light_stays_even() -> None:
    assert EvenLight().idle(LightSettings(amount=0))
    flat = Image(np.full((100, 150, 3), 0.3, np.float32), Kind.COLOUR, (150, 100))
    assert evenness(flat) < 0.05
    assert np.abs(run(flat, LightSettings()).pixels - 0.3).max() < 1e-3
