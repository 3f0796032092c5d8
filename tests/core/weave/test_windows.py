"""Parts of sheets at full size: the same samples as all of it."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from silent_loom.core.files.picture import Picture
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.answers.windows import window
from silent_loom.core.weave.rows.model import Mask, StepEntry, Weave
from tests.conftest import OnePicture

SIZE = 96


@pytest.fixture(scope="module")
def full(photo_weave: tuple[Evaluator, Weave]) -> dict[str, np.ndarray]:
    evaluator, weave = photo_weave
    return {t: evaluator.ask(weave, t, SIZE).pixels for t in ("base", "normal", "roughness", "metallic", "moss")}


@pytest.fixture(scope="module")
def photo_weave(photo: Picture) -> tuple[Evaluator, Weave]:
    from tests.conftest import weave_of

    weave = weave_of(photo)
    more = (
        StepEntry(step="single", settings={"thread": "normal", "channel": "first", "name": "moss"}),
        StepEntry(step="tone", settings={"thread": "roughness", "contrast": 40}, mask=Mask(thread="moss", low=0.4, high=0.6)),
    )
    return Evaluator(OnePicture(photo), decision_size=128), weave.model_copy(update={"steps": (*weave.steps, *more)})


@settings(max_examples=25, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    thread=st.sampled_from(["base", "normal", "roughness", "metallic", "moss"]),
    left=st.integers(-40, 90),
    top=st.integers(-40, 60),
    width=st.integers(1, 60),
    height=st.integers(1, 60),
)
def test_a_window_is_cut_from_the_whole(
    photo: Picture,
    photo_weave: tuple[Evaluator, Weave],
    full: dict[str, np.ndarray],
    thread: str,
    left: int,
    top: int,
    width: int,
    height: int,
) -> None:
    fresh = Evaluator(OnePicture(photo), decisions=photo_weave[0].decisions, decision_size=128)
    found = window(fresh, photo_weave[1], thread, SIZE, (left, top, left + width, top + height))
    whole = full[thread]
    rows, columns = np.arange(top, top + height) % whole.shape[0], np.arange(left, left + width) % whole.shape[1]
    assert found.box == (left, top, left + width, top + height)
    assert np.array_equal(found.image.pixels, whole[rows[:, None], columns[None, :]])


def test_only_what_must_be_is_computed_whole(photo: Picture, photo_weave: tuple[Evaluator, Weave]) -> None:
    evaluator = Evaluator(OnePicture(photo), decisions=photo_weave[0].decisions, decision_size=128)
    found = window(evaluator, photo_weave[1], "normal", SIZE, (10, 10, 20, 20))
    assert found.whole_above == "Height"
    rows = {e.id: e.step for e in photo_weave[1].rows()}
    assert {"normal", "roughness"}.isdisjoint(rows[row] for row, _ in evaluator.computed)
    constant = window(evaluator, photo_weave[1], "metallic", 16384, (9000, 9000, 9004, 9002))
    assert constant.image.pixels.shape == (2, 4, 1)
    assert constant.whole_above == ""
    evaluator.ask(photo_weave[1], "normal", SIZE)
    assert window(evaluator, photo_weave[1], "normal", SIZE, (10, 10, 20, 20)).whole_above == "", "what is there is cut from it"


def test_a_window_ends_where_edges_do_not_meet(photo: Picture, photo_weave: tuple[Evaluator, Weave]) -> None:
    evaluator, weave = photo_weave
    open_ = weave.with_entry(weave.first("seamless").model_copy(update={"on": False}))  # type: ignore[union-attr]
    whole = evaluator.ask(open_, "normal", SIZE).pixels
    fresh = Evaluator(OnePicture(photo), decisions=evaluator.decisions, decision_size=128)
    found = window(fresh, open_, "normal", SIZE, (-5, -5, 12, 9))
    assert found.box == (0, 0, 12, 9)
    assert np.array_equal(found.image.pixels, whole[:9, :12])
