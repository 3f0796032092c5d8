from __future__ import annotations

import numpy as np
import pytest
from scipy import ndimage

from silent_loom.core.base.colour import luminance
from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.parallel import IDLE
from silent_loom.core.moving.resample import enlarge
from silent_loom.core.steps.photo.light import (
    EvenLight,
    LightSettings,
    _kept_parts,
    _median_around,
    evenness,
    illumination,
    light_parts,
)
from silent_loom.core.weave.step import Geometry, Sheet
from silent_loom.demo.all_surfaces import SURFACES


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


def laid(u: np.ndarray, v: np.ndarray, slope: float, vignette: float, patches: float) -> dict[str, np.ndarray]:
    """Log light of each sort, mean 0."""
    parts = {
        "slope": slope * (0.6 * u - 0.4 * v),
        "vignette": -vignette * (u * u + 0.5625 * v * v) / 1.5625,
        "patches": patches * np.exp(-(((u - 0.45) / 0.22) ** 2 + ((v + 0.3) / 0.28) ** 2)),
    }
    return {k: (p - p.mean()).astype(np.float32) for k, p in parts.items()}


def lit_sheet(slope: float = 0.0, vignette: float = 0.0, patches: float = 0.0) -> tuple[dict[str, np.ndarray], Image, np.ndarray]:
    albedo = SURFACES["plaster"]((360, 480), 2.0).colour
    v, u = np.mgrid[0:360, 0:480]
    logs = laid(u / 240 - 1, v / 180 - 1, slope, vignette, patches)
    light = np.exp(sum(logs.values()))
    return logs, Image((albedo * light[..., None]).astype(np.float32), Kind.COLOUR, (480, 360)), albedo


@pytest.mark.parametrize("which", ["slope", "vignette"])
def test_slope_and_vignette_are_found_apart(which: str) -> None:
    logs, image, _ = lit_sheet(**{which: 0.5})
    parts = light_parts(image, 0.3)
    plain = light_parts(lit_sheet()[1], 0.3)  # what the surface itself reads as
    for name in ("slope", "vignette"):
        found = enlarge(getattr(parts, name) - getattr(plain, name), 480, 360, False)
        want = logs[name] if name == which else np.zeros_like(found)
        assert np.abs(found - found.mean() - want).max() < 0.06, name


@pytest.mark.parametrize("which", ["slope", "vignette"])
def test_each_part_is_steered_apart(which: str) -> None:
    logs, image, albedo = lit_sheet(slope=0.5, vignette=0.5)
    only = LightSettings(**{"slope": 0, "vignette": 0, "patches": 0, which: 1.0})
    gain = np.log(image.pixels[..., 1] / run(image, only).pixels[..., 1])
    other = "vignette" if which == "slope" else "slope"
    assert np.corrcoef(gain.ravel(), logs[which].ravel())[0, 1] > 0.97
    assert abs(np.corrcoef(gain.ravel(), logs[other].ravel())[0, 1]) < 0.2


def test_a_patch_goes_with_a_small_patch_size_and_stays_with_a_large_one() -> None:
    flat = lit_sheet(patches=0.5)[0]["patches"]
    albedo = 0.3 * np.exp(0.1 * np.random.default_rng(0).standard_normal((360, 480, 1)).repeat(3, 2))
    image = Image((albedo * np.exp(flat)[..., None]).astype(np.float32), Kind.COLOUR, (480, 360))

    def rest(s: LightSettings) -> float:
        left = np.log(run(image, s).pixels[..., 1] / albedo[..., 1])
        return float(np.sqrt(np.square(left - left.mean()).mean()))

    was = float(np.sqrt(np.square(flat).mean()))
    small = rest(LightSettings(slope=0, vignette=0, patches=1.0, reach=0.15))
    large = rest(LightSettings(slope=0, vignette=0, patches=1.0, reach=1.0))
    assert small < 0.6 * was
    assert small < 0.8 * large
    millimetres = rest(LightSettings(slope=0, vignette=0, patches=1.0, reach_mm=0.15 * 480))
    assert millimetres == pytest.approx(small, rel=1e-3)


