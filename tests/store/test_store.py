"""History without end, conflicts without loss, and nothing lost when the process is killed."""

from __future__ import annotations

import io
import json
import os
import signal
import sqlite3
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from silent_loom.core.base.errors import FileError, LoomError
from silent_loom.core.files.png import png_bytes
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.rows.model import StepEntry, Weave
from silent_loom.core.weave.rows.recipes import starting_weave
from silent_loom.store.pieces import packed, unpacked
from silent_loom.store.states import Conflict, Missing, State
from silent_loom.store.store import Store
from silent_loom.store.stored import StoredDecisions
from tests.conftest import codes_of
from tests.conftest import spectrum as noise_of


@pytest.fixture
def store(tmp_path: Path) -> Store:
    return Store(tmp_path / "data")


@pytest.fixture
def state(store: Store) -> State:
    digest, _ = store.add_source(io.BytesIO(png_bytes(codes_of(noise_of(64, 1, 1)), colour=True)), "deck.png")
    return store.create("Deck", starting_weave(digest, store.source_ref(digest)))


def deeper(state: State, depth: float) -> Weave:
    height = state.weave.first("height")
    assert height is not None
    return state.weave.with_settings(height.id, {"depth_mm": depth})


def depth(state: State) -> float:
    height = state.weave.first("height")
    assert height is not None
    return float(height.settings.get("depth_mm", 10.0))


def test_undo_and_redo_without_end(store: Store, state: State) -> None:
    for i in range(1, 41):
        state = store.change(state.id, state.head, deeper(state, i), f"Depth {i}")
    for i in range(39, 0, -1):
        state = store.undo(state.id)
        assert depth(state) == i
    state = store.undo(state.id)
    assert not state.can_undo
    assert store.undo(state.id).head == state.head, "at the first state nothing happens"
    for i in range(1, 41):
        state = store.redo(state.id)
        assert depth(state) == i
    assert not state.can_redo
    assert store.redo(state.id).head == state.head


def test_a_change_after_undo_keeps_the_undone_branch_reachable(store: Store, state: State) -> None:
    one = store.change(state.id, state.head, deeper(state, 1), "one")
    two = store.change(state.id, one.head, deeper(state, 2), "two")
    store.undo(state.id)
    other = store.change(state.id, one.head, deeper(state, 3), "three")
    assert not other.can_redo
    lines = {h.label: h for h in store.history(state.id)}
    assert lines["three"].on_line
    assert not lines["two"].on_line
    back = store.go_to(state.id, two.head)
    assert depth(back) == 2
    assert depth(store.undo(state.id)) == 1
    assert depth(store.redo(state.id)) == 2, "redo goes the way that was last gone to"


