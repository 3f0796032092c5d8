"""Boards with their grain and knots, plates with their cracks, streaks: each against the same thing written down plainly."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray

from bench.patterns import alone, evaluator
from silent_loom.core.base.images import Floats
from silent_loom.core.maps.elements import chances
from silent_loom.core.patterns import flow, hashing, plates, wood
from silent_loom.core.patterns.cellular import cellular
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.laying import Laid, beside, items

N = 128
SHEET = Ground.of(N, N, (128.0, 128.0))


def one_board() -> Laid:
    """A board as large as the sheet, its middle in the middle."""
    return beside(SHEET, items([64.0], [64.0], 64.0, 64.0), 1.0)


def cut(knots: list[list[float]], pith: float = 0.0, rise: float = 0.0) -> wood.Trees:
    full = [*knots, *[[0.0, 0.0, 0.0]] * (wood.KNOTS - len(knots))]
    return wood.Trees(np.array([[64.0, 64.0, pith, rise, 0.0]], np.float32), np.array([full], np.float32))


def late(age: Floats) -> Floats:
    """What is seen of an age where texels show every ring."""
    phase = age - np.floor(age)
    return np.asarray(phase**3 * np.minimum((1 - phase) * 6, 1) * 1.6, np.float32)


# --- boards ----------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("pith", "rise"), [(0.0, 0.5), (0.8, 0.9), (-1.2, 0.15)])
def test_rings_are_those_of_a_cut_beside_the_middle_of_a_tree(pith: float, rise: float) -> None:
    rings, knot = wood.grained(one_board(), SHEET, np.zeros((N, N), np.float32), cut([], pith, rise), 30.0)
    across = np.arange(N) + 0.5 - 64
    age = np.hypot(across - 64 * pith, 64 * rise) / 30
    inner = slice(2, N - 2)  # at the edge the board on the other side begins
    assert np.abs(rings[inner, 64] - late(age)[inner]).max() < 2e-3
    assert np.ptp(rings, axis=1)[inner].max() < 1e-3, "a straight cut has straight rings"
    assert not knot.any()


def test_fibres_go_around_a_knot_and_close_behind_it() -> None:
    """Fibres of a cut through the middle of a tree count from it to both sides: at a knot in the middle the first ring parts."""
    r, ring = 12.0, 400.0  # one broad ring, so that what is seen tells the fibre
    straight, _ = wood.grained(one_board(), SHEET, np.zeros((N, N), np.float32), cut([], 0.0), ring)
    around, knot = wood.grained(one_board(), SHEET, np.zeros((N, N), np.float32), cut([[0.0, 0.0, r]], 0.0), ring)
    assert knot[64, 64] == 1
    assert knot[64, 80] == 0
    # The fibre that runs along the middle touches the knot's rim above and below
    rim = 64 - round(1.3 * r)
    fibre = 1.3 * r - r * r / (1.3 * r)
    expected = late(np.array([fibre / ring], np.float32))[0]
    assert abs(around[rim, 64] - expected) < 2e-3
    assert around[rim, 64] < straight[rim, 64]
    assert np.abs(around[:, 0] - straight[:, 0])[knot[:, 0] == 0].max() < 0.05, "far along the board nothing has moved"


def test_every_board_has_its_own_knots() -> None:
    made = evaluator().ask_many(alone("planks"), ["knot", "id"], 512)
    knot, ids = made["knot"].plane(), made["id"].plane()
    own = [bool((knot[ids == i] > 0.9).any()) for i in np.unique(ids) if i > 0]
    assert sum(own) > len(own) / 3, own
    assert not all(own), "some have none"


@given(st.floats(0.0, 1.0), st.integers(0, 500))
@settings(max_examples=30, deadline=None)
def test_knots_lie_on_their_boards(much: float, seed: int) -> None:
    table = items(np.arange(8) * 100.0, 50.0, 45.0, 20.0)
    found = wood.trees(table, much, seed)
    along, across, size = (found.knots[..., k] for k in range(3))
    there = size > 0
    assert (np.abs(along) <= 45)[there].all()
    assert (np.abs(across) + size <= 20 * 1.08)[there].all()
    more = wood.trees(table, min(1.0, much + 0.2), seed).knots[..., 2] > 0
    assert more[there].all(), "with more of them those that there were stay"


# --- plates ----------------------------------------------------------------------------------------------------------


def plain_in(depth: NDArray[Any], wide: NDArray[Any], texel: float) -> NDArray[Any]:
    inside = np.clip(-depth / np.maximum(0.3 * wide, texel) + 0.5, 0, 1) * (wide > 0)
    return np.minimum(inside, np.clip(wide / texel, 0, 1))


@pytest.mark.parametrize("part", [None, 0.0, 0.5, 1.0])
@pytest.mark.parametrize("wide", [0.3, 6.0])
def test_each_border_is_one_crack_all_along(part: float | None, wide: float) -> None:
    found = cellular(SHEET, (5, 6), stagger=True, seed=3)
    crack, depth = plates.cracked(found, SHEET, wide, kind=77, part=part)
    chance = hashing.parts(np.minimum(found.which, found.other), np.maximum(found.which, found.other), 77).astype(float)
    own = wide * (0.45 + 0.55 * chance) if part is None else np.where(chance < part, wide, 0.0)
    assert np.abs(depth - (found.border - own / 2)).max() < 1e-4
    assert np.abs(crack - plain_in(found.border - own / 2, own, 1.0)).max() < 1e-4
    assert (crack.max() > 0.2) == (part != 0.0)


def test_finer_cracks_belong_to_some_plates() -> None:
    found, fine = cellular(SHEET, (4, 4), seed=3), cellular(SHEET, (12, 12), seed=4)
    table = chances(found.count, 9)
    before, depth = plates.cracked(found, SHEET, 5.0, kind=1)
    crack = before.copy()
    plates.cracked_again(crack, depth, found, fine, SHEET, 0.3, chances=table, kind=2)
    more = crack > before
    assert more.any()
    assert (crack >= before).all()
    assert crack[more].max() <= float(plates.FAINT) + 1e-6
    whole = {int(i) for i in np.flatnonzero(table[:, 2] >= 0.4 + 0.6 * 0.3)}
    assert whole
    assert not whole & set(found.which[more].tolist()), "a plate that is not cracked again is left whole"


# --- streaks ---------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("way", [(1, 0), (0, 1), (-1, 0)])
def test_streaks_are_means_along_a_line(way: tuple[int, int]) -> None:
    grain = np.random.default_rng(5).random((N, N)).astype(np.float32)
    field = np.empty((2, N, N), np.float32)
    field[0], field[1] = way
    plain = np.mean([np.roll(grain, (-k * way[1], -k * way[0]), (0, 1)) for k in range(16)], 0)
    assert np.abs(flow.streaks(grain, field, 16.0, 1.0, SHEET) - plain).max() < 1e-5


def test_a_line_may_be_longer_than_many_sheets() -> None:
    """Around the sheet 32 times every place has been met as often: the mean of its row."""
    grain = np.random.default_rng(6).random((N, N)).astype(np.float32)
    field = np.zeros((2, N, N), np.float32)
    field[0] = -1
    drawn = flow.streaks(grain, field, 32.0 * N, 1.0, SHEET)
    assert np.abs(drawn - grain.mean(1, keepdims=True)).max() < 1e-4


# --- what elements are known by --------------------------------------------------------------------------------------


def test_numbers_of_elements_are_drawn_once_for_each_seed() -> None:
    found = beside(SHEET, items([32.0, 96.0], [64.0, 64.0], 30.0, 60.0), 1.0)
    own = found.chances(3)
    assert found.chances(3) is own
    assert not np.array_equal(found.chances(4), own)
    assert [len(np.unique(own[found.which == k], axis=0)) for k in (0, 1)] == [1, 1]
    assert not np.array_equal(own[64, 32], own[64, 96])
