"""Changes of a material, as everything that makes one goes through them."""

from __future__ import annotations

import io
from pathlib import Path
from typing import Any

import pytest

from silent_loom.core.base.errors import LoomError, SettingError
from silent_loom.core.delivery.models.gltf import glb
from silent_loom.core.form.model import plate
from silent_loom.core.report.finding import Cure, Finding
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.beginnings import woven_from
from silent_loom.core.weave.rows.model import GroupEntry, Weave
from silent_loom.store.states import Conflict
from silent_loom.store.store import Store
from silent_loom.work.changes.cures import cured
from silent_loom.work.changes.making import make, make_all, read_changes
from silent_loom.work.models.put_under import put_under
from tests.core.form.test_bake import sphere


@pytest.fixture
def store(tmp_path: Path) -> Store:
    return Store(tmp_path)


@pytest.fixture
def evaluator(store: Store) -> Evaluator:
    return Evaluator(store.sources)


def made(store: Store, evaluator: Evaluator, *changes: dict[str, Any]) -> tuple[Weave, list[str]]:
    """The weave of a new sheet with these changes made, and the words for each."""
    state = store.create("Gravel", woven_from("gravel"), "Begun")
    after = make_all(store, evaluator, state.id, read_changes(list(changes)))
    return after.weave, [h.label for h in store.history(state.id)][1:]


def test_every_kind_of_change_is_made_and_said(store: Store, evaluator: Evaluator) -> None:
    after, words = made(
        store,
        evaluator,
        {"kind": "add", "step": "curvature", "to": 99},
        {"kind": "settings", "step_id": "curvature", "settings": {"strength": 0.5}},
        {"kind": "switch", "step_id": "curvature", "on": False},
        {"kind": "mix", "step_id": "curvature", "amount": 0.25, "mask": "height"},
        {"kind": "note", "step_id": "curvature", "note": "Too much at the rim"},
        {"kind": "group", "rows": ["curvature"], "name": "Rims"},
        {"kind": "rename", "step_id": "rims", "name": "Edges"},
        {"kind": "dial", "step_id": "edges", "dial": {"id": "much", "title": "Much", "value": 0.5, "drives": []}},
        {"kind": "undial", "step_id": "edges", "dial_id": "much"},
        {"kind": "fold", "step_id": "edges", "on": True},
        {"kind": "move", "step_id": "edges", "to": 99},
        {"kind": "dissolve", "step_id": "edges"},
        {"kind": "remove", "step_id": "curvature"},
    )
    assert after.first("curvature") is None
    assert [w.split(":")[0] for w in words if ":" in w] == ["Curvature", "Curvature", "Curvature", "Edges", "Edges"]
    assert words[1] == "Curvature: strength 0.5"
    assert words[3] == "Curvature: replace, 25 %, limited to height"
    assert words[5:7] == ["1 rows grouped", "Group Rims renamed to Edges"]
    assert words[-1] == "Curvature removed"


def test_rows_of_one_material_go_into_another(store: Store, evaluator: Evaluator) -> None:
    other = woven_from("cobbles")
    entry = next(e for e in other.steps if isinstance(e, GroupEntry))
    after, words = made(store, evaluator, {"kind": "paste", "entries": [entry.model_dump(mode="json")], "to": 99})
    assert words == ["1 row put in from elsewhere"]
    assert after.steps[-1].name == entry.name  # type: ignore[union-attr]
    assert after.steps[-1].id != entry.id, "a copy has an id of its own"


def test_a_change_of_a_state_that_is_past_is_kept_beside_the_line(store: Store, evaluator: Evaluator) -> None:
    state = store.create("Gravel", woven_from("gravel"), "Begun")
    (off,) = read_changes({"kind": "switch", "step_id": "normal", "on": False})
    (note,) = read_changes({"kind": "note", "step_id": "normal", "note": "Later", "base": state.head})
    after = make(store, evaluator, state.id, off)
    with pytest.raises(Conflict):
        make(store, evaluator, state.id, note)
    assert store.get(state.id).head == after.head
    again = make(store, evaluator, state.id, off)
    assert again.head == after.head, "what is so already makes no entry"


