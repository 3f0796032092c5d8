"""The weave at full strength: formulas of dials, notes, rows from other materials, threads that nobody uses, masks that know the surface."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from bench.patterns import evaluator
from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.steps.tone.where import Where, WhereSettings
from silent_loom.core.weave import registry
from silent_loom.core.weave.rows import edit
from silent_loom.core.weave.rows.beginnings import woven_from
from silent_loom.core.weave.rows.formula import FormulaError, compiled, value_of
from silent_loom.core.weave.rows.model import AMOUNT, Dial, Drive, GroupEntry, SourceRef, StepEntry, Weave
from silent_loom.core.weave.rows.resolve import resolved
from tests.core.maps.test_maps import run

SHEET = StepEntry(step="blank", settings={"width_mm": 100.0, "height_mm": 100.0})


# --- formulas --------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "x", "expected"),
    [
        ("x", 0.25, 0.25),
        ("low + (high - low) * x", 0.5, 20.0),
        ("2 + 3 * 4 ^ 2", 0.0, 50.0),
        ("-2 ^ 2", 0.0, -4.0),
        ("2 ^ 3 ^ 2", 0.0, 512.0),
        ("(1 - 2) - 3", 0.0, -4.0),
        ("8 / 4 / 2", 0.0, 1.0),
        ("min(x, 0.1) + max(x, 0.7)", 0.5, 0.8),
        ("mix(10, 20, x)", 0.3, 13.0),
        ("step(0.5, x) * 7", 0.5, 7.0),
        ("round(sin(90) * 2.4) + abs(-1) + floor(1.9)", 0.0, 4.0),
        ("sqrt(value) + 1e1", 0.0, 13.0),
        (".5*x", 1.0, 0.5),
    ],
)
def test_a_formula_comes_to_what_it_says(text: str, x: float, expected: float) -> None:
    assert value_of(text, x, 9.0, 10.0, 30.0) == pytest.approx(expected)


@pytest.mark.parametrize(
    "text", ["", "x +", "(x", "x x", "y", "min(1)", "mix(1,2)", "2 $ 3", "x.__class__", "import os", "1e999*0", "'a'"]
)
def test_what_is_no_formula_is_told_before_it_is_kept(text: str) -> None:
    if text == "1e999*0":  # no number comes out of it, so the low end stands
        assert value_of(text, 0.5, 0.5, 3.0, 4.0) == 3.0
        return
    with pytest.raises(FormulaError):
        compiled(text)
    if text:
        with pytest.raises(ValidationError):
            Drive(row="a", setting="b", low=0, high=1, formula=text)


@settings(max_examples=200, deadline=None)
@given(st.text(alphabet="x0123456789.+-*/^(), lowhigmnabsqrt", max_size=40))
def test_no_text_is_a_fault(text: str) -> None:
    try:
        made = value_of(text, 0.5, 0.5, 1.0, 2.0)
    except FormulaError:
        return
    assert np.isfinite(made)


def test_brackets_too_deep_are_refused() -> None:
    with pytest.raises(FormulaError, match="deep"):
        compiled("(" * 99 + "-" * 100)


def test_a_dial_drives_by_a_formula_within_what_the_setting_takes() -> None:
    row = StepEntry(step="noise", settings={})
    drives = (
        Drive(row=row.id, setting="gain", low=0, high=1, formula="x ^ 2"),
        Drive(row=row.id, setting="octaves", low=1, high=12, formula="40 * x"),
        Drive(row=row.id, setting=AMOUNT, low=0, high=1, formula="1 - x"),
    )
    group = GroupEntry(name="Wear", rows=(row,), dials=(Dial(title="Wear", value=0.5, drives=drives),))
    now = resolved(Weave(steps=(SHEET, group)))[1]
    assert isinstance(now, StepEntry)
    assert now.settings["gain"] == 0.25
    assert now.settings["octaves"] == 12, "forty octaves are more than there may be"
    assert now.amount == 0.5


def test_amounts_of_steps_that_move_pixels_are_not_driven() -> None:
    row = StepEntry(step="breakup")
    weave = Weave(steps=(SHEET, GroupEntry(name="G", rows=(row,))))
    group = weave.steps[1]
    dial = Dial(title="D", drives=(Drive(row=row.id, setting=AMOUNT, low=0, high=1),))
    with pytest.raises(WeaveError, match="on or off"):
        edit.with_dial(weave, group.id, dial)


# --- notes, copies, what is unused --------------------------------------------------------------------------------------


def test_notes_stay_with_their_rows_and_change_nothing_else() -> None:
    weave = woven_from("bricks")
    row = weave.rows()[2]
    noted = edit.noted(weave, row.id, "  keep the rims\nas they are ")
    assert noted.entry(row.id).note == "keep the rims\nas they are"
    assert Weave.model_validate_json(noted.model_dump_json()) == noted
    asked = evaluator()
    assert asked.key(weave, "base", 64) == asked.key(noted, "base", 64)


def test_rows_of_another_material_get_ids_of_their_own_and_keep_their_dials() -> None:
    bricks, cloth = woven_from("bricks"), woven_from("linen")
    colour = next(e for e in bricks.steps if isinstance(e, GroupEntry) and e.name == "Colour")
    made = edit.pasted(cloth, [colour, colour], 1, "", {})
    ids = [e.id for e in made.rows()] + [e.id for e in made.steps]
    assert len({*ids}) == len(set(ids))
    first, second = made.steps[1], made.steps[2]
    assert isinstance(first, GroupEntry)
    assert isinstance(second, GroupEntry)
    assert {r.id for r in first.rows}.isdisjoint({r.id for r in second.rows} | {r.id for r in colour.rows})
    for dial in first.dials:
        assert {d.row for d in dial.drives} <= {r.id for r in first.rows}
    assert [r.settings for r in first.rows] == [r.settings for r in colour.rows]  # type: ignore[union-attr]
    inside = edit.pasted(cloth, [StepEntry(step="noise")], 0, cloth.steps[-3].id, {})
    assert inside.group(cloth.steps[-3].id).rows[0].step == "noise"  # type: ignore[union-attr]


def test_files_behind_pasted_rows_come_along_or_are_missed() -> None:
    digest = "ab" * 32
    photo = StepEntry(step="photo", settings={"source": digest})
    with pytest.raises(WeaveError, match="not in this library"):
        edit.pasted(woven_from("linen"), [photo], 0, "", {})
    ref = SourceRef(name="quay.png", format="png", width=8, height=8, bytes=100)
    assert edit.pasted(woven_from("linen"), [photo], 0, "", {digest: ref}).sources[digest] == ref
    assert edit.digests({"a": [{"b": digest}, "cd" * 31]}) == {digest}


def test_threads_that_nobody_uses_are_named() -> None:
    asked = evaluator()
    alone = Weave(steps=(SHEET, StepEntry(step="bonds")))
    assert asked.plan(alone).unused() == ["border", "gradient", "id", "joint", "orientation", "random"]
    ramp = StepEntry(step="dye", settings={"thread": "random"}, mask={"thread": "joint"})  # type: ignore[arg-type]
    assert asked.plan(Weave(steps=(*alone.steps, ramp))).unused() == ["border", "gradient", "id", "orientation"]


def test_costs_are_told_in_time_and_memory() -> None:
    asked = evaluator()
    weave = Weave(steps=(SHEET, StepEntry(step="ribs")))
    asked.ask(weave, "height", 64)
    row = weave.rows()[1].id
    sizes = {k: v for k, v in asked.costs.memory() if k.startswith(row)}
    assert sum(sizes.values()) == 64 * 64 * 4 * (1 + 1 + 1 + 4), "height, id, gradient and four random numbers"


def test_two_hundred_steps_recompute_only_what_hangs_on_a_change() -> None:
    rows = [SHEET, StepEntry(step="noise", settings={"octaves": 1})]
    rows += [StepEntry(step="grade", settings={"thread": "height", "into": f"m{k}", "end": 0.5}) for k in range(198)]
    weave, asked = Weave(steps=tuple(rows)), evaluator()
    for k in range(198):
        asked.ask(weave, f"m{k}", 16)
    before = len(asked.computed)
    changed = weave.with_settings(rows[100].id, {"end": 0.75})
    for k in range(198):
        asked.ask(changed, f"m{k}", 16)
    assert [row for row, _ in asked.computed[before:]] == [rows[100].id]


# --- masks that know the surface -----------------------------------------------------------------------------------------


def height_of(plane: Any) -> Image:
    return Image(np.ascontiguousarray(plane, np.float32)[..., None], Kind.DATA, (64.0, 64.0), True)


def where(**values: Any) -> Floats:
    """On a ridge that runs down the middle of a sheet of 64 × 64 mm, eight high, its sides of 45°."""
    x = np.abs(np.arange(64) + 0.5 - 32)
    ridge = np.broadcast_to(np.maximum(8 - x, 0), (64, 64))
    inputs = {"height": height_of(ridge), **values.pop("inputs", {})}
    return run(Where(), WhereSettings(**values), **inputs)["where"].plane()


def test_slopes_ridges_levels_and_ways() -> None:
    steep = where(by="steep", from_deg=20, to_deg=40)
    assert steep[5, 27] == steep[5, 36] == 1
    assert steep[5, 10] == 0
    right = where(by="facing", toward_deg=0, from_deg=20, to_deg=40)
    assert right[5, 36] == 1, "the right flank falls to the right, so it faces there"
    assert right[5, 27] == 0
    ridges, hollows = (where(by=by, start=0.1, end=0.5, scale_mm=4.0) for by in ("ridges", "crevices"))
    assert ridges[5, 32] > 0.9
    assert ridges[5, 24] == 0
    assert hollows[5, 32] == 0
    assert hollows[5, 23] > 0.2
    high = where(by="high", start=0.9, end=0.95)  # the thread's range is −5 to 5
    assert high[5, 32] == 1
    assert high[5, 26] == 0
    assert np.allclose(where(by="high", start=0.9, end=0.95, inverted=True), 1 - high)


def test_masks_count_together() -> None:
    a = where(by="high", start=0.5, end=0.9)
    half = Image(np.full((64, 64, 1), 0.25, np.float32), Kind.DATA, (64.0, 64.0), True)
    for how, expected in (("and", a * 0.25), ("or", a + 0.25 - a * 0.25), ("not", a * 0.75), ("either", a + 0.25 - a * 0.5)):
        found = where(by="high", start=0.5, end=0.9, with_="other", how=how, inputs={"other": half})
        assert np.abs(found - expected).max() < 1e-6, how


@pytest.mark.parametrize("share", [0.1, 0.35, 0.8])
def test_patches_cover_about_what_they_are_asked_to(share: float) -> None:
    asked = evaluator()
    row = StepEntry(step="where", settings={"by": "noise", "scale_mm": 12.0, "share": share})
    for size in (64, 256):
        assert asked.ask(Weave(steps=(SHEET, row)), "where", size).plane().mean() == pytest.approx(share, abs=0.05)


def test_elements_and_borders() -> None:
    asked = evaluator()
    bond = StepEntry(step="bonds", settings={"across_mm": 10.0, "down_mm": 5.0, "joint_mm": 1.0, "worn": 0.0, "bevel_mm": 0.5})
    some = StepEntry(step="where", settings={"by": "elements", "share": 0.4})
    rims = StepEntry(step="where", settings={"by": "border", "from_mm": 0.0, "to_mm": 1.0, "inverted": True, "name": "rims"})
    weave = Weave(steps=(SHEET, bond, some, rims))
    ids, chosen, rim = (asked.ask(weave, t, 256).plane() for t in ("id", "where", "rims"))
    assert set(np.unique(chosen)) == {0.0, 1.0}
    assert 0.2 < chosen.mean() < 0.6
    for label in np.unique(ids)[1:20]:
        assert np.ptp(chosen[ids == label]) == 0
    border = asked.ask(weave, "border", 256).plane()
    assert rim[border > 1.1].max() == 0
    assert rim[border < 0.05].min() > 0.95


def test_a_mask_that_begins_where_it_ends_is_refused() -> None:
    error = (
        evaluator()
        .plan(Weave(steps=(SHEET, StepEntry(step="ribs"), StepEntry(step="where", settings={"start": 0.5, "end": 0.5}))))
        .error()
    )
    assert error is not None
    assert "same value" in str(error)


def test_a_pattern_that_is_added_is_mixed_anew_and_not_drawn_again(monkeypatch: pytest.MonkeyPatch) -> None:
    """Whatever changes above it, its own relief follows from its settings alone."""
    kind = type(registry.step("cells"))
    drawn: list[str] = []
    draw = kind.draw

    def noted(self: Any, s: Any, *more: Any) -> Any:
        drawn.append(s.show)
        return draw(self, s, *more)

    monkeypatch.setattr(kind, "draw", noted)
    rows = (
        StepEntry(step="blank"),
        StepEntry(id="n1", step="noise", settings={"depth_mm": 4.0}),
        StepEntry(id="c1", step="cells", settings={"depth_mm": 2.0}, mix="add"),
    )
    weave, asked = Weave(steps=rows), evaluator()
    first = asked.ask(weave, "height", 64).pixels
    deeper = weave.with_settings("n1", {"depth_mm": 9.0})
    second = asked.ask(deeper, "height", 64).pixels
    assert drawn == ["nearest"]
    assert not np.array_equal(first, second)
    assert np.array_equal(second, evaluator().ask(deeper, "height", 64).pixels)
    asked.ask(deeper.with_settings("c1", {"depth_mm": 3.0}), "height", 64)
    assert len(drawn) == 3  # its own settings: it is drawn; and once by the evaluator that was fresh
