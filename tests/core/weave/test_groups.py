"""Groups, dials and masks: what they come to, and how they are changed."""

from __future__ import annotations

import sys
import time

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from silent_loom.core.base.errors import SettingError, WeaveError
from silent_loom.core.base.images import Image, Kind
from silent_loom.core.weave.answers.cache import Cache
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.answers.masks import weight
from silent_loom.core.weave.rows import edit, tree
from silent_loom.core.weave.rows.model import Dial, Drive, GroupEntry, Mask, StepEntry, Weave
from silent_loom.core.weave.rows.resolve import resolved

MAPS = ("base", "height", "normal", "roughness", "metallic", "occlusion")


def ids(weave: Weave) -> dict[str, str]:
    return {e.step: e.id for e in weave.rows()}


def relief(weave: Weave) -> tuple[Weave, str]:
    """Height, normal and roughness in a group."""
    return edit.grouped(weave, [ids(weave)[s] for s in ("height", "normal", "roughness")], "Relief")


def nested(weave: Weave) -> tuple[Weave, str, str]:
    """Height and normal in a group in a group with roughness, each with two dials."""
    made, outer = relief(weave)
    made, inner = edit.grouped(made, [ids(made)["height"], ids(made)["normal"]], "Form")
    row = ids(made)
    depth = Dial(id="depth", title="Depth", value=0.5, drives=(Drive(row=row["height"], setting="depth_mm", low=2, high=10),))
    strength = Dial(id="steep", title="Steep", value=0, drives=(Drive(row=row["normal"], setting="strength", low=1, high=3),))
    for dial in (depth, strength):
        made = edit.with_dial(made, inner, dial)
    wear = Dial(
        id="wear",
        title="Wear",
        value=0.25,
        drives=(Drive(row=row["roughness"], setting="high", low=0.5, high=0.9), Drive(row=inner, setting="steep", low=0, high=1)),
    )
    shine = Dial(id="shine", title="Shine", value=1, drives=(Drive(row=row["roughness"], setting="invert", low=1, high=0),))
    for dial in (wear, shine):
        made = edit.with_dial(made, outer, dial)
    return made, outer, inner


def settings_of(weave: Weave, step: str) -> dict[str, object]:
    return next(r.settings for r in resolved(weave) if isinstance(r, StepEntry) and r.step == step)


def test_a_group_changes_nothing_by_itself(evaluator: Evaluator, weave: Weave) -> None:
    made, group = relief(weave)
    assert [evaluator.key(made, m, 64) for m in MAPS] == [evaluator.key(weave, m, 64) for m in MAPS]
    assert [e.step for e in made.rows()] == [e.step for e in weave.rows()]
    assert edit.dissolved(made, group) == weave
    assert tree.path_of(made.steps, ids(made)["normal"]) == "relief/normal"
    assert made.find("relief/normal") == ids(made)["normal"]
    with pytest.raises(WeaveError, match=r"no row called 'tone'.*There is height, normal, roughness"):
        made.find("relief/tone")


def test_dials_come_to_settings_through_ranges_curves_and_other_dials(weave: Weave) -> None:
    made, outer, inner = nested(weave)
    assert settings_of(made, "height")["depth_mm"] == pytest.approx(6)
    assert settings_of(made, "normal")["strength"] == pytest.approx(1.5), "the outer dial turns the inner one to a quarter"
    assert settings_of(made, "roughness") == {"high": pytest.approx(0.6), "invert": False}
    bent = (
        made.group(inner)
        .dials[0]
        .model_copy(
            update={
                "drives": (
                    Drive(row=ids(made)["height"], setting="depth_mm", low=2, high=10, curve=((0, 0), (0.5, 0.25), (1, 1))),
                )
            }
        )
    )
    assert settings_of(edit.with_dial(made, inner, bent), "height")["depth_mm"] == pytest.approx(4)
    turned = edit.set_values(made, outer, {"Wear": 1.0})
    assert settings_of(turned, "roughness")["high"] == pytest.approx(0.9)
    assert turned.entry(ids(turned)["roughness"]).settings == weave.entry(ids(weave)["roughness"]).settings, "stored as it was"
    with pytest.raises(SettingError, match=r"relief\.wear: a dial takes a number from 0 to 1"):
        edit.set_values(made, outer, {"wear": 2})
    with pytest.raises(SettingError, match=r"Its dials: wear, shine"):
        edit.set_values(made, outer, {"depth": 0.5})