@pytest.mark.parametrize(
    ("told", "words"),
    [
        ({"kind": "sew"}, "kind"),
        ({"kind": "switch"}, "step_id"),
        ({"kind": "switch", "step_id": "normal", "amount": 0.5}, "amount"),
        ({"kind": "mix", "step_id": "normal", "amount": 2}, "amount"),
        ("switch", "0"),
        ([[]], "0"),
    ],
)
def test_what_is_no_change_is_refused_in_words(told: Any, words: str) -> None:
    with pytest.raises(SettingError, match="this is no change") as refused:
        read_changes(told)
    assert words in str(refused.value)


def test_what_cannot_be_made_stores_nothing_and_leaves_what_was_made_before_it(store: Store, evaluator: Evaluator) -> None:
    state = store.create("Gravel", woven_from("gravel"), "Begun")
    changes = read_changes(
        [
            {"kind": "note", "step_id": "normal", "note": "Kept"},
            {"kind": "settings", "step_id": "normal", "settings": {"deep": 1}},
        ]
    )
    with pytest.raises(LoomError, match="deep"):
        make_all(store, evaluator, state.id, changes)
    assert [h.label for h in store.history(state.id)][1:] == ["Normal: noted"]
    with pytest.raises(LoomError, match="not stored"):
        make_all(store, evaluator, state.id, read_changes({"kind": "photo", "step_id": "normal"}))


def test_a_cure_changes_the_row_that_is_there_or_puts_one_below_the_photo(weave: Weave) -> None:
    light = Finding("light", "bad", "Uneven", "It shows.", 0.3, Cure("light", {"patches": 0.9}, "Even it out"))
    after, row, words = cured(weave, [light], "light")
    assert after.entry(row).settings["patches"] == 0.9
    assert words == "Report: Even it out"
    without = weave.model_copy(update={"steps": tuple(e for e in weave.steps if getattr(e, "step", "") != "light")})
    added, row, _ = cured(without, [light], "light")
    steps = [e.step for e in added.rows()]
    assert steps.index("light") == steps.index("straighten") + 1
    with pytest.raises(LoomError, match="nothing to mend"):
        cured(weave, [light], "noise")


def test_a_second_row_that_makes_a_mask_leaves_the_first_its_name(store: Store, evaluator: Evaluator) -> None:
    weave, _ = made(store, evaluator, *(3 * [{"kind": "add", "step": "where", "to": 99}]))
    assert [r.settings.get("name", "where") for r in weave.rows() if r.step == "where"] == [
        "where",
        "where_2",
        "where_3",
    ]
    weave, _ = made(
        store,
        evaluator,
        {"kind": "add", "step": "combine", "to": 99},
        {"kind": "add", "step": "where", "to": 99, "settings": {"name": "moss"}},
    )
    assert "into" not in next(r for r in weave.rows() if r.step == "combine").settings, "it works on the map that is there"
    assert [r.settings["name"] for r in weave.rows() if r.step == "where"] == ["moss"], "what is said counts"


def test_a_model_is_put_under_a_material_and_changed_for_a_newer_one(store: Store, evaluator: Evaluator) -> None:
    state = store.create("Gravel", woven_from("gravel"), "Begun")
    first = put_under(store, evaluator, state.id, io.BytesIO(glb(plate(), {})), "cap.glb")
    assert first.label == "Model: cap.glb"
    assert [r.step for r in first.weave.rows()].count("lay_on") == 1
    plan = evaluator.plan(first.weave)
    assert plan.error() is None
    assert plan.geometry.on is not None
    second = put_under(store, evaluator, state.id, io.BytesIO(glb(sphere(4), {})), "ball.glb")
    assert [r.step for r in second.weave.rows()].count("lay_on") == 1, "in the row that there is"
    assert second.label.startswith("Model: ball.glb (it has")
    assert len(second.weave.sources) == 2, "the first one can be had again"
    with pytest.raises(LoomError, match="no model"):
        put_under(store, evaluator, state.id, io.BytesIO(b"nothing"), "cap.png")
    assert store.get(state.id).head == second.head
    height = next(r.id for r in second.weave.rows() if r.step == "normal")
    with pytest.raises(LoomError, match="lays nothing on a model"):
        put_under(store, evaluator, state.id, io.BytesIO(glb(plate(), {})), "cap.glb", step_id=height)
