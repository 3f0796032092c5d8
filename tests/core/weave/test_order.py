"""Rows in the wrong order: found, said, and put right; new rows go where they work."""

from __future__ import annotations

import pytest

from silent_loom.core.weave.answers.drift import beside, can_rise, drifts, made_below
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.answers.placing import fitting_place
from silent_loom.core.weave.answers.plan import planned
from silent_loom.core.weave.rows import edit
from silent_loom.core.weave.rows.beginnings import woven_from
from silent_loom.core.weave.rows.model import StepEntry, Weave
from tests.conftest import OnePicture

SOURCES = OnePicture(None)  # type: ignore[arg-type]


def weave(*steps: str | StepEntry) -> Weave:
    return Weave(steps=tuple(s if isinstance(s, StepEntry) else StepEntry(id=s, step=s) for s in steps))


RAISED = StepEntry(id="raised", step="mould", settings={"regions": [{"points": [(0.5, 0.5)], "kind": "brush"}]})


def test_a_height_that_changes_after_it_was_read_is_found() -> None:
    drifting = weave("blank", "noise", "normal", "occlusion", RAISED)
    found = drifts(planned(drifting, SOURCES))
    assert {(d.thread, d.source, d.reader, d.changer) for d in found} == {
        ("normal", "height", "normal", "raised"),
        ("occlusion", "height", "occlusion", "raised"),
    }
    assert can_rise(planned(drifting, SOURCES), "raised", "normal")
    mended = edit.moved(drifting, "raised", *beside(drifting, "raised", "normal"))
    assert [r.id for r in mended.rows()] == ["blank", "noise", "raised", "normal", "occlusion"]
    assert drifts(planned(mended, SOURCES)) == []
    again = edit.pasted(drifting, [drifting.at("normal"), drifting.at("occlusion")], len(drifting.steps), "", {})
    assert drifts(planned(again, SOURCES)) == []


def test_moving_it_up_makes_normal_and_height_agree_again() -> None:
    drifting = weave("blank", "noise", "normal", RAISED)
    evaluator = Evaluator(SOURCES)
    mended = edit.moved(drifting, "raised", *beside(drifting, "raised", "normal"))
    was, now = (evaluator.ask(w, "normal", 128).pixels for w in (drifting, mended))
    assert abs(was - now).max() > 0.01
    assert (evaluator.ask(drifting, "height", 128).pixels == evaluator.ask(mended, "height", 128).pixels).all()


def test_what_moves_pixels_or_only_reads_colour_is_no_drift() -> None:
    assert drifts(planned(weave("blank", "noise", "normal", StepEntry(id="t", step="tone")), SOURCES)) == []
    for name in ("gravel", "planks"):
        assert drifts(planned(woven_from(name), SOURCES)) == []


def test_a_row_that_wants_what_a_later_one_makes_is_told_so() -> None:
    wrong = weave("blank", "slope", "noise", "normal")
    plan = planned(wrong, SOURCES)
    row = next(r for r in plan.rows if r.entry.id == "slope")
    found = made_below(plan, row)
    assert found is not None
    assert (found[0], found[1].entry.id) == ("normal", "normal")
    right = edit.moved(wrong, "slope", *beside(wrong, "slope", "normal", below=True))
    assert [r.id for r in right.rows()] == ["blank", "noise", "normal", "slope"]
    assert planned(right, SOURCES).error() is None


def test_new_rows_go_where_they_work() -> None:
    whole = weave("blank", "noise", "normal", "occlusion", "roughness")
    plan = planned(whole, SOURCES)
    new, to, into, words = fitting_place(plan, whole, RAISED, 5, "")
    made = edit.added(whole, new, to, into)
    assert [r.id for r in made.rows()] == ["blank", "noise", "raised", "normal", "occlusion", "roughness"]
    assert "above Normal, which reads the height" in words
    tone = StepEntry(id="tone", step="tone")
    assert fitting_place(plan, whole, tone, 5, "")[1:] == (5, "", ""), "what only changes colour stays where it was asked for"
    assert fitting_place(plan, whole, RAISED, 1, "")[1] == 1, "above all readers nothing has to move"


def test_a_row_that_needs_what_lies_lower_stays_below_it() -> None:
    by_slope = RAISED.model_copy(update={"settings": {**RAISED.settings, "thread": "slope"}})
    whole = weave("blank", "noise", "normal", "slope")
    assert fitting_place(planned(whole, SOURCES), whole, by_slope, 4, "")[1] == 4


def test_a_pattern_beside_a_height_makes_a_thread_of_its_own() -> None:
    whole = weave("blank", "noise", "normal")
    plan = planned(whole, SOURCES)
    new, *_ = fitting_place(plan, whole, StepEntry(step="cells"), 3, "")
    assert new.settings["into"] == "cells"
    second = edit.added(whole, new, 3)
    again, *_ = fitting_place(planned(second, SOURCES), second, StepEntry(step="cells"), 4, "")
    assert again.settings["into"] == "cells_2"
    told, to, _, _ = fitting_place(plan, whole, StepEntry(step="cells", settings={"into": "height"}), 3, "")
    assert (told.settings["into"], to) == ("height", 2), "asked to be the height, it goes above what reads it"
    first, *_ = fitting_place(planned(weave("blank"), SOURCES), weave("blank"), StepEntry(step="cells"), 1, "")
    assert "into" not in first.settings, "the first relief is the height"


@pytest.mark.parametrize("there", [(), ("roughness",), ("noise",), ("noise", "roughness")])
def test_varying_elements_does_without_what_is_not_there(there: tuple[str, ...]) -> None:
    pattern = StepEntry(id="bonds", step="bonds", settings={"into": "bond"})
    vary = StepEntry(id="vary", step="vary", settings={"ids": "bond_id", "raise_mm": 1.0, "light": 1.0, "roughness": 0.2})
    rows = weave("blank", pattern, *there, vary)
    plan = planned(rows, SOURCES)
    assert plan.error() is None
    evaluator = Evaluator(SOURCES)
    before = evaluator.ask(rows, "base", 64, below=there[-1] if there else "bonds").pixels
    assert abs(evaluator.ask(rows, "base", 64).pixels - before).max() > 0.01
    assert ("height" in plan.rows[-1].writes) == ("noise" in there)
    assert ("roughness" in plan.rows[-1].writes) == ("roughness" in there)


def test_nothing_at_all_to_vary_is_still_said() -> None:
    rows = weave(
        StepEntry(id="bonds", step="bonds", settings={"into": "bond"}),
        StepEntry(id="v", step="vary", settings={"ids": "bond_id"}),
    )
    error = planned(rows, SOURCES).error()
    assert error is not None
    assert "it needs base colour" in str(error)
