"""Wide overlaps, joined without a copy of them: the same as joining both moved ends at full size."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from silent_loom.core.base.images import Floats, Kind
from silent_loom.core.base.parallel import IDLE
from silent_loom.core.moving.blocks import FLOOR
from silent_loom.core.moving.resample import blur
from silent_loom.core.moving.slide import slid
from silent_loom.core.moving.slopes import normals_of, slopes_of
from silent_loom.core.tiling.joining.join import closed_along
from silent_loom.core.tiling.joining.strip import join_strip
from tests.conftest import spectrum

ROWS, N, KEPT = 256, 128, 160
SOFT = 3.0
KINDS = {Kind.DATA: 1, Kind.COLOUR: 3, Kind.NORMAL: 3}


@dataclass(frozen=True)
class Sheet:
    """One that will be closed, and how: laid as for axis 1."""

    pixels: Floats
    path: np.ndarray
    shift: Floats | None

    def closed(self, kind: Kind, axis: int, spend: bool = False) -> Floats:
        turned = axis == 0
        pixels = np.ascontiguousarray(self.pixels.transpose(1, 0, 2)) if turned else self.pixels.copy()
        made = closed_along(pixels, kind, axis, KEPT, self.path, SOFT, turned, IDLE, shift=self.shift, spend=spend)
        return made.transpose(1, 0, 2) if turned else made


def sheet(kind: Kind, seed: int, moved: bool) -> Sheet:
    tones = [0.3 + 0.05 * spectrum(320, 0.9, seed * 10 + k)[:ROWS, : KEPT + N] for k in range(KINDS[kind])]
    pixels = np.ascontiguousarray(np.stack(tones, 2), np.float32)
    if kind is Kind.NORMAL:
        pixels[..., :2] -= 0.3
        pixels[..., 2] = 1
        pixels /= np.linalg.norm(pixels, axis=2, keepdims=True)
    path = N / 2 + 12 * np.sin(2 * np.pi * np.arange(ROWS) / ROWS)
    field = blur(spectrum(16, 1.0, seed + 1)[:, :6, None], 1.5, True)
    return Sheet(pixels, path, (0.02 * field[..., 0] / np.abs(field).max()).astype(np.float32) if moved else None)


def form(kind: Kind) -> tuple[Callable[[Floats], Floats], Callable[[Floats], Floats]]:
    """What of a kind's samples goes over, and back."""
    if kind is Kind.COLOUR:
        return lambda p: np.log(p + FLOOR), lambda p: np.exp(p) - FLOOR
    if kind is Kind.NORMAL:
        return lambda p: slopes_of(p, IDLE), lambda p: normals_of(np.ascontiguousarray(p), IDLE)
    return lambda p: p, lambda p: p


@pytest.mark.parametrize("kind", list(KINDS))
@pytest.mark.parametrize("axis", [0, 1])
@pytest.mark.parametrize("moved", [False, True])
def test_it_is_the_join_of_both_ends_moved(kind: Kind, axis: int, moved: bool) -> None:
    given_ = sheet(kind, 3, moved)
    made = given_.closed(kind, axis)
    there, back = form(kind)
    near, far = (np.ascontiguousarray(p) for p in (given_.pixels[:, :N], given_.pixels[:, KEPT:]))
    if kind is Kind.NORMAL:
        near, far = there(near), there(far)
    if given_.shift is not None:
        # Normals turn with the field as it is laid on the sheet
        ends = (near, far) if axis == 1 else (np.ascontiguousarray(p.transpose(1, 0, 2)) for p in (near, far))
        moved_ends = slid(*ends, kind, axis, given_.shift, axis == 0)
        near, far = moved_ends if axis == 1 else (np.ascontiguousarray(p.transpose(1, 0, 2)) for p in moved_ends)
    if kind is Kind.COLOUR:
        near, far = there(near), there(far)
    want = back(join_strip(near, far, given_.path, SOFT, axis == 0, IDLE))
    spread = float(np.std(given_.pixels[..., 0]))
    off = np.abs(made[:, :N] - want)
    assert np.sqrt(np.square(off).mean()) < 0.06 * spread  # broad parts are worked out on blocks
    assert off.max() < 0.8 * spread
    assert np.array_equal(made[:, N:], given_.pixels[:, N:KEPT])


@pytest.mark.parametrize("kind", list(KINDS))
def test_detail_away_from_the_cut_stays_what_it_was(kind: Kind) -> None:
    given_ = sheet(kind, 5, False)
    made = given_.closed(kind, 1)
    rows, columns = np.arange(ROWS), np.arange(N)
    left = columns[None, :] < given_.path[:, None] - 16
    right = (columns[None, :] > given_.path[:, None] + 16) & (columns < N - 1)
    fine = lambda p: p - blur(np.ascontiguousarray(p), 1.0, False)  # noqa: E731
    got = fine(made)[rows[:, None], columns]
    for side, of in ((left, given_.pixels[:, KEPT:]), (right, given_.pixels[:, :N])):
        off = np.abs(got - fine(of))[side]
        assert np.median(off) < 0.02 * np.median(np.abs(fine(of))[side])


@pytest.mark.parametrize("kind", list(KINDS))
@pytest.mark.parametrize("moved", [False, True])
def test_samples_that_are_spent_give_the_same(kind: Kind, moved: bool) -> None:
    given_ = sheet(kind, 7, moved)
    assert np.array_equal(given_.closed(kind, 0), given_.closed(kind, 0, spend=True))


@pytest.mark.parametrize("kind", list(KINDS))
@pytest.mark.parametrize("axis", [0, 1])
def test_no_shift_at_all_is_as_none(kind: Kind, axis: int) -> None:
    still = sheet(kind, 9, False)
    nowhere = Sheet(still.pixels, still.path, np.zeros((16, 6), np.float32))
    assert np.abs(nowhere.closed(kind, axis) - still.closed(kind, axis)).max() < 1e-5


@given(st.integers(0, 1000), st.sampled_from(list(KINDS)), st.sampled_from([0, 1]))
@settings(max_examples=12, deadline=None)
def test_what_is_the_same_at_both_ends_is_not_changed(seed: int, kind: Kind, axis: int) -> None:
    given_ = sheet(kind, seed, False)
    given_.pixels[:, KEPT:] = given_.pixels[:, :N]
    assert np.abs(given_.closed(kind, axis) - given_.pixels[:, :KEPT]).max() < 2e-5


def test_black_and_what_is_below_it_stay_finite() -> None:
    given_ = sheet(Kind.COLOUR, 1, True)
    given_.pixels[40:120, 20:90] = 0
    given_.pixels[60:80, KEPT + 10 : KEPT + 60] = -0.02
    given_.pixels[90:110, KEPT + 10 : KEPT + 60] = 40
    made = given_.closed(Kind.COLOUR, 1)
    assert np.isfinite(made).all()
    assert made.min() > -2 * FLOOR
