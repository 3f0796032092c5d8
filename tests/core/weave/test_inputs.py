"""What a value is made of: a changed setting reaches what is made of its row and nothing else; a window is a part of the whole."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from silent_loom.core.files.picture import Picture
from silent_loom.core.weave import registry
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.answers.inputs import Mixing
from silent_loom.core.weave.answers.windows import window
from silent_loom.core.weave.rows import tree
from silent_loom.core.weave.rows.model import Dial, Drive, Entry, GroupEntry, Mask, StepEntry, Weave
from tests.conftest import OnePicture

CHANGES: dict[str, dict[str, Any]] = {
    "noise": {"seed": 77},
    "dye": {"high": 0.7},
    "tone": {"brightness": 0.31},
    "soften": {"width_mm": 3.5},
    "roughness": {"low": 0.11},
    "normal": {"strength": 1.7},
    "curvature": {"strength": 0.6},
    "single": {"invert": True},
    "light": {"patches": 0.8},
    "seamless": {"overlap_x": 0.27, "method": "fade"},
}
"""What is changed in a row of each step: always what it makes, or decides."""


@st.composite
def rows(draw: st.DrawFn, group: bool = True) -> list[Entry]:
    """Rows below a sheet with a base colour and a height, some masked or partly laid on, some in groups with a dial."""
    made: list[Entry] = []
    for _ in range(draw(st.integers(1, 4))):
        mask = draw(st.none() | st.builds(Mask, thread=st.sampled_from(["height", "base"])))
        amount = draw(st.sampled_from([1.0, 0.6]))
        if group and draw(st.integers(0, 3)) == 0:
            inside = draw(rows(group=False))
            dialled = [e for e in inside if isinstance(e, StepEntry) and e.step == "tone"]
            drives = tuple(Drive(row=e.id, setting="contrast", low=0.0, high=0.5) for e in dialled)
            dials = (Dial(id="contrast", title="Contrast", value=0.5, drives=drives),) if drives else ()
            mixed = not any(isinstance(e, StepEntry) and registry.step(e.step).geometric for e in inside)
            made.append(
                GroupEntry(
                    name="Part", rows=tuple(inside), dials=dials, mask=mask if mixed else None, amount=amount if mixed else 1.0
                )
            )
            continue
        step = draw(
            st.sampled_from(["noise", "tone", "soften", "roughness", "normal", "curvature", "single", "light", "seamless"])
        )
        values: dict[str, Any] = {}
        if step in ("tone", "soften"):
            values["thread"] = draw(st.sampled_from(["base", "height"]) if step == "soften" else st.just("base"))
        if step == "tone":
            values["brightness"] = 0.2
        moves = registry.step(step).geometric
        made.append(StepEntry(step=step, settings=values, mask=None if moves else mask, amount=1.0 if moves else amount))
    return made


@st.composite
def weaves(draw: st.DrawFn) -> Weave:
    sheet = (
        StepEntry(step="blank", settings={"colour": "#806040", "width_mm": 90.0, "height_mm": 70.0}),
        StepEntry(step="noise", settings={"seed": 5, "scale_mm": 25.0}),
        StepEntry(step="dye", settings={"thread": "height"}),
    )
    return Weave(steps=(*sheet, *draw(rows())))


def reached(evaluator: Evaluator, weave: Weave, row: str) -> set[str]:
    """Threads of the finished sheet that a row has a part in, told from what steps declare, row by row downwards."""
    plan = evaluator.plan(weave)
    kept: list[set[str]] = []  # what is touched above each row
    touched: set[str] = set()
    for ready in plan.rows:
        kept.append(set(touched))
        mask = ready.entry.mask.thread if ready.entry.mask else ""
        if ready.ends_group:
            # Outside a group its threads are those inside, mixed with what came in above it
            above = kept[ready.first]
            for thread in ready.writes:
                if thread in above or mask in above:
                    touched.add(thread)
            continue
        source = ready.entry.id == row
        if ready.step.geometric:
            decides = set(ready.present) & touched if ready.step.decides else set()
            decides = {t for t in decides if ready.settings.weights().get(t, ready.present[t].weight) > 0}  # type: ignore[attr-defined]
            if source or decides:
                touched |= set(ready.present)
            continue
        reads = bool(set(ready.reads) & touched)
        for thread in ready.writes:
            stays = ready.mixes(thread) and (thread in touched or mask in touched)
            if source or reads or stays:
                touched.add(thread)
            else:
                touched.discard(thread)
    return touched


@given(weave=weaves(), pick=st.integers(0, 30))
@settings(max_examples=60, deadline=None)
def test_a_changed_setting_changes_exactly_the_keys_of_what_is_made_of_its_row(weave: Weave, pick: int, photo: Picture) -> None:
    evaluator = Evaluator(OnePicture(photo), decision_size=64)
    plan = evaluator.plan(weave)
    able = [r.entry for r in plan.rows[1:] if r.error is None and not r.ends_group]
    entry = able[pick % len(able)]
    changed = weave.with_settings(entry.id, CHANGES[entry.step])
    if evaluator.plan(changed).error() is not None or evaluator.plan(weave).error() is not None:
        return
    expected = reached(evaluator, weave, entry.id)
    differ = {t for t in plan.threads if evaluator.key(weave, t, 64) != evaluator.key(changed, t, 64)}
    assert differ == expected, [e.step for e in weave.rows()]


@given(weave=weaves(), data=st.data())
@settings(max_examples=25, deadline=None)
def test_a_window_equals_the_part_of_the_whole(weave: Weave, data: st.DataObject, photo: Picture) -> None:
    evaluator = Evaluator(OnePicture(photo), decision_size=64)
    plan = evaluator.plan(weave)
    if plan.error() is not None:
        return
    thread = data.draw(st.sampled_from(sorted(plan.threads)))
    fresh = Evaluator(OnePicture(photo), decisions=evaluator.decisions, decision_size=64)
    whole = evaluator.ask(weave, thread, 72)
    left, top = data.draw(st.integers(0, 50)), data.draw(st.integers(0, 40))
    part = window(fresh, weave, thread, 72, (left, top, left + 13, top + 9))
    x0, y0, x1, y1 = part.box
    # Vector units may round the last bit otherwise at the border of a window
    np.testing.assert_allclose(part.image.pixels, whole.pixels[y0:y1, x0:x1], rtol=1e-5, atol=1e-6)


def test_a_turned_dial_changes_the_keys_of_what_its_rows_make(photo: Picture) -> None:
    evaluator = Evaluator(OnePicture(photo), decision_size=64)
    tone = StepEntry(step="tone", settings={"brightness": 0.2})
    dial = Dial(id="contrast", title="Contrast", value=0.5, drives=(Drive(row=tone.id, setting="contrast", low=0.0, high=0.5),))
    group = GroupEntry(name="Part", rows=(tone,), dials=(dial,))
    weave = Weave(steps=(StepEntry(step="blank"), StepEntry(step="noise"), group, StepEntry(step="normal")))
    turned = weave.with_entry(group.model_copy(update={"dials": (dial.model_copy(update={"value": 0.8}),)}))
    assert [p.entry.id for p in tree.walk(turned.steps)] == [p.entry.id for p in tree.walk(weave.steps)]
    differ = {t for t in ("base", "height", "normal") if evaluator.key(weave, t, 64) != evaluator.key(turned, t, 64)}
    assert differ == {"base"}


def test_the_account_names_reads_mask_what_is_mixed_and_what_is_decided_on(photo: Picture) -> None:
    evaluator = Evaluator(OnePicture(photo), decision_size=64)
    weave = Weave(
        steps=(
            StepEntry(step="blank"),
            StepEntry(step="noise"),
            StepEntry(step="tone", settings={"brightness": 0.3}, mask=Mask(thread="height"), amount=0.5),
            StepEntry(step="seamless"),
        )
    )
    plan = evaluator.plan(weave)
    size = (64.0, 64.0)
    tone = evaluator.inputs(plan, (3, "base", size))
    assert (tone.row, tone.texels) == (2, size)
    assert tone.reads == {"base": (2, "base", size)}
    assert tone.mixing == Mixing(2, (2, "base", size), (2, "height", size))
    assert list(tone.places()) == [(2, "base", size), (2, "height", size), (2, "base", size)]
    closed = evaluator.inputs(plan, (4, "height", size))
    assert set(closed.reads) == {"height"}
    assert closed.mixing is None
    assert {t for t, _ in closed.decides_on.items()} >= {"base", "height"}
    assert all(place[2] == (64.0, 64.0) for place in closed.decides_on.values()), "decided at the decision size"
    assert closed.reads["height"][2][0] == pytest.approx(64 / 0.8), "as much more as the overlap takes"
