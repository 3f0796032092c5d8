"""A weave on a model: where threads live, what is laid on, what is refused, and that it agrees at every size."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import pytest

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.images import Floats
from silent_loom.core.form.model import Model, Table, plate
from silent_loom.core.form.uv.moved import moved
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.answers.placing import fitting_place
from silent_loom.core.weave.answers.plan import flat_part
from silent_loom.core.weave.answers.windows import window
from silent_loom.core.weave.rows.model import Mask, StepEntry, Weave
from tests.core.form.test_bake import sphere

SIDE = 1000.0


class OneModel:
    """Sources that hold models by name, and no pictures."""

    def __init__(self, **models: Model) -> None:
        self.models = models

    def picture(self, digest: str) -> Any:
        raise KeyError(digest)

    info = picture

    def model(self, digest: str) -> Model:
        return self.models[digest]


def row(step: str, mask: str = "", **values: Any) -> StepEntry:
    return StepEntry(id=step.replace("_", ""), step=step, settings=values, mask=Mask(thread=mask) if mask else None)


SHEET = (row("blank", width_mm=500.0, height_mm=500.0), row("noise", depth_mm=20.0, scale_mm=120.0), row("normal"))


def weave(*rows: StepEntry, **how: Any) -> Weave:
    return Weave(steps=(*SHEET, row("lay_on", model="one", **how), *rows))


@pytest.fixture
def evaluator() -> Evaluator:
    flat = plate()
    assert flat.size_mm[0] == pytest.approx(SIDE)
    ball = sphere(10)
    return Evaluator(OneModel(one=flat, ball=ball), decision_size=64)


def asked(evaluator: Evaluator, of: Weave, thread: str, size: int = 128) -> Floats:
    return evaluator.ask(of, thread, size).pixels


def test_the_place_of_threads_is_said_in_one_place(evaluator: Evaluator) -> None:
    plan = evaluator.plan(weave(row("where_on_model", by="altitude")))
    assert plan.error() is None
    on = [r.after.on is not None for r in plan.rows]
    assert on == [False, False, False, True, True]
    assert plan.geometry.size_mm == pytest.approx((SIDE, SIDE))
    assert not plan.geometry.wraps


def test_through_the_uvs_repeats_have_their_real_size(evaluator: Evaluator) -> None:
    flat = evaluator.ask(Weave(steps=SHEET), "height", 64).pixels
    laid = asked(evaluator, weave(), "height")
    np.testing.assert_allclose(laid, np.tile(flat, (2, 2, 1)), atol=1e-3)
    larger = asked(evaluator, weave(scale=2.0), "height")
    np.testing.assert_allclose(larger, evaluator.ask(Weave(steps=SHEET), "height", 128).pixels, atol=1e-3)


def test_a_quarter_turn_turns_what_normals_say(evaluator: Evaluator) -> None:
    straight, turned = asked(evaluator, weave(), "normal"), asked(evaluator, weave(turn_deg=90.0), "normal")
    expected = np.rot90(straight, 1)
    expected = np.stack([-expected[..., 1], expected[..., 0], expected[..., 2]], -1)
    middle = slice(2, -2)
    np.testing.assert_allclose(turned[middle, middle], expected[middle, middle], atol=0.02)


def test_a_pattern_below_is_made_on_a_sheet_and_laid_on_as_the_material_is(evaluator: Evaluator) -> None:
    pattern = row("stones", into="stone", seed=3)
    above = Weave(steps=(*SHEET, pattern, row("lay_on", model="ball", by="sides")))
    below = Weave(steps=(*SHEET, row("lay_on", model="ball", by="sides"), pattern))
    assert evaluator.plan(below).error() is None
    one, other = asked(evaluator, above, "stone"), asked(evaluator, below, "stone")
    np.testing.assert_allclose(one, other, atol=1e-6)
    assert one.std() > 0.05


def test_masks_of_the_model_are_threads_that_rows_read(evaluator: Evaluator) -> None:
    where = row("where_on_model", by="altitude", name="top", start=0.49, end=0.51)
    red = StepEntry(id="red", step="blank", settings={"colour": "#ff0000"}, mask=Mask(thread="top"))
    top, after = (asked(evaluator, weave(where, red), n) for n in ("top", "base"))
    untouched = asked(evaluator, weave(), "base")
    assert 0.4 < top.mean() < 0.6
    upper, lower = top[..., 0] == 1, top[..., 0] == 0
    np.testing.assert_array_equal(after[lower], untouched[lower])
    np.testing.assert_allclose(after[upper], [[1.0, 0.0, 0.0]] * int(upper.sum()), atol=1e-5)
    inverted = asked(evaluator, weave(where.model_copy(update={"settings": {**where.settings, "inverted": True}})), "top")
    np.testing.assert_allclose(inverted, 1 - top, atol=1e-6)


@pytest.mark.parametrize(
    ("rows", "words"),
    [
        ((*SHEET, row("where_on_model")), "works on a model"),
        ((*SHEET, row("lay_on", model="one"), row("seamless")), "works on a sheet"),
        ((*SHEET, row("lay_on", model="one"), StepEntry(id="two", step="lay_on", settings={"model": "one"})), "already"),
        ((*SHEET, row("lay_on", model="one", uv="third")), "UV set 'third'"),
        ((row("lay_on", model="one"), *SHEET), "nothing comes into it"),
    ],
)
def test_what_cannot_work_where_it_stands_says_so(evaluator: Evaluator, rows: tuple[StepEntry, ...], words: str) -> None:
    error = evaluator.plan(Weave(steps=rows)).error()
    assert error is not None
    assert words in str(error)


def test_a_mask_by_what_the_model_lacks_says_so(evaluator: Evaluator) -> None:
    with pytest.raises(WeaveError, match="no vertex colours"):
        evaluator.ask(weave(row("where_on_model", by="paint", name="gold")), "gold", 64)
    with pytest.raises(WeaveError, match="there is no mesh"):
        evaluator.ask(weave(row("where_on_model", by="mesh", named="nobody", name="gold")), "gold", 64)


def test_keys_follow_the_model_and_how_it_is_laid_on(evaluator: Evaluator) -> None:
    first = weave(row("where_on_model", name="top"))
    turned = first.with_settings("layon", {"turn_deg": 30.0})
    other = first.with_settings("layon", {"model": "ball"})
    for changed in (turned, other):
        for thread in ("base", "height", "top"):
            assert evaluator.key(first, thread, 64) != evaluator.key(changed, thread, 64)
    # The same sheet is asked for above, wherever as many texels of it are needed
    assert evaluator.key(first, "height", 64, below="normal") == evaluator.key(turned, "height", 64, below="normal")


def test_sizes_and_windows_agree(evaluator: Evaluator) -> None:
    of = weave(row("where_on_model", name="top"), StepEntry(id="again", step="normal"))
    small, large = asked(evaluator, of, "height", 64), asked(evaluator, of, "height", 128)
    halved = large.reshape(64, 2, 64, 2, 1).mean((1, 3))
    assert float(np.abs(small - halved).mean()) < 0.05 * float(large.std())
    whole = asked(evaluator, of, "normal", 128)
    part = window(Evaluator(evaluator.sources, decision_size=64), of, "normal", 128, (30, 20, 62, 51))
    x0, y0, x1, y1 = part.box
    np.testing.assert_allclose(part.image.pixels, whole[y0:y1, x0:x1], atol=1e-5)


def test_the_flat_part_ends_above_the_model(evaluator: Evaluator) -> None:
    of = weave(row("where_on_model", name="top"))
    assert [r.step for r in flat_part(evaluator.plan(of), of).rows()] == ["blank", "noise", "normal"]


def test_new_rows_go_where_they_work(evaluator: Evaluator) -> None:
    of = weave()
    plan = evaluator.plan(of)
    for step, at in (("seamless", 3), ("where_on_model", 4), ("tone", 4)):
        _, to, into, words = fitting_place(plan, of, StepEntry(step=step), 4, "")
        assert (to, into) == (at, ""), step
        assert ("works on a sheet" in words) == (step == "seamless")


def test_what_has_moved_between_two_models_is_told() -> None:
    first = plate()
    assert moved(first, first).words() == "its UVs are where they were"
    uv = first.uv()
    shifted = replace(first, uvs={"UV": Table(uv.values + 0.25, uv.index)})
    assert "UVs of 100 %" in moved(first, shifted).words()
    assert "triangles where it had 2" in moved(first, sphere(4)).words()
    taller = replace(first, positions=Table(first.positions.values * 1.5, first.positions.index))
    assert "another shape" in moved(first, taller).words()
