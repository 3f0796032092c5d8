"""The even beat of courses, and overlaps that keep to it."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from silent_loom.core.base.images import Floats
from silent_loom.core.look.motif.beat import NONE, Beat, beat_across
from silent_loom.core.look.motif.lattice import find_lattice
from silent_loom.core.report.overlap import fitting_overlaps
from tests.conftest import spectrum
from tests.support import varied
from tests.support.walls import courses, sheet, shingles


def planes(tone: Floats) -> Floats:
    return np.ascontiguousarray(tone.T[..., None], np.float32)


@pytest.mark.parametrize("row", [50.0, 63.7])
def test_ragged_rows_of_shingles_keep_a_beat(row: float) -> None:
    tone = shingles(3, row=row)
    beat = beat_across(planes(tone))
    assert beat.period * tone.shape[0] == pytest.approx(row, rel=0.02)
    assert beat.strength > 0.8
    assert beat_across(planes(tone.T)).strength < 0.1, "across, their widths keep to nothing"


@pytest.mark.parametrize("seed", range(3))
def test_courses_of_all_heights_and_noise_keep_none(seed: int) -> None:
    assert beat_across(planes(courses(500, 400, 1000.0, seed))).strength < 0.1
    assert beat_across(spectrum(256, 1.8, seed, keep=0.2)[..., None].astype(np.float32)).strength < 0.05
    assert beat_across(varied.sand(np.random.default_rng(seed)).astype(np.float32)).strength < 0.05


def test_too_little_to_tell_is_no_beat() -> None:
    assert beat_across(np.ones((64, 128, 3), np.float32)) == NONE
    assert beat_across(np.random.default_rng(0).normal(0, 1, (4, 300, 1)).astype(np.float32)) == NONE
    assert beat_across(np.random.default_rng(0).normal(0, 1, (300, 20, 1)).astype(np.float32)) == NONE


@settings(max_examples=40, deadline=None)
@given(st.floats(0.05, 0.4), st.integers(1, 9), st.floats(0, 1), st.floats(0, 1))
def test_a_shift_is_held_against_the_nearest_beat(period: float, beats: int, off: float, strength: float) -> None:
    beat = Beat(period, strength)
    assert beat.missed(beats * period) == pytest.approx(0, abs=1e-9)
    assert beat.missed((beats + 0.5) * period) == pytest.approx(strength)
    assert beat.missed((beats + off) * period) == pytest.approx(beat.missed((beats + 1 - off) * period), abs=1e-9)
    assert 0 <= beat.missed((beats + off) * period) <= strength


@pytest.mark.parametrize("seed", range(3))
def test_no_course_of_shingles_is_left_half_as_high(seed: int) -> None:
    photo = sheet(shingles(seed))
    assert find_lattice(photo) is None, "nothing but the rows repeats, and they are ragged"
    _, down = fitting_overlaps(photo)
    rows = (1 - down[0]) * photo.height / 70
    assert abs(rows - round(rows)) < 0.15
