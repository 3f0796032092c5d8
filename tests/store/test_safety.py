"""Data folders of every version, damaged, foreign, full, in use, and left by processes that were ended."""

from __future__ import annotations

import io
import os
import re
import sqlite3
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from PIL import Image as Pillow
from sqlalchemy.exc import OperationalError

from silent_loom.core.base.errors import Full, LoomError
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.rows.model import StepEntry, Weave
from silent_loom.store import database
from silent_loom.store.lock import FolderLock
from silent_loom.store.states import Missing, Unreadable
from silent_loom.store.store import Store
from silent_loom.store.sweep import ADDING, sweep

EXAMPLES = Path(__file__).parent / "examples"
VERSIONS = sorted(p.stem for p in EXAMPLES.glob("*.sql"))
BLANK = Weave(steps=(StepEntry(step="blank"),))


def png(seed: int = 0) -> io.BytesIO:
    stream = io.BytesIO()
    Pillow.fromarray(np.random.default_rng(seed).integers(0, 255, (24, 32, 3)).astype(np.uint8)).save(stream, "PNG")
    stream.seek(0)
    return stream


def test_there_is_an_example_of_every_version_and_the_newest_is_the_last() -> None:
    revisions = sorted(
        re.search(r'^revision = "(\d+)"', p.read_text(), re.M)[1]  # type: ignore[index]
        for p in (Path(database.__file__).parent / "migrations/versions").glob("r*.py")
    )
    assert revisions == VERSIONS
    assert revisions[-1] == database.NEWEST


@pytest.mark.parametrize("version", VERSIONS)
def test_a_database_of_every_version_opens_and_goes_on(tmp_path: Path, version: str) -> None:
    old = sqlite3.connect(tmp_path / "loom.sqlite")
    old.executescript((EXAMPLES / f"{version}.sql").read_text("utf-8"))
    old.close()
    store = Store(tmp_path)
    state = store.materials()[0]
    assert state.name == "Deck of the lightship"
    assert state.weave.steps[-1].settings["depth_mm"] == 4.0
    after = store.change(state.id, state.head, state.weave.with_settings("bb22", {"depth_mm": 7.0}), "Deeper")
    assert store.undo(state.id).weave == state.weave
    assert store.redo(state.id).weave == after.weave
    assert store.set_origin(state.id, state.origin).origin == state.origin
    store.close()
    assert Store(tmp_path).get(state.id).head == after.head


def test_another_program_s_database_is_left_alone(tmp_path: Path) -> None:
    other = sqlite3.connect(tmp_path / "loom.sqlite")
    other.execute("CREATE TABLE recipes (name TEXT)")
    other.commit()
    other.close()
    before = (tmp_path / "loom.sqlite").read_bytes()
    with pytest.raises(LoomError, match="belongs to another program"):
        Store(tmp_path)
    assert (tmp_path / "loom.sqlite").read_bytes()[100:] == before[100:]


@pytest.mark.parametrize("empty", [True, False])
def test_pictures_without_their_database_do_not_become_a_new_library(tmp_path: Path, empty: bool) -> None:
    store = Store(tmp_path)
    store.add_source(png(), "deck.png")
    store.close()
    for path in tmp_path.glob("loom.sqlite*"):
        path.unlink()
    if empty:
        (tmp_path / "loom.sqlite").touch()
    with pytest.raises(LoomError, match="its database is not"):
        Store(tmp_path)


def test_what_is_no_database_is_told_as_that(tmp_path: Path) -> None:
    (tmp_path / "loom.sqlite").write_bytes(b"not a database at all" * 100)
    with pytest.raises(LoomError, match="not a Silent Loom database, or it is damaged"):
        Store(tmp_path)


@pytest.mark.parametrize(
    ("said", "words"),
    [
        ("database or disk is full", "the disk is full"),
        ("attempt to write a readonly database", "cannot be written"),
        ("unable to open database file", "cannot be written"),
    ],
)
def test_a_full_or_closed_disk_is_nobody_s_damage(said: str, words: str) -> None:
    told = database.refused(OperationalError("", {}, sqlite3.OperationalError(said)))
    assert isinstance(told, Full)
    assert words in str(told)
    assert "damaged" not in str(told)


