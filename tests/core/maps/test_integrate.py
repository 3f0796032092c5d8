"""Height from normals against heights that are known."""

from __future__ import annotations

import numpy as np
import pytest

from silent_loom.core.base.images import Image, Kind
from silent_loom.core.maps.integrate import height_of
from silent_loom.core.moving.resample import resize
from silent_loom.core.steps.maps.integrate import Integrate, IntegrateSettings
from silent_loom.core.steps.maps.normal import from_height
from silent_loom.core.weave.rows.recipes import begun
from tests.conftest import DIGEST, spectrum
from tests.core.maps.test_maps import run


def height(n: int, m: int, wraps: bool, seed: int = 2) -> Image:
    plane = spectrum(max(n, m), 2.0, seed, keep=0.2)[:n, :m] * 4
    return Image(np.ascontiguousarray(plane - plane.mean(), np.float32)[..., None], Kind.DATA, (m * 0.5, n * 0.7), wraps)


@pytest.mark.parametrize(("n", "m"), [(128, 128), (96, 128), (97, 65)])
def test_height_to_normal_to_height_comes_back_on_periodic_data(n: int, m: int) -> None:
    known = height(n, m, True)
    if n != m:  # cut from a larger sheet it would not repeat: its own waves
        y, x = np.mgrid[0:n, 0:m]
        plane = 3 * np.sin(2 * np.pi * (2 * x / m + y / n)) + np.cos(2 * np.pi * 3 * y / n)
        known = known.with_pixels(plane.astype(np.float32)[..., None])
    s = IntegrateSettings(scale="true slopes")
    found = run(Integrate(), s, normal=from_height(known))["height"].pixels
    span = np.ptp(known.pixels)
    assert np.abs((found - found.mean()) - (known.pixels - known.pixels.mean())).max() < 0.005 * span
    turned = run(Integrate(), IntegrateSettings(scale="true slopes", invert=True), normal=from_height(known))["height"].pixels
    assert np.abs(turned + found).max() < 1e-5


def test_without_repeat_nothing_is_made_to_meet() -> None:
    n = 128
    y, x = np.mgrid[0:n, 0:n].astype(np.float32)
    plane = 0.2 * x + 0.001 * (y - 40) ** 2  # a ramp: its ends lie 25 apart
    known = Image((plane - plane.mean())[..., None], Kind.DATA, (n * 1.0, n * 1.0), False)
    found = run(Integrate(), IntegrateSettings(scale="true slopes"), normal=from_height(known))["height"].pixels
    inside = np.s_[4:-4, 4:-4]
    off = (found - known.pixels)[inside]
    assert np.abs(off - off.mean()).max() < 0.02 * np.ptp(plane)


def test_the_depth_is_filled_and_what_is_no_height_is_told() -> None:
    known = height(128, 128, True)
    normal = from_height(known)
    s = IntegrateSettings(depth_mm=6.0)
    step = Integrate()
    found = run(step, s, normal=normal)["height"].pixels
    assert np.ptp(np.percentile(found, [0.02, 99.98])) == pytest.approx(0.92 * 6, rel=0.02)
    assert step.makes(s)[0].depth == 6
    from silent_loom.core.base.parallel import IDLE
    from silent_loom.core.weave.step import Geometry

    good = step.decide(s, {"normal": normal}, Geometry(normal.size_mm, True), IDLE).figures["residual_deg"]
    y, x = np.mgrid[0:128, 0:128]
    swirl = np.stack([np.sin(2 * np.pi * y / 128), -np.sin(2 * np.pi * x / 128), np.ones_like(x)], -1).astype(np.float32)
    swirl /= np.linalg.norm(swirl, axis=2, keepdims=True)
    odd = Image(np.ascontiguousarray(swirl), Kind.NORMAL, normal.size_mm, True)
    left = step.decide(s, {"normal": odd}, Geometry(normal.size_mm, True), IDLE)
    assert good < 0.2
    assert left.figures["residual_deg"] > 30, "what turns in circles is no slope of anything"
    flat = Image(np.tile(np.array([0, 0, 1], np.float32), (16, 16, 1)), Kind.NORMAL, (16.0, 16.0), True)
    assert (run(step, s, normal=flat)["height"].pixels == 0).all()


def test_slopes_of_a_plane_wave_integrate_to_it() -> None:
    n = 64
    x = np.arange(n) * 2 * np.pi / n
    across = np.tile(np.cos(3 * x), (n, 1)).astype(np.float32)
    found = height_of(across, np.zeros_like(across), (1.0, 1.0), True)
    k = 2 * np.pi * 3 / n
    symbol = (8 * np.sin(k) - np.sin(2 * k)) / 6
    assert np.allclose(found[0], np.sin(3 * x) / symbol, atol=1e-5)


def test_a_set_with_normals_and_no_height_gets_it_from_them() -> None:
    def of(*names: str) -> list[str]:
        return [e.step for e in begun("set", {"maps": [{"thread": t, "source": DIGEST} for t in names]}).rows()]

    assert of("base", "normal") == ["mapset", "integrate", "roughness", "metallic", "occlusion"]
    assert of("base") == ["mapset", "height", "normal", "roughness", "metallic", "occlusion"]
    assert of("base", "normal", "height") == ["mapset", "roughness", "metallic", "occlusion"]


@pytest.mark.parametrize("size", [128, 127])
def test_normals_that_were_scaled_down_give_no_checkerboard(size: int) -> None:
    known = Image(spectrum(512, 1.3, 5)[..., None] * 2, Kind.DATA, (256.0, 256.0), True)
    small = resize(from_height(known), size, size)
    codes = np.rint((small.pixels * 0.5 + 0.5) * 255) / 255 * 2 - 1
    normal = small.with_pixels((codes / np.linalg.norm(codes, axis=2, keepdims=True)).astype(np.float32))
    found = run(Integrate(), IntegrateSettings(scale="true slopes"), normal=normal)["height"].pixels[..., 0]
    wanted = resize(known, size, size).pixels[..., 0]
    assert np.corrcoef(found.ravel(), wanted.ravel())[0, 1] > 0.985
    board = (-1.0) ** np.add.outer(np.arange(size), np.arange(size))
    assert abs((found * board).mean()) < 0.01 * found.std()


def test_height_to_normal_to_height_comes_back_to_the_finest_waves() -> None:
    known = Image(spectrum(256, 1.0, 6, keep=0.42)[..., None], Kind.DATA, (256.0, 256.0), True)
    found = run(Integrate(), IntegrateSettings(scale="true slopes"), normal=from_height(known))["height"].pixels
    assert np.corrcoef(found.ravel(), known.pixels.ravel())[0, 1] > 0.9999