def test_soft_shadow_is_lifted_and_glare_is_not_touched_by_it() -> None:
    albedo = SURFACES["plaster"]((360, 480), 2.0).colour
    v, u = np.mgrid[0:360, 0:480]
    shade = np.exp(-0.7 * np.exp(-(((u - 140) / 30.0) ** 2 + ((v - 120) / 30.0) ** 2)))
    shine = np.exp(0.7 * np.exp(-(((u - 340) / 30.0) ** 2 + ((v - 240) / 30.0) ** 2)))
    image = Image((albedo * (shade * shine)[..., None]).astype(np.float32), Kind.COLOUR, (480, 360))
    plain = LightSettings(slope=0, vignette=0, patches=0)
    lifted = run(image, plain.model_copy(update={"shadow": 1.0})).pixels / image.pixels
    dimmed = run(image, plain.model_copy(update={"glare": 1.0})).pixels / image.pixels
    dark, light = np.s_[105:135, 125:155], np.s_[225:255, 325:355]
    assert lifted[dark].mean() > 1.2
    assert abs(lifted[light].mean() / np.median(lifted) - 1) < 0.06
    assert dimmed[light].mean() < 0.85
    assert abs(dimmed[dark].mean() / np.median(dimmed) - 1) < 0.06


def test_the_colour_of_the_light_is_evened_and_lightness_kept() -> None:
    albedo = SURFACES["plaster"]((360, 480), 2.0).colour
    u = np.mgrid[0:360, 0:480][1] / 240 - 1
    warm = np.stack([np.exp(0.25 * u), np.ones_like(u), np.exp(-0.25 * u)], -1)
    image = Image((albedo * warm).astype(np.float32), Kind.COLOUR, (480, 360))
    done = run(image, LightSettings(slope=0, vignette=0, patches=0, tint=1.0)).pixels

    def cast(p: np.ndarray) -> float:
        ratio = np.log(p[..., 0] / p[..., 2])
        return float(
            ratio[:, 360:].mean()
            - ratio[:, :120].mean()
            - (np.log(albedo[..., 0] / albedo[..., 2])[:, 360:].mean() - np.log(albedo[..., 0] / albedo[..., 2])[:, :120].mean())
        )

    assert abs(cast(image.pixels)) > 0.5
    assert abs(cast(done)) < 0.1
    assert np.abs(luminance(done) - luminance(image.pixels)).max() < 1e-4


def test_a_picked_grey_becomes_neutral_and_keeps_its_lightness() -> None:
    image = Image(np.full((40, 60, 3), (0.3, 0.25, 0.15), np.float32), Kind.COLOUR, (60, 40))
    done = run(image, LightSettings(amount=0, grey=(0.3, 0.25, 0.15))).pixels
    assert np.abs(done - done[..., :1]).max() < 1e-5
    assert np.abs(luminance(done) - luminance(image.pixels)).max() < 1e-5
    black = run(image, LightSettings(amount=0, grey=(0.0, 0.0, 0.0))).pixels
    assert np.isfinite(black).all()


@pytest.mark.parametrize("reach", [1, 4, 9])
def test_the_usual_around_a_place_is_the_median_of_its_square(reach: int) -> None:
    plane = np.random.default_rng(reach).normal(size=(19, 31)).astype(np.float32)
    wanted = ndimage.median_filter(plane, size=2 * reach + 1, mode="nearest")
    np.testing.assert_array_equal(_median_around(plane, reach), wanted)


def test_kept_parts_belong_to_one_picture_and_one_reach() -> None:
    rng = np.random.default_rng(0)
    bright, other = (
        Image(rng.uniform(0.2, 0.6, (40, 60, 3)).astype(np.float32), Kind.COLOUR, (300.0, 200.0), False) for _ in "ab"
    )
    first = _kept_parts(bright, 0.3, IDLE)
    assert _kept_parts(bright, 0.3, IDLE) is first
    for image, reach in ((other, 0.3), (bright, 0.6)):
        parts = _kept_parts(image, reach, IDLE)
        np.testing.assert_array_equal(parts.patches, light_parts(image, reach).patches)
        assert not np.array_equal(parts.patches, first.patches)
