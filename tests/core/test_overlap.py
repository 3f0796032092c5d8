"""How much of a sheet is laid over itself: fitted to what runs along the edges, left alone where nothing does."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from silent_loom.core.images import Image
from silent_loom.core.resample import blur
from silent_loom.core.tiling.cut import price_of_cut
from silent_loom.core.tiling.overlap import REACH, fitted_overlap
from silent_loom.core.tiling.seamless import SeamlessSettings, cost_of
from silent_loom.core.tiling.suggest import suggest, tried
from tests.support.walls import courses, sheet


def price(image: Image, part: float) -> float:
    """What the cut from top to bottom costs a column at this overlap."""
    cost = cost_of({"base": image}, {"base": 1.0}).turned()
    n = round(part * image.height)
    return price_of_cut(cost.prices(image.height - n, False), margin=int(0.12 * n))


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
    assert told.figures["cut"] == pytest.approx(figure, abs=0.15), "what is said was measured at this size"
