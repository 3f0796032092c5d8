"""Tone, masks, opacity, emission, specular, shading in and out, older sets, a second material: exact figures."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bench.surfaces import surfaces
from silent_loom.core.base.errors import SettingError
from silent_loom.core.base.images import Image, Kind, data
from silent_loom.core.base.parallel import IDLE
from silent_loom.core.base.srgb import decode_srgb, encode_srgb
from silent_loom.core.maps.bleed import bled
from silent_loom.core.maps.horizon import sky_of
from silent_loom.core.moving.resample import blur, reduce_area
from silent_loom.core.report.check import told
from silent_loom.core.steps.maps.convert import Convert, from_specular
from silent_loom.core.steps.maps.emission import Emission
from silent_loom.core.steps.maps.height import Height, HeightSettings
from silent_loom.core.steps.maps.metallic import Metallic
from silent_loom.core.steps.maps.normal import from_height
from silent_loom.core.steps.maps.opacity import Opacity
from silent_loom.core.steps.maps.roughness import Roughness
from silent_loom.core.steps.maps.specular import Specular
from silent_loom.core.steps.tone.mark import Mark
from silent_loom.core.steps.tone.shade import Shade, Unshade
from silent_loom.core.steps.tone.tone import Tone, ramp_of
from silent_loom.core.weave import registry, threads
from silent_loom.core.weave.marks import Region, mask_of
from silent_loom.core.weave.step import Geometry, Sheet
from tests.conftest import as_colour, spectrum
from tests.core.maps.test_maps import run

N = 96
BASE = as_colour(spectrum(N, 1.4, 4))
PLANE = data(np.clip(0.5 + 0.15 * spectrum(N, 1.6, 9), 0, 1).astype(np.float32), BASE)


def made(step: Any, values: dict[str, Any], **inputs: Image) -> dict[str, Image]:
    return run(step, registry.settings_of(step.name, values), **inputs)


# --- tone -----------------------------------------------------------------------------------------------------------


def test_tone_acts_on_one_channel_and_takes_a_curve_and_gain() -> None:
    red = made(Tone(), {"channel": "red", "gamma": 2.0}, base=BASE)["base"].pixels
    assert np.allclose(red[..., 1:], BASE.pixels[..., 1:], atol=1e-6)
    assert (red[..., 0] > BASE.pixels[..., 0]).mean() > 0.9
    assert np.allclose(made(Tone(), {"gain": 2.0}, base=BASE)["base"].pixels, 2 * BASE.pixels, rtol=2e-3)
    down = made(Tone(), {"thread": "roughness", "curve": [[0, 1], [1, 0]]}, roughness=PLANE)["roughness"].pixels
    assert np.allclose(down, 1 - PLANE.pixels, atol=1e-3)


def test_a_ramp_lays_its_stops_over_the_tones() -> None:
    stops = [[0, 0, 0, 0], [0.5, 0.2, 0.4, 0.6], [1, 1, 1, 1]]
    grey = Image(np.repeat(decode_srgb(np.float32([[[0.0], [0.5], [1.0]]])), 3, 2).astype(np.float32), Kind.COLOUR)
    laid = encode_srgb(made(Tone(), {"ramp": stops}, base=grey)["base"].pixels)
    assert np.allclose(laid[0], [[0, 0, 0], [0.2, 0.4, 0.6], [1, 1, 1]], atol=2e-3)
    half = made(Tone(), {"ramp": stops, "ramp_share": 0.5}, base=grey)["base"].pixels
    assert np.allclose(half, (grey.pixels + made(Tone(), {"ramp": stops}, base=grey)["base"].pixels) / 2, atol=1e-5)
    assert ramp_of(((0.0, 0, 0, 0), (1.0, 1, 1, 1)), np.float32([0.5])).shape == (1, 3)
    for wrong in ([[0, 0, 0, 0]], [[0, 0, 0, 2], [1, 0, 0, 0]]):
        with pytest.raises(SettingError):
            registry.settings_of("tone", {"ramp": wrong})


# --- roughness, metallic, specular, emission -------------------------------------------------------------------------


def test_local_contrast_of_roughness_is_held_and_joints_are_rough() -> None:
    joint = data((np.mgrid[0:N, 0:N][1] % 24 < 4).astype(np.float32), BASE)
    wild = made(Roughness(), {"low": 0.0, "high": 1.0, "local": 1.0}, base=BASE)["roughness"].plane()
    calm = made(Roughness(), {"low": 0.0, "high": 1.0, "local": 0.05}, base=BASE)["roughness"].plane()
    fine = [float((p - blur(p, N / 40, True)).std()) for p in (calm, wild)]
    assert fine[0] < 0.6 * fine[1]
    assert abs(calm.mean() - wild.mean()) < 0.03
    rough = made(Roughness(), {"joints": "joint", "joint_roughness": 0.9}, base=BASE, joint=joint)["roughness"].pixels
    assert np.allclose(rough[joint.pixels == 1], 0.9)
    assert Roughness().presets[-1].settings["low"] > 0.8, "felt"
    assert registry.settings_of("roughness", {}).low == 0.5  # type: ignore[attr-defined]


def test_metal_by_a_thread_is_near_0_or_1() -> None:
    metal = made(Metallic(), {"mode": "by thread", "where": "roughness", "threshold": 0.5, "border": 0.05}, roughness=PLANE)
    plane = metal["metallic"].plane()
    assert ((plane < 0.05) | (plane > 0.95)).mean() > 0.7
    assert np.array_equal(plane > 0.5, PLANE.plane() > 0.5)


def test_specular_weight_and_emission() -> None:
    assert np.allclose(made(Specular(), {"high": 0.6}, base=BASE)["specular"].pixels, 0.6)
    weight = made(Specular(), {"reads_from": "roughness", "low": 0.2}, roughness=PLANE)["specular"].pixels
    assert np.allclose(weight, 0.2 + 0.8 * PLANE.pixels, atol=1e-3)
    key = encode_srgb(BASE.pixels[10, 10]).tolist()
    glow = made(Emission(), {"key": key, "tolerance": 3.0, "softness": 1.0, "strength": 2.0}, base=BASE)["emission"].pixels
    assert np.allclose(glow[10, 10], 2 * BASE.pixels[10, 10], rtol=1e-3)
    assert (glow == 0).any()
    one = made(
        Emission(), {"where": "by thread", "mask": "roughness", "colour": "one colour", "tint": [1, 0, 0]}, roughness=PLANE
    )
    assert np.allclose(one["emission"].pixels[..., 0], PLANE.plane(), atol=1e-5)
    assert not one["emission"].pixels[..., 1].any()


# --- opacity ---------------------------------------------------------------------------------------------------------


def leaf(n: int = 128) -> Image:
    """A green disc on white, its border mixed as a camera mixes it."""
    y, x = np.mgrid[0:n, 0:n]
    inside = np.clip(n * 0.3 - np.hypot(x - n / 2, y - n / 2) + 0.5, 0, 1)[..., None]
    pixels = inside * np.float32([0.05, 0.2, 0.04]) + (1 - inside) * np.float32([1, 1, 1])
    return Image(pixels.astype(np.float32), Kind.COLOUR, (float(n), float(n)), False)


def test_no_rim_shows_at_any_size() -> None:
    cut = made(Opacity(), {"key": [1, 1, 1], "tolerance": 10.0}, base=leaf())
    colour, there = cut["base"].pixels, cut["opacity"].pixels
    assert there[64, 64] == 1
    assert there[2, 2] == 0
    green, ground = np.float32([0.05, 0.2, 0.04]), np.float32([0.3, 0.0, 0.4])
    size = 128
    while size >= 4:  # composited as a renderer does: filtered colour and filtered opacity, each by itself
        c, a = reduce_area(colour, size, size), reduce_area(there, size, size)
        seen, ideal = a * c + (1 - a) * ground, a * green + (1 - a) * ground
        assert np.abs(seen - ideal).max() < 0.01, size
        size //= 2
    plain, worst = leaf().pixels, 0.0
    for size in (16, 8):
        c, a = reduce_area(plain, size, size), reduce_area(there, size, size)
        worst = max(worst, float(np.abs(a * c + (1 - a) * ground - (a * green + (1 - a) * ground)).max()))
    assert worst > 0.1, "without it a white rim would show"


def test_an_edge_moves_and_outlines_cut() -> None:
    wide = made(Opacity(), {"key": [1, 1, 1], "tolerance": 10.0, "edge_mm": 5.0}, base=leaf())["opacity"].pixels
    tight = made(Opacity(), {"key": [1, 1, 1], "tolerance": 10.0, "edge_mm": -5.0}, base=leaf())["opacity"].pixels
    radius = [float(np.sqrt(p.sum() / np.pi)) for p in (tight, wide)]
    assert radius[1] - radius[0] == pytest.approx(10, abs=1.5)
    box = {"kind": "outline", "points": [[0.25, 0.25], [0.75, 0.25], [0.75, 0.75], [0.25, 0.75]]}
    square = made(Opacity(), {"by": "outline", "regions": [box]}, base=leaf())["opacity"].pixels
    assert square.mean() == pytest.approx(0.25, abs=0.01)
    assert np.array_equal(bled(leaf().pixels, np.zeros((128, 128), np.float32), False), leaf().pixels)


# --- masks by hand -----------------------------------------------------------------------------------------------------


def test_marks_are_painted_erased_grown_and_picked() -> None:
    brush = {"kind": "brush", "points": [[0.2, 0.5], [0.8, 0.5]], "radius": 0.1}
    away = {"kind": "brush", "points": [[0.5, 0.5]], "radius": 0.1, "erase": True}
    mark = made(Mark(), {"regions": [brush, away], "feather_mm": 0, "name": "moss"}, base=BASE)["moss"].plane()
    assert mark[N // 2, N // 4] > 0.95
    assert mark[N // 2, N // 2] < 0.05
    assert mark[4, 4] == 0
    size = max(BASE.size_mm)
    grown = made(Mark(), {"regions": [brush], "grow_mm": size / 10, "feather_mm": 0}, base=BASE)["mark"].pixels.sum()
    assert grown > 1.3 * made(Mark(), {"regions": [brush], "feather_mm": 0}, base=BASE)["mark"].pixels.sum()
    ids = np.repeat(np.repeat(np.arange(9, dtype=np.int32).reshape(3, 3), 32, 0), 32, 1)
    picked = mask_of((Region(kind="element", points=((0.5, 0.5),)),), BASE, N, N, ids)
    assert np.array_equal(picked, ids == 4)
    everything = made(Mark(), {"invert": True}, base=BASE)["mark"].pixels
    assert everything.min() == 1


# --- light in and out of the base colour ---------------------------------------------------------------------------------


def test_shade_lays_occlusion_in() -> None:
    occlusion = data(np.full((N, N), 0.4, np.float32), BASE)
    shaded = made(Shade(), {"amount": 1.0}, base=BASE, occlusion=occlusion)["base"].pixels
    assert np.allclose(shaded, BASE.pixels * 0.4, rtol=1e-4)


def test_unshade_takes_out_what_the_relief_threw() -> None:
    h = Image(spectrum(128, 1.8, 3)[..., None] * 4, Kind.DATA, (128.0, 128.0), True)
    normal = from_height(h)
    occlusion = sky_of(h.plane(), normal.pixels, h.texel_mm, 20.0).seen
    albedo = np.repeat(np.exp(0.2 * spectrum(128, 1.2, 77))[..., None], 3, 2) * 0.3
    light = occlusion * (0.6 + 0.5 * np.maximum(normal.pixels @ np.float32([0.6, 0.3, 0.74]), 0))
    photo = Image((albedo * light[..., None]).astype(np.float32), Kind.COLOUR, h.size_mm, True)
    freed = made(Unshade(), {}, base=photo, occlusion=data(occlusion, h), normal=normal)["base"].pixels

    def off(pixels: np.ndarray) -> float:
        r = np.log(pixels[..., 1] / albedo[..., 1])
        return float(r.std())

    assert off(freed) < 0.5 * off(photo.pixels)


@pytest.mark.parametrize("kind", ["ribs, sun", "cracked mud, overcast", "pebbles, sun"])
def test_unshade_size_by_size_frees_a_surface_of_one_colour_by_a_relief_that_was_only_read(kind: str) -> None:
    surface = next(s for s in surfaces(192) if s.name == kind)
    n, photo = surface.photo.width, surface.photo
    g = Geometry(photo.size_mm, True)
    step, s = Height(), HeightSettings(depth_mm=float(np.ptp(surface.height.plane())))
    height = step.run(s, {"base": photo}, step.decide(s, {"base": photo}, g, IDLE), Sheet(g, g, (n, n), None), IDLE)["height"]  # type: ignore[arg-type]
    normal = from_height(height)
    occlusion = data(sky_of(height.plane(), normal.pixels, height.texel_mm, 30.0).seen, height)

    def left(how: str) -> float:
        freed = (
            made(Unshade(), {"how": how}, base=photo, occlusion=occlusion, normal=normal)["base"].pixels if how else photo.pixels
        )
        return float(np.log(np.maximum(freed[..., 1], 1e-3) / surface.albedo[..., 1]).std())

    assert left("sizes") < 0.7 * left("")
    assert left("sizes") < 0.75 * left("whole")


def test_unshade_size_by_size_leaves_what_changes_its_hue() -> None:
    """Pale yellow joints between red bricks, all flat: nothing of that is shading."""
    y, x = np.mgrid[0:128, 0:128]
    joint = (y % 32 < 5) | (x % 64 < 5)
    rng = np.random.default_rng(2)
    albedo = np.where(joint[..., None], np.float32([0.62, 0.55, 0.4]), np.float32([0.4, 0.16, 0.11]))
    albedo = (albedo * np.exp(0.02 * rng.normal(size=(128, 128, 1)))).astype(np.float32)
    photo = Image(np.ascontiguousarray(albedo), Kind.COLOUR, (128.0, 128.0), True)
    h = Image(np.where(joint, 0.0, 2.0)[..., None].astype(np.float32), Kind.DATA, (128.0, 128.0), True)
    normal = from_height(h)
    occlusion = data(sky_of(h.plane(), normal.pixels, h.texel_mm, 20.0).seen, h)
    freed = made(Unshade(), {"how": "sizes"}, base=photo, occlusion=occlusion, normal=normal)["base"].pixels
    ratio = np.log(freed / albedo).mean(2)
    assert abs(ratio[joint].mean() - ratio[~joint].mean()) < 0.12, "the joints stay pale"


# --- older sets ------------------------------------------------------------------------------------------------------------


@given(st.tuples(*[st.floats(0.02, 0.95)] * 3))
@settings(max_examples=40, deadline=None)
def test_a_reflectance_of_4_percent_is_no_metal(diffuse: tuple[float, float, float]) -> None:
    d = np.float32([[diffuse]])
    base, metal = from_specular(d, np.full((1, 1, 3), 0.04, np.float32))
    assert metal[0, 0] == 0
    assert np.allclose(base, d, atol=1e-3)


def test_bright_coloured_specular_over_dark_diffuse_is_metal() -> None:
    gold = np.float32([[[1.0, 0.77, 0.34]]])
    base, metal = from_specular(np.zeros((1, 1, 3), np.float32), gold)
    assert metal[0, 0] > 0.95
    assert np.allclose(base, gold, atol=0.02)
    spec = Image(np.repeat(PLANE.pixels, 3, 2), Kind.COLOUR, PLANE.size_mm, True)
    guess = Convert().decide(registry.settings_of("convert", {"into": "roughness"}), {}, None, IDLE)  # type: ignore[arg-type]
    assert "guess" in guess.warnings[0]
    rough = made(Convert(), {"into": "roughness"}, specular_colour=spec)["roughness"].plane()
    assert np.corrcoef(rough.ravel(), PLANE.plane().ravel())[0, 1] < -0.9
    assert set(made(Convert(), {}, specular_colour=spec)) == {"specular"}


# --- what is odd, and what mends it --------------------------------------------------------------------------------------


def test_odd_maps_are_explained_and_mended() -> None:
    metallic = threads.spec("metallic")
    between = {o.check: o for o in told(PLANE, metallic, {})}
    assert between["half_metal"].mend is not None
    assert between["half_metal"].mend.settings == {"mode": "constant", "value": 0.0}
    grey = data(np.clip(encode_srgb(BASE.pixels @ np.float32([0.2126, 0.7152, 0.0722])), 0, 1).astype(np.float32), BASE)
    follows = [o.words for o in told(grey, metallic, {"base": BASE}) if o.check == "follows"]
    assert any("follows the brightness" in w for w in follows)
    steps = data((np.rint(PLANE.plane() * 20) / 20 * 10 - 5).astype(np.float32), BASE)
    assert [o.check for o in told(steps, threads.spec("height"), {})] == ["terraced"]
    joint = data((np.mgrid[0:N, 0:N][1] % 24 < 4).astype(np.float32), BASE)
    shiny = data(np.where(joint.plane() > 0, 0.3, 0.7).astype(np.float32), BASE)
    found = {o.check: o for o in told(shiny, threads.spec("roughness"), {"joint": joint})}
    assert found["glossy_joints"].mend is not None
    assert not told(data(1 - shiny.plane(), BASE), threads.spec("roughness"), {"joint": joint})
    assert "bare metal" in between["half_metal"].says


def test_rims_keep_the_surfaces_light_down_the_mips() -> None:
    """A leaf that is darker at its rim, on a white ground: smaller sizes see about the mean of what is there, not the rim alone."""
    n = 256
    y, x = np.mgrid[0:n, 0:n]
    far = 90 - np.hypot(x - n / 2, y - n / 2)  # texels inside the rim
    opacity = np.clip(0.5 + far / 3, 0, 1).astype(np.float32)
    own = (0.4 * (1 - 0.5 * np.exp(-np.clip(far, 0, None) / 6)))[..., None].astype(np.float32) * np.ones(3, np.float32)
    seen = own * opacity[..., None] + (1 - opacity[..., None])
    filled = bled(seen, opacity, True)
    for level in (4, 5):
        s = n >> level
        small, part = (reduce_area(np.ascontiguousarray(p), s, s) for p in (filled, opacity[..., None]))
        light, part = small[..., 0], part[..., 0]
        there = (far > 2)[..., None].astype(np.float32)
        mean, weight = (reduce_area(np.ascontiguousarray(p), s, s)[..., 0] for p in (own[..., :1] * there, there))
        rim = (part > 0.1) & (part < 0.9)
        assert light[rim].mean() == pytest.approx((mean / np.maximum(weight, 1e-9))[rim].mean(), rel=0.12), level
    assert filled.max() < 0.45, "nothing of the white ground is left"
