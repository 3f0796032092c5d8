"""How much of a sheet is laid over itself: fitted to what runs along the edges, left alone where nothing does."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from silent_loom.core.base.images import Image
from silent_loom.core.moving.resample import blur
from silent_loom.core.report import suggest as suggesting
from silent_loom.core.report.overlap import APART, REACH, fitted_overlap, fitting_overlaps
from silent_loom.core.report.suggest import suggest, tried
from silent_loom.core.steps.tiling.seamless import SeamlessSettings
from silent_loom.core.tiling.cutting.cost import cost_of
from silent_loom.core.tiling.cutting.cut import Prices, roughness_of_cut
from tests.support.walls import courses, sheet


def price(image: Image, part: float) -> float:
    """How rough the cut from top to bottom is, a column, at this overlap."""
    cost = cost_of({"base": image}, {"base": 1.0}).turned()
    n = round(part * image.height)
    return roughness_of_cut(cost.prices(image.height - n, False), margin=int(0.12 * n))


@pytest.mark.parametrize(("repeat", "seed"), [(770.0, 3), (741.3, 5), (812.5, 8)])
def test_courses_meet_themselves(repeat: float, seed: int) -> None:
    photo = sheet(courses(1000, 800, repeat, seed))
    _, down = fitted_overlap(photo, (0.2, 0.22))
    # Another overlap may bring a joint upon a joint just as well as the true repeat; most do not.
    # What is nearer to the overlap asked for is preferred to what is a little better.
    assert price(photo, down) <= 1.5 * price(photo, 1 - repeat / 1000)
    assert price(photo, down) < 0.5 * np.median([price(photo, part) for part in np.linspace(0.11, 0.39, 15)])


def test_where_nothing_runs_along_the_edges_it_stays_as_asked() -> None:
    rng = np.random.default_rng(5)
    grain = blur(rng.normal(0, 1, (700, 900)).astype(np.float32), 2.0, False)
    for asked in ((0.2, 0.2), (0.1, 0.3)):
        assert fitted_overlap(sheet(0.4 + 0.1 * grain / grain.std()), asked) == asked


@pytest.mark.parametrize("size", [(4, 4), (5, 90), (30, 2000), (2000, 30)])
def test_a_sheet_too_narrow_to_choose_from_keeps_what_was_asked(size: tuple[int, int]) -> None:
    narrow = np.random.default_rng(1).random(size).astype(np.float32)
    across, down = fitted_overlap(sheet(narrow))
    assert (down if size[0] < 90 else across) == 0.2
    assert suggest(sheet(narrow)).settings["method"]


@given(asked=st.tuples(st.floats(0.02, 0.5), st.floats(0.02, 0.5)))
@settings(max_examples=6, deadline=None)
def test_it_stays_within_reach_of_what_was_asked(asked: tuple[float, float]) -> None:
    found = fitted_overlap(sheet(courses(300, 260, 240.0, 3)), asked)
    for part, wanted in zip(found, asked, strict=True):
        assert part == wanted or REACH[0] * wanted - 0.02 <= part <= min(0.45, REACH[1] * wanted) + 0.02
        SeamlessSettings(overlap_x=part)  # what is found can be set


def test_joints_that_a_small_trial_hides_are_not_suggested() -> None:
    photo = sheet(courses(1100, 1400, 861.0, 8))
    told = suggest(photo)
    assert told.settings["method"] == "cut"
    _, figure = tried(photo, SeamlessSettings(**told.settings), size=1100)
    assert figure <= 1.0
    assert min(told.figures.values()) == pytest.approx(figure, abs=0.15), "what is said was measured at this size"


def test_few_bad_places_count_for_more_than_many_fair_ones() -> None:
    even, spiked = np.full((100, 9), 2.0, np.float32), np.full((100, 9), 1.0, np.float32)
    spiked[:10] = 10.0
    dear = np.full((100, 9), 1e3, np.float32)
    level, bad = Prices(even, dear, dear), Prices(spiked, dear, dear)
    assert spiked.mean() < even.mean()
    assert roughness_of_cut(level, 1) == pytest.approx(2.0)
    assert roughness_of_cut(bad, 1) == pytest.approx(np.sqrt((10 * 100 + 90) / 100))
    # A step sideways costs where it is made
    way = np.full((4, 9), 50.0, np.float32)
    way[:2, 3], way[2:, 5] = 1.0, 1.0
    right = np.full((4, 9), 2.0, np.float32)
    assert roughness_of_cut(Prices(way, right, right), 1) == pytest.approx(np.sqrt((1 + 25 + 1 + 1) / 4))


def test_several_overlaps_are_told_apart() -> None:
    found = fitting_overlaps(sheet(courses(300, 260, 240.0, 3)), (0.2, 0.25))
    assert (found[0][0], found[1][0]) == fitted_overlap(sheet(courses(300, 260, 240.0, 3)), (0.2, 0.25))
    for parts, asked in zip(found, (0.2, 0.25), strict=True):
        assert any(abs(part - asked) < APART for part in parts), "what was asked for stays among them"
        assert all(abs(a - b) >= APART for i, a in enumerate(parts) for b in parts[:i])


def test_each_direction_is_cut_where_it_fits_by_itself(monkeypatch: pytest.MonkeyPatch) -> None:
    """Across fits at the second overlap and down at the third; the best of both is then tried together."""
    across, down = {0.2: 1.4, 0.3: 0.6, 0.1: 2.0}, {0.2: 1.5, 0.31: 1.2, 0.15: 0.7}
    cuts: list[tuple[float, float]] = []

    def figures(image: Image, s: SeamlessSettings, task: object) -> tuple[float, float]:
        if s.method != "cut" or s.cut_by != "lines" or not s.bend:
            return 3.0, 3.0
        cuts.append((s.overlap_x, s.overlap_y))
        return across.get(s.overlap_x, 9.0), down.get(s.overlap_y, 9.0)

    monkeypatch.setattr(suggesting, "_proved", figures)
    monkeypatch.setattr(suggesting, "fitting_overlaps", lambda *_: (list(across), list(down)))
    told = suggest(sheet(courses(300, 260, 240.0, 3)))
    assert cuts == [(0.2, 0.2), (0.3, 0.31), (0.3, 0.15)]
    assert told.settings == {"method": "cut", "overlap_x": 0.3, "overlap_y": 0.15, "cut_by": "lines", "bend": True}
    assert told.figures["cut, elsewhere"] == 0.7
