"""What is chopped, crushed, doubled or stepped at a join counts, whatever the blend hides."""

from __future__ import annotations

import numpy as np
import pytest

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.look.features import features
from silent_loom.core.look.meters.bands import light_steps
from silent_loom.core.look.meters.broken import SEEN, beat_broken, looks, with_broken
from silent_loom.core.look.meters.courses import courses_out
from silent_loom.core.look.meters.seam_meter import seams
from tests.conftest import spectrum

EVEN = (0.5, 0.5)
"""Figures of a sheet that steps nowhere."""


def sheet(plane: Floats) -> Image:
    return Image(np.repeat(np.clip(plane, 0.02, 1)[..., None], 3, 2).astype(np.float32), Kind.COLOUR, (900.0, 700.0), True)


def ribs(width: int, period: float, height: int = 300, blend: int = 12) -> Floats:
    """Ribs on a sheet of a width; both ends are faded into each other over a few texels, so that no step is left."""
    grain = np.kron(spectrum(256, 0.6, 3), np.ones((2, 2)))[:height, : width + blend].astype(np.float32)
    x = np.arange(width + blend)
    long = 0.4 + 0.2 * np.sin(2 * np.pi * x / period)[None, :] + 0.02 * grain
    t = np.linspace(0, 1, blend)[None, :]
    out = long[:, :width].copy()
    out[:, :blend] = long[:, width:] * (1 - t) + long[:, :blend] * t
    return out.astype(np.float32)


def test_ribs_that_fit_are_even_and_chopped_ones_are_seen() -> None:
    whole, half = sheet(ribs(400, 40.0)), sheet(ribs(420, 40.0))
    assert beat_broken(looks(whole), 0) < 1.1
    assert beat_broken(looks(half), 0) > 1.5
    assert beat_broken(looks(half), 1) == 0.0, "nothing repeats down"
    plain = seams(half, search=False)[0].figure
    assert with_broken((plain, 0.5), half)[0] > 1 > with_broken((0.5, 0.5), whole)[0]


@pytest.mark.parametrize("turned", [False, True])
def test_a_join_inside_the_sheet_is_found_where_it_lies(turned: bool) -> None:
    plane = np.roll(ribs(420, 40.0), 130, 1)
    image = sheet(np.ascontiguousarray(plane.T) if turned else plane)
    at = np.full(plane.shape[0], 130.0 / 420)
    axis = 1 if turned else 0
    there, elsewhere = beat_broken(looks(image), axis, at), beat_broken(looks(image), axis)
    assert there > SEEN > elsewhere


def test_grain_and_one_single_stone_have_no_beat() -> None:
    for beta in (0.3, 1.0):
        assert beat_broken(looks(sheet(0.4 + 0.1 * spectrum(256, beta, 5))), 0) == 0.0
    assert beat_broken(looks(sheet(np.full((64, 64), 0.4, np.float32))), 0) == 0.0
    assert beat_broken(looks(sheet(np.full((8, 9), 0.4, np.float32))), 0) == 0.0


def wall(heights: list[float], seed: int) -> Image:
    """Courses of stones of the heights that are said, with dark joints; no two stones alike."""
    rng = np.random.default_rng(seed)
    tops = np.r_[0, np.cumsum(heights)]
    y, x = np.arange(int(tops[-1])), np.arange(500)
    course = np.searchsorted(tops, y, side="right") - 1
    out = np.zeros((len(y), len(x)), np.float32)
    for i in range(len(heights)):
        ends = np.r_[0, np.cumsum(rng.uniform(60, 140, 12))]
        stone = np.searchsorted(ends, x, side="right") - 1
        side = np.minimum(x - ends[stone], ends[stone + 1] - x)
        rows = course == i
        near = np.minimum(np.minimum(y[rows] - tops[i], tops[i + 1] - y[rows])[:, None], side[None])
        out[rows] = rng.uniform(0.35, 0.7, 12)[stone] * np.clip((near - 2.5) / 2 + 0.5, 0.3, 1)
    return sheet(
        out + 0.02 * np.kron(spectrum(512, 0.6, seed), np.ones((2, 2)))[: out.shape[0], : out.shape[1]].astype(np.float32)
    )


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_a_crushed_course_and_a_doubled_joint_count_however_well_they_are_blended(seed: int) -> None:
    heights = list(np.random.default_rng(seed).uniform(38, 62, 12).round())
    good, half, doubled = wall(heights, seed), wall([*heights, 20.0], seed), wall([*heights, 9.0], seed)
    run_together = wall([*heights[:-1], heights[-1] + 1.1 * heights[0]], seed)
    assert with_broken(EVEN, good)[1] < 1
    for broken in (half, doubled, run_together):
        assert seams(broken, search=False)[1].figure < 0.9, "no step tells"
        assert with_broken(EVEN, broken)[1] > 1
    inside = np.full(half.width, half.height - 10.0)
    turned = Image(np.roll(half.pixels, -200, 0), Kind.COLOUR, half.size_mm, True)
    assert with_broken(EVEN, turned, (None, inside - 200))[1] > 1
    assert with_broken(EVEN, turned, (None, np.zeros(half.width)))[1] < 1


def test_courses_of_all_widths_are_no_courses() -> None:
    heights = list(np.random.default_rng(4).uniform(12, 120, 12).round())
    assert courses_out(np.ascontiguousarray(features(wall(heights, 4)).transpose(1, 0, 2))) == 0.0


@pytest.mark.parametrize("beta", [0.3, 0.7, 1.0])
def test_light_that_steps_all_along_a_join_counts_on_a_rough_surface(beta: float) -> None:
    rising = np.linspace(-0.5, 0.5, 512, dtype=np.float32)[None, :]
    for seed in range(3):
        rough = 0.4 + 0.08 * spectrum(512, beta, seed)
        even, stepped = sheet(rough), sheet(rough * (1 + 0.1 * rising))
        assert light_steps(features(even)) < 1
        assert light_steps(features(stepped)) > SEEN
        across, down = with_broken(EVEN, stepped)
        assert across > 1 > down
