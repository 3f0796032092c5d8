"""Surfaces that the network is trained on: light that falls as it should, targets that are true, families kept apart."""

from __future__ import annotations

import numpy as np
import pytest

from silent_loom.core.reading.network import BANDS
from tools.training.colours import Paint, painted
from tools.training.light import _shadows, lit
from tools.training.reliefs import HELD_OUT, Relief, deep, drawn, evaluator, families, flat
from tools.training.samples import TARGETS, blurred, sample, targets


def test_families_of_the_figures_are_never_trained_on() -> None:
    trained, kept = set(families()), set(families(held_out=True))
    assert kept == HELD_OUT, "every one of them exists"
    assert not trained & kept
    assert len(kept) >= 8
    assert len(trained) > 50


def test_a_wall_casts_its_shadow_away_from_the_sun() -> None:
    height = np.zeros((40, 120), np.float32)
    height[:, 60] = 10.0
    seen = _shadows(height, 1.0, 0.0, 0.5)  # from the right, one up for two along
    row = seen[20]
    assert (row[61:100] == 1).all(), "toward the sun"
    dark = np.flatnonzero(row == 0)
    assert dark.max() == 59
    assert dark.min() == pytest.approx(40, abs=1), "ten high, so twenty long"


def test_slopes_toward_the_light_are_brighter_than_those_away_from_it() -> None:
    x = np.arange(128, dtype=np.float32)
    ridge = np.tile(8 - np.abs(x % 32 - 16) * 0.5, (128, 1)).astype(np.float32)
    paint = Paint(np.full((128, 128, 3), 0.4, np.float32), np.full((128, 128), 0.8, np.float32))
    lights = [lit(np.random.default_rng(k), ridge, paint) for k in range(12)]
    for light in (one for one in lights if one.sun):
        falling = np.gradient(ridge, axis=1) < -0.2  # toward +x, where the sun is
        rising = np.gradient(ridge, axis=1) > 0.2
        assert light.shading[falling].mean() > light.shading[rising].mean() + 0.1
    assert any(not one.sun for one in lights)


def test_a_plane_has_no_shading_and_no_slope() -> None:
    plane = flat(64)
    light = lit(np.random.default_rng(1), plane.height, painted(np.random.default_rng(2), plane))
    assert np.ptp(light.shading) < 1e-5, "whatever is painted on it"
    made = dict(zip(TARGETS, targets(plane.height, light.shading, light.occlusion, plane.height, None), strict=True))
    assert all(np.abs(made[n]).max() == 0 for n in ("slope_x", "slope_y", "fine", "middle", "coarse", "border"))


def test_targets_of_a_known_slope() -> None:
    y, x = np.mgrid[:64, :64].astype(np.float32)
    ones = np.ones((64, 64), np.float32)
    made = targets(0.5 * x - 0.25 * y, ones, ones, ones, (x > 31).astype(np.int32))
    inner = slice(8, -8)
    assert np.allclose(made[0][inner, inner], 0.5, atol=2e-3)
    assert np.allclose(made[1][inner, inner], -0.25, atol=2e-3)
    border = made[TARGETS.index("border")][10]
    assert border[32] == 1
    assert border[:28].max() == 0


def test_bands_add_up_to_the_height_between_their_ends() -> None:
    height = np.random.default_rng(3).standard_normal((96, 96)).astype(np.float32).cumsum(0).cumsum(1) / 50
    ones = np.ones_like(height)
    made = targets(height, ones, ones, ones, None).astype(np.float64)
    total = sum(made[2 + k] * b for k, (_, b) in enumerate(BANDS))
    assert np.abs(total - (blurred(height, BANDS[0][0]) - blurred(height, BANDS[-1][1]))).max() < 0.02 * np.ptp(height)


def test_a_sheet_is_the_same_each_time_and_depths_are_wide() -> None:
    asked, names = evaluator(), families()
    one, other = (sample(np.random.default_rng(9), 64, asked, names) for _ in range(2))
    assert np.array_equal(one[0], other[0])
    assert np.array_equal(one[1], other[1])
    rng = np.random.default_rng(4)
    steep = [float(np.abs(np.gradient(deep(rng, drawn(rng, 96, asked, names)).height)).mean()) for _ in range(8)]
    assert max(steep) > 8 * min(steep)


def test_dark_lies_high_as_often_as_low() -> None:
    rng = np.random.default_rng(5)
    bumps = Relief(blurred(rng.standard_normal((96, 96)).astype(np.float32), 6.0) * 30, None, "bumps")
    signs = [np.sign(np.corrcoef(painted(rng, bumps).colour.mean(-1).ravel(), bumps.height.ravel())[0, 1]) for _ in range(80)]
    assert 0.3 < float(np.mean(np.array(signs) > 0)) < 0.7