@given(st.lists(st.sampled_from(["change", "undo", "redo", "goto"]), max_size=25), st.randoms())
@settings(max_examples=15, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_no_state_is_ever_lost(store: Store, state: State, moves: list[str], random: object) -> None:
    fresh = store.duplicate(state.id)
    seen = {fresh.head: 10.0}
    now = fresh
    for i, move in enumerate(moves, 20):
        if move == "change":
            now = store.change(fresh.id, now.head, deeper(now, i), "c")
            seen[now.head] = i
        elif move == "goto":
            now = store.go_to(fresh.id, random.choice(sorted(seen)))  # type: ignore[attr-defined]
        else:
            now = store.undo(fresh.id) if move == "undo" else store.redo(fresh.id)
        assert depth(now) == seen[now.head]
    for entry, value in seen.items():
        assert depth(store.go_to(fresh.id, entry)) == value


def test_two_windows_get_a_clear_conflict_and_lose_nothing(store: Store, state: State) -> None:
    mine, theirs = deeper(state, 7), deeper(state, 9)
    store.change(state.id, state.head, theirs, "theirs")
    with pytest.raises(Conflict) as caught:
        store.change(state.id, state.head, mine, "mine")
    assert depth(store.get(state.id)) == 9, "the newer state stands"
    assert store.weave_at(state.id, caught.value.kept) == mine, "and mine is kept"
    assert [h.aside for h in store.history(state.id)] == [False, False, True]
    assert depth(store.go_to(state.id, caught.value.kept)) == 7


def strokes_of(n: int) -> list[dict[str, object]]:
    rng = np.random.default_rng(n)
    return [
        {"tool": "clone", "radius_mm": 10.0, "points": [[float(x), float(y), 1.0] for x, y in rng.random((60, 2)) * 900]}
        for _ in range(n)
    ]


def test_strokes_are_kept_once_however_many_states_hold_them(store: Store, state: State) -> None:
    strokes, seen = strokes_of(40), []
    weave = state.weave.model_copy(update={"steps": (*state.weave.steps, StepEntry(step="repair"))})
    repair = weave.steps[-1].id
    for n in range(1, 41):
        weave = weave.with_settings(repair, {"layers": [{"name": "L", "strokes": strokes[:n]}]})
        state = store.change(state.id, state.head, weave, f"Stroke {n}")
        seen.append((state.head, weave))
    for entry, wanted in seen:
        assert store.weave_at(state.id, entry) == wanted, "every state comes back to the last digit"
    again = Store(store.folder)
    assert again.get(state.id).weave == weave
    with sqlite3.connect(store.folder / "loom.sqlite") as db:
        texts, whole = db.execute("select sum(length(weave)) from entries").fetchone()[0], len(weave.model_dump_json())
        assert db.execute("select count(*) from pieces").fetchone()[0] == 40
    assert texts < 4 * whole, "not the square of what was painted"


@pytest.mark.parametrize(
    "odd", [{"$piece": "0" * 64}, [{"$piece": "0" * 64, "x": "y" * 400}], [{"a": [{"b": "z" * 400}], "c": "w" * 400}], "pieces:"]
)
def test_settings_that_look_like_pieces_come_back_as_they_were(odd: object) -> None:
    weave = Weave(steps=(StepEntry(step="repair", settings={"layers": odd, "more": [{"t": "x" * 300}]}),))
    text, pieces = packed(weave)
    assert unpacked(text, lambda wanted: {d: pieces[d] for d in wanted}) == weave


def test_bin_restore_rename_duplicate(store: Store, state: State) -> None:
    store.put_in_bin(state.id)
    assert store.materials() == []
    assert [s.id for s in store.materials(binned=True)] == [state.id]
    store.restore(state.id)
    assert store.rename(state.id, "  Upper   deck ").name == "Upper deck"
    copy = store.duplicate(state.id)
    store.change(copy.id, copy.head, deeper(copy, 3), "x")
    assert depth(store.get(state.id)) == 10
    assert copy.name == "Upper deck copy"
    with pytest.raises(LoomError, match="name"):
        store.rename(state.id, "   ")
    with pytest.raises(Missing):
        store.get("nothing")
    with pytest.raises(Missing):
        store.go_to(copy.id, state.head)


def test_sources_are_kept_once_by_content(store: Store) -> None:
    body = png_bytes(codes_of(noise_of(32, 1, 2)), colour=True)
    first, _ = store.add_source(io.BytesIO(body), "a.png")
    again, _ = store.add_source(io.BytesIO(body), "b.png")
    assert first == again
    assert store.blobs.path(first).read_bytes() == body
    assert store.source_ref(first).name == "a.png"


def test_what_is_no_image_is_not_kept(store: Store) -> None:
    with pytest.raises(FileError):
        store.add_source(io.BytesIO(b"no image at all, just words"), "x.png")
    assert [p for p in store.blobs.folder.rglob("*") if p.is_file()] == []
    with pytest.raises(KeyError):
        store.blobs.path("../../etc/passwd")


def test_decisions_survive_a_restart(store: Store) -> None:
    kept = StoredDecisions(store)
    decision = Decision({"path": np.arange(5, dtype=np.float32)}, {"low": 0.25}, ("Take care.",))
    kept.put("k", decision)
    again = StoredDecisions(Store(store.folder)).get("k")
    assert again is not None
    assert again.figures == {"low": 0.25}
    assert again.warnings == ("Take care.",)
    assert again.arrays["path"].tolist() == [0, 1, 2, 3, 4]
    kept.passing(True)
    kept.put("passing", decision)
    assert kept.get("passing") is decision
    assert Store(store.folder).get_decision("passing") is None
    # Asked for as the state, it is kept: what the hand marked is not searched for again after a restart
    kept.passing(False)
    assert kept.get("passing") is decision
    assert Store(store.folder).get_decision("passing") is not None


def test_database_is_in_wal_mode_and_at_the_newest_revision(store: Store, state: State) -> None:
    with sqlite3.connect(store.folder / "loom.sqlite") as connection:
        assert connection.execute("PRAGMA journal_mode").fetchone() == ("wal",)
        assert connection.execute("SELECT version_num FROM alembic_version").fetchone() == ("0007",)


def test_the_tables_are_those_of_the_migrations(tmp_path: Path) -> None:
    from alembic.autogenerate import compare_metadata
    from alembic.migration import MigrationContext
    from sqlalchemy import create_engine

    from silent_loom.store.tables import Base

    Store(tmp_path).close()
    with create_engine(f"sqlite:///{tmp_path / 'loom.sqlite'}").connect() as connection:
        assert compare_metadata(MigrationContext.configure(connection, opts={"compare_type": False}), Base.metadata) == []


def test_a_damaged_database_is_a_clear_error(tmp_path: Path) -> None:
    (tmp_path / "loom.sqlite").write_bytes(b"this is not a database" * 200)
    with pytest.raises(LoomError, match="not a Silent Loom database"):
        Store(tmp_path)


WRITER = """
import io, sys, json
from pathlib import Path
from silent_loom.store.store import Store
store = Store(Path(sys.argv[1]))
state = store.materials()[0]
height = state.weave.first("height").id
i = 0
while True:
    i += 1
    state = store.change(state.id, state.head, state.weave.with_settings(height, {"depth_mm": float(i)}), f"Depth {i}")
    print(json.dumps([state.head, i]), flush=True)
    if i % 7 == 0:
        store.add_source(io.BytesIO(Path(sys.argv[2]).read_bytes() + bytes([i % 251]) * i), "more.png")
"""


@pytest.mark.parametrize("after", [0.15, 0.4, 0.9])
def test_nothing_that_was_confirmed_is_lost_when_killed(store: Store, state: State, tmp_path: Path, after: float) -> None:
    picture = tmp_path / "p.png"
    picture.write_bytes(png_bytes(codes_of(noise_of(64, 1, 3)), colour=True))
    process = subprocess.Popen([sys.executable, "-c", WRITER, str(store.folder), str(picture)], stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    lines = [process.stdout.readline()]
    time.sleep(after)
    os.kill(process.pid, signal.SIGKILL)
    lines += process.stdout.readlines()
    process.wait()
    confirmed = [json.loads(line) for line in lines if line.endswith("]\n")]
    assert confirmed
    again = Store(store.folder)
    for entry, i in confirmed:
        height = again.weave_at(state.id, entry).first("height")
        assert height is not None
        assert height.settings["depth_mm"] == i
    assert depth(again.get(state.id)) >= confirmed[-1][1]
    for path in (store.folder / "blobs").rglob("*"):
        if path.is_file() and not path.name.startswith("."):
            import hashlib

            assert hashlib.sha256(path.read_bytes()).hexdigest() == path.name, "a blob is whole or not there"