def test_one_unreadable_state_stands_in_nobody_s_way(tmp_path: Path) -> None:
    store = Store(tmp_path)
    good = store.create("Good", BLANK)
    bad = store.create("Bad", BLANK)
    broken = store.change(
        bad.id, bad.head, BLANK.model_copy(update={"steps": (*BLANK.steps, StepEntry(step="height"))}), "Height"
    )
    with sqlite3.connect(tmp_path / "loom.sqlite") as raw:
        raw.execute("UPDATE entries SET weave = '{\"steps\": 5}' WHERE id = ?", (broken.head,))
    assert {line.name for line in store.listed()} == {"Good", "Bad"}
    assert store.get(good.id).weave == BLANK
    with pytest.raises(Unreadable, match="cannot be read"):
        store.get(bad.id)
    assert store.last_readable(bad.id).head == bad.head
    assert store.get(bad.id).weave == BLANK


def test_a_second_server_is_told_where_the_first_one_is(tmp_path: Path) -> None:
    code = (
        "import sys, time; from pathlib import Path; from silent_loom.store.lock import FolderLock\n"
        "lock = FolderLock(Path(sys.argv[1])); lock.say('http://127.0.0.1:4711/'); print('held', flush=True); time.sleep(60)"
    )
    first = subprocess.Popen([sys.executable, "-c", code, str(tmp_path)], stdout=subprocess.PIPE, text=True)
    try:
        assert first.stdout is not None
        assert first.stdout.readline() == "held\n"
        with pytest.raises(LoomError, match=r"http://127\.0\.0\.1:4711/"):
            FolderLock(tmp_path)
    finally:
        first.kill()
        first.wait()
    FolderLock(tmp_path).release()  # whoever is ended lets go


def test_what_an_ended_process_left_is_swept_and_nothing_else(tmp_path: Path) -> None:
    store = Store(tmp_path)
    kept, _ = store.add_source(png(1), "kept.png")
    half = store.blobs.put(png(2))  # ended before the database knew of it
    copied_by_hand = store.blobs.path("f" * 64)
    copied_by_hand.parent.mkdir(exist_ok=True)
    copied_by_hand.write_bytes(b"put back from a copy")
    (tmp_path / "blobs" / ".part-x").write_bytes(b"half")
    (tmp_path / "deliveries" / ".part-y").mkdir()
    (tmp_path / "deliveries" / ".part-y" / "set.zip").write_bytes(b"half")
    (tmp_path / ".opened-z").mkdir()
    assert sweep(tmp_path, store.knows) == 4
    assert store.blobs.path(kept).is_file()
    assert not store.blobs.path(half).exists()
    assert copied_by_hand.is_file(), "a blob that nobody was adding may belong to a database that is put back"
    assert not list(tmp_path.rglob(".part-*"))
    assert not list(tmp_path.rglob(f"{ADDING}*"))


def test_decisions_do_not_pile_up(tmp_path: Path) -> None:
    store = Store(tmp_path)
    for n in range(7):
        store.put_decision(f"key{n}", Decision({"a": np.arange(n)}))
    assert store.forget_decisions(keep=3) == 4
    assert [store.get_decision(f"key{n}") is not None for n in range(7)] == [False] * 4 + [True] * 3


def test_unknown_files_and_odd_names_are_told_or_taken(tmp_path: Path) -> None:
    store = Store(tmp_path)
    with pytest.raises(Missing, match="not stored"):
        store.source_ref("0" * 64)
    assert store.create("half \ud800 a character", BLANK).name == "half ? a character"
    digest, _ = store.add_source(png(3), "n" * 400 + ".png")
    assert len(store.source_ref(digest).name) == 300


@pytest.mark.skipif(os.geteuid() == 0, reason="nothing is closed to root")
def test_a_folder_that_may_not_be_written_is_told_as_that(tmp_path: Path) -> None:
    tmp_path.chmod(0o500)
    with pytest.raises(Full, match="no right to write"):
        Store(tmp_path / "data")
