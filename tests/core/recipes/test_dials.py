"""Dials and seeds of a whole weave: by name, shaken, and between two settings."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from silent_loom.core.base.errors import SettingError
from silent_loom.core.weave.rows import edit
from silent_loom.core.weave.rows.beginnings import woven_from
from silent_loom.core.weave.rows.dials import Variant, between, has_seeds, knobs, reseeded, turned, variants
from silent_loom.core.weave.rows.model import Dial, Drive, GroupEntry, StepEntry, Weave
from silent_loom.core.weave.rows.saved import shipped

NOISE = StepEntry(id="n1", step="noise", settings={"scale_mm": 100.0, "seed": 5})
INNER = GroupEntry(
    id="g2",
    name="Inner",
    rows=(NOISE,),
    dials=(Dial(id="d2", title="Deep", value=0.5, drives=(Drive(row="n1", setting="depth_mm", low=0, high=10),)),),
)
OUTER = GroupEntry(
    id="g1",
    name="Outer",
    rows=(INNER,),
    dials=(
        Dial(id="d1", title="Coarse", value=0.25, drives=(Drive(row="n1", setting="scale_mm", low=50, high=250),)),
        Dial(id="d3", title="Deep", value=0.5, drives=(Drive(row="g2", setting="d2", low=0, high=1),)),
    ),
)
WEAVE = Weave(steps=(StepEntry(id="b1", step="blank"), OUTER))


def test_dials_are_found_by_short_names_the_outermost_first() -> None:
    assert [(k.name, k.depth) for k in knobs(WEAVE)] == [("coarse", 0), ("deep", 0)]  # the inner one is moved by the outer
    free = WEAVE.with_entry(OUTER.model_copy(update={"dials": OUTER.dials[:1]}))
    assert [k.name for k in knobs(free)] == ["coarse", "deep"]
    twice = WEAVE.with_entry(OUTER.model_copy(update={"dials": (OUTER.dials[0].model_copy(update={"title": "Deep"}),)}))
    assert [k.name for k in knobs(twice)] == ["deep", "outer/inner.deep"]


def test_dials_are_turned_by_name_or_id_within_their_range() -> None:
    for key in ("coarse", "Coarse", "d1"):
        assert next(d for d in turned(WEAVE, {key: 0.75}).group("g1").dials if d.id == "d1").value == 0.75
    for wrong in ({"coarse": 1.5}, {"fine": 0.5}, {"coarse": True}, {"coarse": "much"}):
        with pytest.raises(SettingError):
            turned(WEAVE, wrong)  # type: ignore[arg-type]
    with pytest.raises(SettingError, match="coarse, deep"):
        turned(WEAVE, {"fine": 0.5})


@given(st.integers(0, 10**6 - 1))
def test_seeds_go_on_and_stay_within_what_steps_take(number: int) -> None:
    made = reseeded(WEAVE, number)
    seed = made.entry("n1").settings["seed"]
    assert 0 <= seed < 1_000_000
    assert (made == WEAVE) == (number == 0)
    assert reseeded(WEAVE, number) == made


def test_a_sheet_is_the_same_whenever_it_is_asked_for_and_spreads_over_all_of_it() -> None:
    one = variants(WEAVE, 24, ["coarse", "deep"], spread=1.0)
    assert one == variants(WEAVE, 24, ["coarse", "deep"], spread=1.0)
    assert one[4:8] == variants(WEAVE, 4, ["coarse", "deep"], spread=1.0, first=5)
    places = [dict(v.dials) for v in one]
    for quarter in ((0, 0), (0, 1), (1, 0), (1, 1)):
        assert any((p["d1"] > 0.5, p["d3"] > 0.5) == quarter for p in places)
    assert len({v.seed for v in one}) == 24
    near = variants(WEAVE, 24, ["coarse"], spread=0.2, seeds=False)
    assert all(0.15 <= dict(v.dials)["d1"] <= 0.35 for v in near)
    assert {v.seed for v in near} == {0}
    with pytest.raises(SettingError, match="nothing in this weave can vary"):
        variants(Weave(steps=(StepEntry(step="blank"),)), 4, [])
    with pytest.raises(SettingError, match="no such dial"):
        variants(WEAVE, 4, ["wetness"])
    assert not has_seeds(Weave(steps=(StepEntry(step="blank"),)))


def test_what_lies_between_is_between() -> None:
    a = Variant(0, (("d1", 0.0),)).of(WEAVE)
    b = Variant(3, (("d1", 1.0),)).of(WEAVE)
    assert between(a, b, 0.0) == a
    assert between(a, b, 1.0).entry("n1").settings["seed"] == b.entry("n1").settings["seed"]
    quarter = between(a, b, 0.25)
    assert quarter.group("g1").dials[0].value == pytest.approx(0.25)
    assert quarter.entry("n1").settings["seed"] == a.entry("n1").settings["seed"]  # a seed cannot lie between: the nearer one's
    coarse = WEAVE.with_settings("n1", {"scale_mm": 300.0, "octaves": 2})
    half = between(WEAVE, coarse, 0.5).entry("n1").settings
    assert half["scale_mm"] == pytest.approx(200.0)
    assert half["octaves"] == 4
    with pytest.raises(SettingError, match="not made of the same rows"):
        between(WEAVE, edit.removed(WEAVE, "n1"), 0.5)


def test_colours_lie_between_too() -> None:
    weave = woven_from("bricks")
    dye = next(r for r in weave.rows() if r.step == "dye")
    stops: Any = dye.settings["ramp"]
    white = weave.with_settings(dye.id, {"ramp": [[at, 1.0, 1.0, 1.0] for at, *_ in stops]})
    middle: Any = between(weave, white, 0.5).entry(dye.id).settings["ramp"]
    for (at, *colour), (was_at, *was) in zip(middle, stops, strict=True):
        assert at == pytest.approx(was_at)
        assert colour == pytest.approx([(1 + c) / 2 for c in was])


@settings(deadline=None, max_examples=20)
@given(st.floats(0, 1), st.integers(0, 50), st.integers(0, 50))
def test_every_place_between_two_variants_is_a_weave(share: float, first: int, second: int) -> None:
    weave = shipped()["slate-roof"].weave
    made = between(Variant(first, ()).of(weave), Variant(second, (("lichen", 1.0),)).of(weave), share)
    assert Weave.model_validate_json(made.model_dump_json()) == made