def test_a_dissolved_group_stays_as_its_dials_left_it(evaluator: Evaluator, weave: Weave) -> None:
    made, outer, inner = nested(weave)
    keys = [evaluator.key(made, m, 64) for m in MAPS]
    for group in (inner, outer):
        made = edit.dissolved(made, group)
        assert [evaluator.key(made, m, 64) for m in MAPS] == keys
    assert all(isinstance(e, StepEntry) for e in made.steps)


def test_a_dial_moves_only_what_it_may(weave: Weave) -> None:
    made, group = relief(weave)
    row = ids(made)
    for drive, words in (
        (Drive(row=row["occlusion"], setting="radius_mm", low=1, high=2), "rows of its own group"),
        (Drive(row=row["height"], setting="reads_from", low=1, high=2), "numbers and switches"),
        (Drive(row=row["height"], setting="colour", low=1, high=2), "numbers and switches"),
    ):
        with pytest.raises(WeaveError, match=words):
            edit.with_dial(made, group, Dial(title="Odd", drives=(drive,)))
    with pytest.raises(ValidationError, match="stands between"):
        Dial(title="Far", value=3)
    dial = Dial(title="Deep", drives=(Drive(row=row["height"], setting="depth_mm", low=1, high=2),))
    made = edit.with_dial(made, group, dial)
    out = edit.moved(made, row["height"], 0)
    assert out.group(group).dials[0].drives == (), "a row that leaves the group is let go"
    assert edit.removed(made, row["height"]).group(group).dials[0].drives == ()


def test_groups_are_switched_and_mixed_as_a_whole(evaluator: Evaluator, weave: Weave) -> None:
    later = StepEntry(step="tone", settings={"thread": "roughness", "brightness": 4.0})
    more = StepEntry(step="tone", settings={"thread": "roughness", "contrast": 30})
    weave = weave.model_copy(update={"steps": (*weave.steps, later, more)})
    plain, full = (
        evaluator.ask(weave.model_copy(update={"steps": weave.steps[:-2]}), "roughness", 64),
        evaluator.ask(weave, "roughness", 64),
    )
    made, group = edit.grouped(weave, [later.id, more.id], "Finish")
    half = evaluator.ask(edit.mixed(made, group, {"amount": 0.5}), "roughness", 64)
    assert np.allclose(half.pixels, (plain.pixels + full.pixels) / 2, atol=1e-6)
    mask = Mask(thread="occlusion", low=0.2, high=0.9, inverted=True)
    t = np.clip((evaluator.ask(weave, "occlusion", 64).pixels - 0.2) / 0.7, 0, 1)
    seen = evaluator.ask(edit.mixed(made, group, {"mask": mask.model_dump()}), "roughness", 64)
    assert np.allclose(seen.pixels, plain.pixels + (1 - t) * (full.pixels - plain.pixels), atol=1e-5)
    inside = evaluator.ask(edit.mixed(made, group, {"amount": 0.5}), "roughness", 64, below=more.id)
    assert np.array_equal(inside.pixels, full.pixels), "within the group nothing is mixed yet"
    off = edit.switched(made, group, False)
    assert evaluator.key(off, "roughness", 64) == evaluator.key(
        weave.model_copy(update={"steps": weave.steps[:-2]}), "roughness", 64
    )


def test_a_group_that_moves_pixels_is_on_or_off(evaluator: Evaluator, weave: Weave) -> None:
    made, group = edit.grouped(weave, [ids(weave)["light"], ids(weave)["seamless"]], "Mend")
    mixed = edit.mixed(made, group, {"amount": 0.5})
    error = evaluator.plan(mixed).error()
    assert error is not None
    assert "on or off, never mixed" in str(error)
    assert evaluator.ask(mixed, "base", 32).wraps, "the rest works"


def test_rows_move_into_groups_and_out_but_no_group_into_itself(weave: Weave) -> None:
    made, outer, inner = nested(weave)
    tone = ids(made)["tone"]
    within = edit.moved(made, tone, 1, inner)
    assert tree.path_of(within.steps, tone) == "relief/form/tone"
    assert [e.step for e in within.rows()][-5:] == ["tone", "normal", "roughness", "metallic", "occlusion"]
    back = edit.moved(within, tone, 4)
    assert [e.id for e in back.rows()] == [e.id for e in made.rows()]
    with pytest.raises(WeaveError, match="put into itself"):
        edit.moved(made, outer, 0, inner)
    with pytest.raises(WeaveError, match="side by side"):
        edit.grouped(made, [tone, ids(made)["occlusion"]], "Apart")


