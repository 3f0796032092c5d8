"""Height, normal, roughness, metallic, tone, occlusion: exact figures against known truth."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from silent_loom.core.base.colour import LUMA, lab
from silent_loom.core.base.images import Floats, Image, Kind, data
from silent_loom.core.base.parallel import IDLE
from silent_loom.core.base.srgb import encode_srgb
from silent_loom.core.maps import curve
from silent_loom.core.maps.horizon import directions, sky_visibility
from silent_loom.core.moving.resample import blur, enlarge, reduce_area, resize
from silent_loom.core.steps.maps.height import Height, HeightSettings
from silent_loom.core.steps.maps.metallic import Metallic, MetallicSettings
from silent_loom.core.steps.maps.normal import Normal, NormalSettings, from_height
from silent_loom.core.steps.maps.occlusion import Occlusion, OcclusionSettings
from silent_loom.core.steps.maps.roughness import Roughness, RoughnessSettings
from silent_loom.core.steps.tone.tone import Tone, ToneSettings, hue_saturation
from silent_loom.core.weave.step import Geometry, MapStep, Sheet
from tests.conftest import as_colour, spectrum


def run(step: MapStep, s: object, **inputs: Image) -> dict[str, Image]:
    image = next(iter(inputs.values()))
    geometry = Geometry(image.size_mm, image.wraps)
    decision = step.decide(s, inputs, geometry, IDLE)
    return step.run(s, inputs, decision, Sheet(geometry, geometry, (image.width, image.height), None), IDLE)  # type: ignore[arg-type]


# --- normal -------------------------------------------------------------------------------------------------


def test_normal_is_the_true_slope_in_millimetres() -> None:
    n, texel, waves, amplitude = 128, 0.5, 3, 2.0
    k = 2 * np.pi * waves / n
    y, x = np.mgrid[0:n, 0:n]
    height = data(
        (amplitude * np.sin(k * x) * np.cos(k * y)).astype(np.float32),
        Image(np.zeros((n, n, 1), np.float32), Kind.DATA, (n * texel, n * texel), True),
    )
    gx = amplitude * k / texel * np.cos(k * x) * np.cos(k * y)
    gy_up = amplitude * k / texel * np.sin(k * x) * np.sin(k * y)  # d/dy with y up: minus d/drow
    want = np.stack([-gx, -gy_up, np.ones_like(gx)], -1)
    want /= np.linalg.norm(want, axis=-1, keepdims=True)
    angle = np.degrees(np.arccos(np.clip((from_height(height).pixels * want).sum(-1), -1, 1)))
    assert angle.max() < 0.05


def test_green_is_up_and_edges_wrap() -> None:
    rising = np.repeat(np.linspace(1, 0, 64, dtype=np.float32)[:, None], 64, 1)  # higher towards the top
    open_sheet = Image(rising[..., None], Kind.DATA, (64, 64), False)
    assert from_height(open_sheet).pixels[32, 32, 1] < 0, "a surface that rises towards the top leans down"
    wave = spectrum(64, 2, 1, 0.2)
    image = Image(wave[..., None], Kind.DATA, (64, 64), True)
    rolled = Image(np.roll(wave, (11, 23), (0, 1))[..., None], Kind.DATA, (64, 64), True)
    assert np.allclose(np.roll(from_height(image).pixels, (11, 23), (0, 1)), from_height(rolled).pixels, atol=1e-6)


@given(st.floats(-4, 4))
@settings(max_examples=20, deadline=None)
def test_strength_scales_the_slope(strength: float) -> None:
    image = Image(spectrum(32, 2, 2, 0.2)[..., None], Kind.DATA, (32, 32), True)
    one, many = from_height(image).pixels, from_height(image, strength).pixels
    assert np.allclose(many[..., :2] / many[..., 2:], strength * one[..., :2] / one[..., 2:], atol=1e-4)
    assert np.allclose(np.linalg.norm(many, axis=-1), 1, atol=1e-5)


def test_softened_normals_leave_the_height_alone() -> None:
    image = Image(spectrum(64, 1, 2)[..., None], Kind.DATA, (64, 64), True)
    before = image.pixels.copy()
    sharp = run(Normal(), NormalSettings(), height=image)["normal"]
    soft = run(Normal(), NormalSettings(soften_mm=3), height=image)["normal"]
    assert soft.pixels[..., 2].mean() > sharp.pixels[..., 2].mean()
    assert np.array_equal(image.pixels, before)


# --- occlusion ----------------------------------------------------------------------------------------------


def _bilinear(h: Floats, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    rows, cols = h.shape
    fx, fy = np.floor(x), np.floor(y)
    tx, ty = x - fx, y - fy
    x0, y0 = fx.astype(int) % cols, fy.astype(int) % rows
    x1, y1 = (x0 + 1) % cols, (y0 + 1) % rows
    return (h[y0, x0] * (1 - tx) + h[y0, x1] * tx) * (1 - ty) + (h[y1, x0] * (1 - tx) + h[y1, x1] * tx) * ty


def cast_rays(
    h: Floats, texel: tuple[float, float], radius: float, points: np.ndarray, rays: int = 512, seed: int = 0
) -> np.ndarray:
    """Cosine-weighted rays against the same bilinear field with the same limit: the reference, by brute force."""
    rng = np.random.default_rng(seed)
    py, px = points[:, 0], points[:, 1]
    here = h[py, px].astype(float)
    seen = np.zeros(len(points))
    steps = np.linspace(0, 1, int(radius / min(texel) * 6) + 2)[1:] * radius
    for i in range(rays):  # stratified in azimuth, cosine-weighted in elevation
        azimuth = 2 * np.pi * (i + rng.random()) / rays
        sine2 = (((i * 0.618034) % 1.0) + rng.random() / rays) % 1.0
        rise = np.sqrt(1 / max(sine2, 1e-9) - 1)  # height over horizontal distance of the ray
        free = np.ones(len(points), bool)
        for d in steps:
            z = _bilinear(h, px + np.cos(azimuth) * d / texel[0], py + np.sin(azimuth) * d / texel[1])
            free &= z <= here + rise * d + 1e-9
        seen += free
    return seen / rays


@pytest.mark.parametrize(
    ("name", "texel"),
    [("rolling", (1.0, 1.0)), ("rough", (1.0, 1.0)), ("blocks", (1.0, 1.0)), ("rough", (1.0, 1.6)), ("ridges", (0.7, 0.7))],
)
def test_occlusion_agrees_with_ray_casting(name: str, texel: tuple[float, float]) -> None:
    n = 128
    y, x = np.mgrid[0:n, 0:n]
    h = {
        "rolling": spectrum(n, 2.0, 1) * 5,
        "rough": spectrum(n, 1.5, 2) * 1.6,
        "blocks": ((x // 16 + y // 16) % 2 * 4.0).astype(np.float32),
        "ridges": (3 * np.abs(((x + 2 * y) / 32) % 1 - 0.5)).astype(np.float32),
    }[name].astype(np.float32)
    points = np.random.default_rng(3).integers(0, n, (150, 2))
    want = cast_rays(h, texel, 14.0, points)
    for fine in (False, True):
        got = sky_visibility(h, texel, 14.0, fine=fine)[points[:, 0], points[:, 1]]
        assert np.sqrt(np.square(got - want).mean()) < 0.02, (name, fine)


def test_a_wall_hides_half_of_half_the_sky() -> None:
    # At the foot of a long wall of height w, the sky towards it begins at elevation atan(w / d)
    n = 128
    h = np.zeros((n, n), np.float32)
    h[:, 64:] = 40.0
    seen = sky_visibility(h, (1, 1), 30.0, fine=True)
    # One texel from it, the bilinear field rises by 40 cos a along azimuth a: (1 + 1/√(1 + 40²)) / 2 is left, and a
    # little more for a finite number of azimuths, of which two run along the wall
    assert 0.5 < seen[64, 63] < 0.5 * (1 + 1 / np.sqrt(1601)) + 0.05
    assert seen[64, 96] == pytest.approx(1)
    assert seen[64, 33] < 1.0  # 31 texels from the far side of the wall, which wraps round: within the radius of 30 + 1
    assert sky_visibility(h, (1, 1), 20.0)[64, 32] == pytest.approx(1), "beyond the radius nothing counts"


def test_occlusion_wraps_never_brightens_and_is_1_on_a_plane() -> None:
    h = spectrum(96, 1.7, 5) * 3
    whole = sky_visibility(h, (1, 1), 12)
    rolled = sky_visibility(np.roll(h, (17, 40), (0, 1)), (1, 1), 12)
    assert np.allclose(np.roll(whole, (17, 40), (0, 1)), rolled, atol=1e-5)
    assert whole.max() <= 1 + 1e-5
    assert np.allclose(sky_visibility(np.full((40, 40), 3.0, np.float32), (1, 1), 12), 1, atol=1e-5)
    image = Image(h[..., None], Kind.DATA, (96, 96), True)
    full = run(Occlusion(), OcclusionSettings(radius_mm=12), height=image)["occlusion"].pixels
    half = run(Occlusion(), OcclusionSettings(radius_mm=12, strength=0.5), height=image)["occlusion"].pixels
    assert np.allclose(half, 1 - 0.5 * (1 - full), atol=1e-6)


def test_sectors_cover_the_circle() -> None:
    for fine, count in ((False, 16), (True, 32)):
        vectors = directions(fine)
        assert len(set(vectors)) == count
        assert {(-p, -q) for p, q in vectors} == set(vectors)


# --- height -------------------------------------------------------------------------------------------------


def test_height_fills_its_depth_and_white_is_up() -> None:
    image = as_colour(spectrum(128, 1.6, 3))
    height = run(Height(), HeightSettings(depth_mm=8, fill="whole depth"), base=image)["height"].plane()
    assert np.percentile(np.abs(height), 99.9) <= 4.0
    assert np.percentile(height, 99.9) > 3.2
    assert np.corrcoef(height.ravel(), image.pixels[..., 1].ravel())[0, 1] > 0.6
    turned = run(Height(), HeightSettings(depth_mm=8, invert=True, fill="whole depth"), base=image)["height"].plane()
    assert np.allclose(turned, -height, atol=1e-5)
    deeper = run(Height(), HeightSettings(depth_mm=16, fill="whole depth"), base=image)["height"].plane()
    assert np.allclose(deeper, 2 * height, atol=1e-4)
    gentle = run(Height(), HeightSettings(depth_mm=8), base=image)["height"].plane()
    assert np.corrcoef(gentle.ravel(), height.ravel())[0, 1] > 0.9999, "by contrast it is the same relief,"
    assert gentle.std() < height.std(), "as deep as the picture's contrast says"


def test_feature_sizes_are_weighed_apart() -> None:
    n = 256
    x = np.arange(n)
    broad, fine = np.sin(2 * np.pi * x / n * 2), np.sin(2 * np.pi * x / n * 64)
    plane = np.repeat((0.2 * broad + 0.2 * fine)[None], n, 0).astype(np.float32)
    image = Image(np.repeat((0.3 + 0.2 * plane)[..., None], 3, 2).astype(np.float32), Kind.COLOUR, (1000, 1000), True)

    def amplitudes(fine: float, broad: float) -> tuple[float, float]:
        sizes = ((0.02, fine, 0.0), (0.05, fine, 0.0), (0.06, broad, 0.0), (0.5, broad, 0.0))
        f = np.abs(np.fft.rfft(run(Height(), HeightSettings(sizes=sizes), base=image)["height"].plane()[7]))
        return f[2], f[64]

    b, f = amplitudes(0, 1)
    assert b > 20 * f
    b, f = amplitudes(1, 0)
    assert f > 20 * b


def test_an_even_picture_gives_a_flat_height_and_says_so() -> None:
    image = Image(np.full((64, 64, 3), 0.3, np.float32), Kind.COLOUR, wraps=True)
    step, s = Height(), HeightSettings()
    assert step.decide(s, {"base": image}, Geometry(), IDLE).warnings
    assert not run(step, s, base=image)["height"].pixels.any()


# --- roughness, metallic, tone --------------------------------------------------------------------------------


def test_roughness_stays_in_its_limits_and_follows_the_source() -> None:
    image = as_colour(spectrum(128, 1.4, 4))
    rough = run(Roughness(), RoughnessSettings(low=0.3, high=0.6, invert=False, local=1), base=image)["roughness"].plane()
    assert rough.min() == pytest.approx(0.3, abs=1e-5)
    assert rough.max() == pytest.approx(0.6, abs=1e-5)
    y = encode_srgb(image.pixels @ LUMA)
    assert np.corrcoef(rough.ravel(), y.ravel())[0, 1] > 0.99
    inverse = run(Roughness(), RoughnessSettings(low=0.3, high=0.6, invert=True, local=1), base=image)["roughness"].plane()
    assert np.allclose(rough + inverse, 0.9, atol=1e-5)
    constant = run(Roughness(), RoughnessSettings(reads_from="constant", high=0.42), base=image)["roughness"].plane()
    assert np.allclose(constant, 0.42)


def test_greasy_roughness_is_warned_of() -> None:
    image, step = as_colour(spectrum(128, 1.4, 4)), Roughness()
    assert step.decide(RoughnessSettings(low=0, high=1), {"base": image}, Geometry(), IDLE).warnings
    assert not step.decide(RoughnessSettings(low=0.5, high=0.6), {"base": image}, Geometry(), IDLE).warnings


@given(st.lists(st.tuples(st.integers(0, 50), st.floats(0, 1)), min_size=2, max_size=8, unique_by=lambda p: p[0]))
@settings(max_examples=60, deadline=None)
def test_curves_pass_their_points_and_never_overshoot(raw: list[tuple[int, float]]) -> None:
    points = curve.checked(tuple((x / 50, y) for x, y in raw))
    t = curve.table(points, 5001)
    for x, y in points:
        assert t[round(x * 5000)] == pytest.approx(y, abs=2e-6)
    for (x0, y0), (x1, y1) in pairwise(points):
        part = t[round(x0 * 5000) : round(x1 * 5000) + 1]
        assert part.min() >= min(y0, y1) - 1e-6
        assert part.max() <= max(y0, y1) + 1e-6


@pytest.mark.parametrize("points", [((0.0, 0.0),), ((0.5, 0.1), (0.5, 0.9)), ((0.0, 0.0), (1.2, 1.0))])
def test_impossible_curves_are_refused(points: tuple) -> None:
    with pytest.raises(ValueError):
        RoughnessSettings(curve=points)


def test_metallic_by_colour_finds_the_metal() -> None:
    n = 1024
    base = np.empty((n, n, 3), np.float32)
    base[:, : n // 2], base[:, n // 2 :] = (0.5, 0.35, 0.2), (0.05, 0.2, 0.15)
    image = Image(base, Kind.COLOUR, (100, 100), True)
    key = tuple(float(v) for v in encode_srgb(np.array([0.5, 0.35, 0.2])))
    metal = run(Metallic(), MetallicSettings(mode="by colour", colour=key), base=image)["metallic"].plane()
    assert (metal[:, : n // 2] == 1).all()
    assert (metal[:, n // 2 :] == 0).all()
    assert (run(Metallic(), MetallicSettings(value=0.25), base=image)["metallic"].plane() == 0.25).all()


def test_tone_brightness_is_in_stops_and_identity_is_passed_over() -> None:
    image = as_colour(spectrum(32, 1, 1))
    up = run(Tone(), ToneSettings(brightness=1), base=image)["base"].pixels
    assert np.allclose(up, 2 * image.pixels, atol=2e-6)
    assert Tone().idle(ToneSettings())
    assert not Tone().idle(ToneSettings(contrast=1))
    with pytest.raises(ValueError, match="white"):
        ToneSettings(black=0.5, white=0.4)


@given(st.floats(-180, 180), st.floats(0, 2))
@settings(max_examples=40, deadline=None)
def test_hue_and_saturation_keep_luminance(hue: float, saturation: float) -> None:
    rgb = np.random.default_rng(0).random((50, 3))
    out = rgb @ hue_saturation(hue, saturation).T.astype(float)
    assert np.allclose(out @ LUMA, rgb @ LUMA, atol=1e-5)


def test_saturation_minus_100_is_grey_and_levels_are_in_encoded_values() -> None:
    image = as_colour(spectrum(32, 1, 1))
    grey = run(Tone(), ToneSettings(saturation=-100), base=image)["base"].pixels
    assert np.abs(lab(grey)[..., 1:]).max() < 0.05
    levels = run(Tone(), ToneSettings(black=0.2, white=0.8), base=image)["base"].pixels
    assert np.allclose(encode_srgb(levels), (encode_srgb(image.pixels) - 0.2) / 0.6, atol=1e-5)


# --- resampling ---------------------------------------------------------------------------------------------


@pytest.mark.parametrize("sigma", [0.8, 2.5, 7.0, 19.0, 60.0])
@pytest.mark.parametrize("wraps", [True, False])
def test_wide_blur_is_a_gaussian(sigma: float, wraps: bool) -> None:
    from scipy.ndimage import gaussian_filter

    plane = spectrum(256, 1.0, 7)
    want = gaussian_filter(plane.astype(np.float64), sigma, mode="wrap" if wraps else "reflect", truncate=5)
    assert np.abs(blur(plane, sigma, wraps) - want).max() < 0.03 * max(want.std(), 0.05)


def test_enlarging_keeps_the_mean_and_texel_borders() -> None:
    plane = spectrum(32, 1.5, 2)
    big = enlarge(plane, 128, 96, True)
    assert big.mean() == pytest.approx(plane.mean(), abs=1e-5)
    assert np.abs(reduce_area(big, 32, 32) - plane).mean() < 0.1 * plane.std()


def test_resized_normals_stay_unit_and_ids_stay_whole() -> None:
    n = from_height(Image(spectrum(64, 1.5, 3)[..., None] * 4, Kind.DATA, (64, 64), True))
    small = resize(n, 20, 24)
    assert np.allclose(np.linalg.norm(small.pixels, axis=-1), 1, atol=1e-5)
    ids = Image(np.arange(64, dtype=np.float32).reshape(8, 8, 1), Kind.ID)
    assert np.isin(resize(ids, 5, 13).pixels, ids.pixels).all()
