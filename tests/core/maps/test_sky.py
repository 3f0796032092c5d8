"""Light of an even sky about the local normal: against rays, against analytic cases, and its mean direction."""

from __future__ import annotations

import numpy as np
import pytest

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.maps.horizon import sky_of
from silent_loom.core.steps.maps.normal import from_height
from silent_loom.core.steps.maps.occlusion import Occlusion, OcclusionSettings
from tests.conftest import spectrum
from tests.core.maps.test_maps import _bilinear, run


def normals_of(h: Floats) -> Floats:
    return from_height(Image(h[..., None], Kind.DATA, (float(h.shape[1]), float(h.shape[0])), True)).pixels


def cast(h: Floats, normals: Floats, radius: float, points: np.ndarray, rays: int = 256) -> tuple[np.ndarray, np.ndarray]:
    """Rays over the hemisphere about the local normal, weighted by the cosine: by brute force."""
    rng = np.random.default_rng(1)
    py, px = points[:, 0], points[:, 1]
    here, n = h[py, px].astype(float), normals[py, px].astype(float) * [1, -1, 1]
    across = np.cross(n, np.where(np.abs(n[:, :1]) < 0.9, [[1.0, 0, 0]], [[0, 1.0, 0]]))
    across /= np.linalg.norm(across, axis=1, keepdims=True)
    other = np.cross(n, across)
    seen, mean = np.zeros(len(points)), np.zeros((len(points), 3))
    steps = np.linspace(0, 1, int(radius * 3) + 2)[1:] * radius
    for i in range(rays):
        turn, sine2 = 2 * np.pi * (i + rng.random()) / rays, ((i * 0.618034) % 1 + rng.random() / rays) % 1
        d = np.sqrt(sine2) * (across * np.cos(turn) + other * np.sin(turn)) + n * np.sqrt(1 - sine2)
        level = np.maximum(np.hypot(d[:, 0], d[:, 1]), 1e-6)
        free = np.ones(len(points), bool)
        for far in steps:
            free &= _bilinear(h, px + d[:, 0] / level * far, py + d[:, 1] / level * far) <= here + d[:, 2] / level * far + 1e-6
        seen += free
        mean += d * free[:, None]
    return seen / rays, mean / np.maximum(np.linalg.norm(mean, axis=1, keepdims=True), 1e-9)


def _shapes(n: int) -> dict[str, Floats]:
    y, x = np.mgrid[0:n, 0:n]
    dome = np.sqrt(np.maximum(0, 1 - (((x % 32) - 16) / 15) ** 2 - (((y % 32) - 16) / 15) ** 2))
    shapes = {
        "rough": spectrum(n, 1.5, 2) * 2,
        "deep": spectrum(n, 1.9, 3) * 16,
        "domes": dome * 15,
        "ridges": 8 * np.abs(((x + 2 * y) / 32) % 1 - 0.5),
    }
    return {k: v.astype(np.float32) for k, v in shapes.items()}


@pytest.mark.parametrize("name", ["rough", "deep", "domes", "ridges"])
def test_occlusion_is_what_rays_about_the_local_normal_find(name: str) -> None:
    h = _shapes(128)[name]
    normals, points = normals_of(h), np.random.default_rng(3).integers(0, 128, (150, 2))
    sky = sky_of(h, normals, (1, 1), 20.0, bent=True)
    want, way = cast(h, normals, 20.0, points)
    off = sky.seen[points[:, 0], points[:, 1]] - want
    assert np.sqrt(np.square(off).mean()) < 0.015
    assert abs(off.mean()) < 0.005
    assert sky.bent is not None
    made = sky.bent[points[:, 0], points[:, 1]] * [1, -1, 1]
    assert np.median(np.degrees(np.arccos(np.clip((made * way).sum(1), -1, 1)))) < 1.5
    assert np.allclose(np.linalg.norm(sky.bent, axis=2), 1, atol=1e-4)


def test_the_plane_of_the_surface_itself_hides_light_that_a_level_receiver_would_see() -> None:
    h = _shapes(128)["domes"]
    normals = normals_of(h)
    level = np.zeros_like(normals)
    level[..., 2] = 1
    steep = np.hypot(normals[..., 0], normals[..., 1]) / normals[..., 2]
    assert steep.mean() > 0.7
    off = sky_of(h, level, (1, 1), 20.0).seen - sky_of(h, normals, (1, 1), 20.0).seen
    assert np.sqrt(np.square(off).mean()) > 0.05


def test_analytic_cases() -> None:
    n = 128
    flat = np.full((n, n), 2.0, np.float32)
    assert np.allclose(sky_of(flat, normals_of(flat), (1, 1), 30).seen, 1, atol=1e-5)
    # A roof: on a slope of 45°, whose other half lies beyond the ridge, nothing is hidden near the top
    x = np.mgrid[0:n, 0:n][1]
    roof = (32 - np.abs(x - 64)).astype(np.float32)
    seen = sky_of(roof, normals_of(roof), (1, 1), 16.0, fine=True).seen
    assert seen[64, 44] == pytest.approx(1, abs=0.01)
    # A groove of two such slopes: in each, the other hides what lies beyond a plane at right angles to it, seen from its foot
    groove = np.abs(x - 64).astype(np.float32)
    foot = sky_of(groove, normals_of(groove), (1, 1), 60.0, fine=True).seen[64, 60]
    # Across it, the other slope reaches as far as the radius: from there to its own plane on the other side all is open
    edge = np.arctan2(56 - 4, 120 - 60) - np.pi / 4
    assert foot == pytest.approx((1 - np.sin(edge)) / 2, abs=0.01)
    # The floor of a pit as wide as it is deep: what is left of the sky is a square of known solid angle
    pit = np.full((n, n), 20.0, np.float32)
    pit[44:84, 44:84] = 0
    middle = sky_of(pit, normals_of(pit), (1, 1), 60.0, fine=True).seen[64, 64]
    a = 20 / 20.0
    form = 4 * a / np.sqrt(1 + a * a) * np.arctan(a / np.sqrt(1 + a * a)) / np.pi * 2 / 2
    assert middle == pytest.approx(form, abs=0.02)


def test_occlusion_never_exceeds_1_wraps_and_makes_a_bent_normal_when_asked() -> None:
    h = spectrum(96, 1.7, 5) * 6
    image = Image(h[..., None], Kind.DATA, (96, 96), True)
    made = run(Occlusion(), OcclusionSettings(radius_mm=12, bent=True), height=image)
    assert made["occlusion"].pixels.max() <= 1
    assert made["bent_normal"].kind is Kind.NORMAL
    rolled = Image(np.roll(h, (17, 40), (0, 1))[..., None], Kind.DATA, (96, 96), True)
    again = run(Occlusion(), OcclusionSettings(radius_mm=12), height=rolled)
    assert set(again) == {"occlusion"}
    assert np.allclose(np.roll(made["occlusion"].pixels, (17, 40), (0, 1)), again["occlusion"].pixels, atol=1e-4)