@settings(max_examples=40, deadline=None)
@given(st.lists(st.tuples(st.integers(0, 30), st.integers(0, 6), st.integers(0, 30)), max_size=12))
def test_however_rows_are_grouped_and_moved_none_is_lost(moves: list[tuple[int, int, int]]) -> None:
    weave = Weave(steps=tuple(StepEntry(step="tone", id=f"r{i}") for i in range(8)))
    rows = {e.id for e in weave.rows()}
    for at, to, into in moves:
        places = list(tree.walk(weave.steps))
        place = places[at % len(places)]
        groups = [p.entry.id for p in places if tree.is_group(p.entry)]
        try:
            if to == 6:
                weave, _ = edit.grouped(weave, [place.entry.id], "Group")
            else:
                weave = edit.moved(weave, place.entry.id, to, groups[into % len(groups)] if groups and into % 2 else "")
        except WeaveError:
            continue
        assert {e.id for e in weave.rows()} == rows
        assert Weave.model_validate_json(weave.model_dump_json()) == weave
    for place in tree.walk(weave.steps):
        assert weave.find(tree.path_of(weave.steps, place.entry.id)) == place.entry.id


def test_a_thousand_rows_plan_and_evaluate(evaluator: Evaluator, weave: Weave) -> None:
    steps = tuple(StepEntry(step="tone", settings={"brightness": 0.001 * (i % 7 + 1)}) for i in range(1000))
    long = weave.model_copy(update={"steps": (*weave.steps[:4], *steps)})
    started = time.process_time()
    plan = evaluator.plan(long)
    assert time.process_time() - started < 1.0, "a tenth of it on a quiet machine: see bench"
    assert len(plan.rows) == 1004
    assert evaluator.key(long, "base", 8) != evaluator.key(weave, "base", 8)
    limit = sys.getrecursionlimit()
    assert np.isfinite(evaluator.ask(long, "base", 8).pixels).all()
    forgetful = Evaluator(evaluator.sources, Cache(0), evaluator.decisions, decision_size=evaluator.decision_size)
    assert np.array_equal(forgetful.ask(long, "base", 8).pixels, evaluator.ask(long, "base", 8).pixels)
    assert len(forgetful.computed) <= 1010, "whatever the cache keeps, each row works once"
    assert len(forgetful.cache) == 0
    assert sys.getrecursionlimit() == limit <= 10_000
    deep: StepEntry | GroupEntry = steps[0]
    for _ in range(40):
        deep = GroupEntry(name="Deep", rows=(deep,))
    assert (
        Weave.model_validate_json(Weave(steps=(deep,)).model_dump_json()).find("/".join(["deep"] * 40) + "/tone") == steps[0].id
    )
    with pytest.raises(ValidationError, match="at most 40 deep"):
        Weave(steps=(GroupEntry(name="Deeper", rows=(deep,)),))


def test_masks_take_channels_ranges_and_their_opposite() -> None:
    colour = Image(np.array([[[0.0, 0.5, 1.0], [1.0, 1.0, 1.0]]], np.float32), Kind.COLOUR)
    assert weight(Mask(thread="base", channel="b"), colour)[0, :, 0] == pytest.approx([1, 1])
    assert weight(Mask(thread="base", channel="r", inverted=True), colour)[0, :, 0] == pytest.approx([1, 0])
    mm = Image(np.array([[[-5.0], [0.0], [5.0], [9.0]]], np.float32), Kind.DATA)
    assert weight(Mask(thread="height", low=-5, high=5), mm)[0, :, 0] == pytest.approx([0, 0.5, 1, 1])
    assert weight(Mask(thread="height", low=5, high=-5), mm)[0, :, 0] == pytest.approx([1, 0.5, 0, 0])
    with pytest.raises(ValidationError, match="must differ"):
        Mask(thread="height", low=1, high=1)
    assert StepEntry(step="tone", mask="opacity").mask == Mask(thread="opacity")  # type: ignore[arg-type]


def test_a_mask_of_the_wrong_kind_is_refused_in_a_sentence(evaluator: Evaluator, weave: Weave) -> None:
    def refused(mask: Mask) -> str:
        last = StepEntry(step="tone", settings={"brightness": 1}, mask=mask)
        return str(evaluator.plan(weave.model_copy(update={"steps": (*weave.steps, last)})).error())

    assert "a mask is plain numbers or colour, and normal is a normal" in refused(Mask(thread="normal"))
    assert "its mask is moss, which no step above it makes" in refused(Mask(thread="moss"))
    assert "height has no channel g" in refused(Mask(thread="height", channel="g"))
