"""Drift between both ends of an overlap: told, and taken out of every kind of map alike."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import IDLE
from silent_loom.core.moving.bend import bent, drift_between
from silent_loom.core.moving.resample import blur, reduce_area
from silent_loom.core.report.suggest import suggest, tried
from silent_loom.core.steps.maps.normal import from_height
from silent_loom.core.steps.tiling.seamless import SeamlessSettings

ACROSS, DOWN = 48.0, 36.0


def weave(x: Floats, y: Floats, seed: int) -> Floats:
    """Tone of a plaited surface at places in texels; no two strands alike."""
    row = np.floor(y / (DOWN / 2))
    along = x / ACROSS + 0.5 * (row % 2)
    strand = np.abs(np.sin(127.1 * row + 311.7 * np.floor(along) + seed)) % 1
    body = np.sin(np.pi * (along % 1)) ** 0.6 * np.sin(np.pi * (y / (DOWN / 2) % 1)) ** 0.5
    out: Floats = (0.15 + (0.45 + 0.25 * strand) * body).astype(np.float32)
    return out


def wandering(height: int, width: int, much: float, seed: int) -> tuple[Floats, Floats]:
    """A smooth field of displacements in texels, standard deviation ``much``."""
    rng = np.random.default_rng(seed)
    both = blur(rng.normal(0, 1, (height + 400, width + 400, 2)).astype(np.float32), 75.0, False)[200:-200, 200:-200]
    both *= much / both.std((0, 1))
    return both[..., 0], both[..., 1]


def plaited(height: int, width: int, much: float, seed: int) -> Floats:
    y, x = np.mgrid[0:height, 0:width].astype(np.float32)
    dx, dy = wandering(height, width, much, seed) if much else (0.0, 0.0)
    grain = blur(np.random.default_rng(seed).normal(0, 1, (height, width)).astype(np.float32), 0.8, False)
    return weave(x + dx, y + dy, seed) + 0.01 * grain / grain.std()


def picture(tone: Floats) -> Image:
    return Image(np.repeat(np.clip(tone, 0.01, 1)[..., None], 3, 2), Kind.COLOUR, (float(tone.shape[1]), float(tone.shape[0])))


def test_a_known_drift_is_told() -> None:
    y, x = np.mgrid[0:600, 0:180].astype(np.float32)
    dx, dy = wandering(600, 180, 3.0, 4)
    first, second = weave(x + dx, y + dy, 1), weave(x, y, 9)  # first(p) is second(p + d), but for each strand's own tone
    found = drift_between(first[..., None], second[..., None], (DOWN, ACROSS), False, IDLE)
    assert found is not None
    h, w = found.shape[:2]
    at = (
        np.clip(((np.arange(h) + 0.5) * 600 / h).astype(int), 0, 599),
        np.clip(((np.arange(w) + 0.5) * 180 / w).astype(int), 0, 179),
    )
    truth = np.stack([dx, dy], 2)[at[0][:, None], at[1][None, :]]
    error = (found * np.array([180, 600]) - truth)[6:-6, 3:-3]
    assert np.sqrt(np.square(error).mean()) < 0.6
    assert np.sqrt(np.square(truth).mean()) > 2.5


def test_what_does_not_drift_is_left_alone() -> None:
    y, x = np.mgrid[0:400, 0:120].astype(np.float32)
    same = drift_between(weave(x, y, 1)[..., None], weave(x, y, 9)[..., None], (DOWN, ACROSS), False, IDLE)
    assert same is None
    rng = np.random.default_rng(1)
    noise = (blur(rng.normal(0, 1, (400, 120, 1)).astype(np.float32), 1.0, False) for _ in range(2))
    assert drift_between(next(noise), next(noise), (DOWN, ACROSS), False, IDLE) is None, "two kinds of gravel"


def shingles(x: Floats, y: Floats, seed: int) -> Floats:
    """Courses that repeat every `DOWN` rows; what lies side by side in them is never the same twice."""
    course = np.floor(y / DOWN)
    place = x / 31 + 7.3 * np.sin(12.9 * course + seed)
    tone = np.abs(np.sin(78.2 * np.floor(place) + 37.7 * course + seed)) % 1
    joint = np.clip(12 * np.abs((y / DOWN + 0.5) % 1 - 0.5), 0.2, 1) * np.clip(12 * np.abs((place + 0.5) % 1 - 0.5), 0.4, 1)
    out: Floats = ((0.3 + 0.5 * tone) * joint).astype(np.float32)
    return out


def test_stripes_are_bent_along_their_repeat_only() -> None:
    y, x = np.mgrid[0:560, 0:170].astype(np.float32)
    drift = (5 * np.sin(y / 90)).astype(np.float32)
    sides = shingles(x, y + drift, 1)[..., None], shingles(x, y, 9)[..., None]
    found = drift_between(*sides, (DOWN, DOWN), False, IDLE, only=1)
    assert found is not None
    assert not found[..., 0].any(), "what lies side by side belongs to no other place"
    truth = np.interp((np.arange(len(found)) + 0.5) * 560 / len(found), np.arange(560), drift[:, 0])
    assert np.abs(found[4:-4, 2:-2, 1] * 560 - truth[4:-4, None]).mean() < 0.8
    free = drift_between(*sides, (DOWN, DOWN), False, IDLE)
    assert free is None or np.abs(free[..., 0] * 170).max() > 1, "left free, they would lean"


def field(seed: int, much: float = 0.04) -> Floats:
    rng = np.random.default_rng(seed)
    out: Floats = blur(rng.normal(0, 1, (30, 12, 2)).astype(np.float32), 3.0, False)
    return out * np.float32(much / out.std()) * np.array([1, 0.3], np.float32)


@given(seed=st.integers(0, 99), axis=st.sampled_from([0, 1]), closed=st.booleans())
@settings(max_examples=10, deadline=None)
def test_the_outer_borders_stay_and_ids_stay_ids(seed: int, axis: int, closed: bool) -> None:
    rng = np.random.default_rng(seed)
    ids = rng.integers(0, 5, (90, 80, 1)).astype(np.float32)
    keep = (90, 80)[axis] - 24
    assert set(np.unique(bent(ids, Kind.ID, axis, keep, field(seed), closed, IDLE))) <= set(np.unique(ids))
    tone = rng.random((90, 80, 1)).astype(np.float32)
    smooth = blur(tone, 2.0, False)
    moved = bent(smooth, Kind.DATA, axis, keep, field(seed), closed, IDLE)
    lines = (moved, smooth) if axis == 0 else (moved.transpose(1, 0, 2), smooth.transpose(1, 0, 2))
    assert np.array_equal(lines[0][24:keep], lines[1][24:keep]), "between the ends nothing is touched"
    for line in (23, keep):  # where each end alone shows
        assert np.abs(lines[0][line] - lines[1][line]).max() < 0.02 * np.ptp(smooth)
    assert np.abs(moved - smooth).max() > 0.05 * np.ptp(smooth)


@pytest.mark.parametrize("axis", [0, 1])
def test_normals_of_a_bent_height_are_the_bent_normals(axis: int) -> None:
    rng = np.random.default_rng(2)
    height = blur(rng.normal(0, 1, (300, 300, 1)).astype(np.float32), 6.0, True)
    height *= np.float32(6 / height.std())
    sheet = Image(height, Kind.DATA, (300.0, 300.0), False)
    keep, drift = 220, field(3, 0.06)
    moved = bent(height, Kind.DATA, axis, keep, drift, False, IDLE)
    want = from_height(Image(moved, Kind.DATA, (300.0, 300.0), False)).pixels
    got = bent(from_height(sheet).pixels, Kind.NORMAL, axis, keep, drift, False, IDLE)
    inner = np.s_[4:76, 4:296] if axis == 0 else np.s_[4:296, 4:76]
    angle = np.degrees(np.arccos(np.clip((got * want).sum(-1), -1, 1)))[inner]
    still = np.degrees(np.arccos(np.clip((from_height(sheet).pixels * want).sum(-1), -1, 1)))[inner]
    assert angle.mean() < 0.7
    assert still.mean() > 5 * angle.mean(), "and moving them was needed"


def test_a_motif_that_wanders_closes() -> None:
    photo = picture(plaited(760, 900, 2.5, 9))
    told = suggest(photo)
    assert told.settings["method"] == "motif"
    _, figure = tried(photo, SeamlessSettings(**told.settings), size=700)
    _, stiff = tried(photo, SeamlessSettings(**{**told.settings, "bend": False}), size=700)
    assert figure <= 1.0
    assert stiff > 1.5


def test_any_number_of_planes_is_reduced() -> None:
    planes = np.random.default_rng(0).random((40, 60, 7)).astype(np.float32)
    got = reduce_area(planes, 20, 10)
    assert np.allclose(got, planes.reshape(10, 4, 20, 3, 7).mean((1, 3)), atol=1e-6)
