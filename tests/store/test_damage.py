"""One bad row in the database hides nothing else, and what comes in from files is bounded."""

from __future__ import annotations

import io
import json
import sqlite3
import zipfile
from pathlib import Path

import numpy as np
import pytest

from silent_loom.core.base.bounded_json import loads
from silent_loom.core.base.errors import FileError, Full, LoomError, SettingError
from silent_loom.core.base.parallel import Lane
from silent_loom.core.files import read
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.rows import edit
from silent_loom.core.weave.rows.beginnings import woven_from
from silent_loom.core.weave.rows.model import StepEntry, Weave
from silent_loom.store.archive import read_archive, write_archive
from silent_loom.store.jobs import StoredJobs
from silent_loom.store.snapshots import Snapshots
from silent_loom.store.states import Unreadable
from silent_loom.store.store import Store
from silent_loom.work.cards import pictured
from silent_loom.work.jobs import Jobs


@pytest.fixture
def store(tmp_path: Path) -> Store:
    return Store(tmp_path / "data")


def spoil(store: Store, sql: str, *values: object) -> None:
    with sqlite3.connect(store.folder / "loom.sqlite") as database:
        database.execute(sql, values)


@pytest.mark.parametrize(
    ("column", "value"),
    [("updated_at", "yesterday"), ("created_at", 3.5), ("name", 17), ("name", b"\xff\xfe"), ("licence", 4), ("deleted_at", None)],
)
def test_a_bad_value_hides_no_other_material(store: Store, column: str, value: object) -> None:
    good, bad = store.create("Good", woven_from("gravel")), store.create("Bad", woven_from("gravel"))
    spoil(store, f"UPDATE materials SET {column} = ? WHERE id = ?", value, bad.id)
    listed = {line.id: line for line in store.listed()}
    assert set(listed) == {good.id, bad.id}
    assert isinstance(listed[bad.id].name, str)
    store.put_in_bin(bad.id)
    assert [line.id for line in store.listed()] == [good.id]


@pytest.mark.parametrize("text", ["[" * 100_000, "{", '{"schema_version": 1, "steps": ' + "[" * 100_000, "\x00", "pieces:{"])
def test_a_state_that_cannot_be_read_can_be_binned(store: Store, text: str) -> None:
    bad = store.create("Bad", woven_from("gravel"))
    spoil(store, "UPDATE entries SET weave = ? WHERE material_id = ?", text, bad.id)
    assert [line.name for line in store.listed()] == ["Bad"]
    with pytest.raises(Unreadable):
        store.get(bad.id)
    store.put_in_bin(bad.id)
    assert store.listed() == []
    store.restore(bad.id)
    assert [line.name for line in store.listed()] == ["Bad"]


@pytest.mark.parametrize("settings", ["{", "[]", "null", "[" * 100_000])
def test_a_broken_job_does_not_stop_the_start(store: Store, settings: str) -> None:
    kept = StoredJobs(store)
    first = Jobs(Lane(), kept)
    first.can("count", lambda job: {"n": 1})
    good, bad = first.add("count", "Good"), first.add("count", "Bad")
    first.close()
    spoil(store, "UPDATE jobs SET settings = ?, state = 'waiting' WHERE id = ?", settings, bad.id)
    again = Jobs(Lane(), kept)
    again.can("count", lambda job: {"n": 1})
    again.resume()
    told = {j.id: j for j in again.all()}
    again.close()
    assert good.id in told
    assert (told[bad.id].state, "cannot be read" in told[bad.id].error) == ("failed", True)


@pytest.mark.parametrize("body", [b"", b"no zip", b"PK\x03\x04 cut"])
def test_a_broken_decision_is_made_again(store: Store, body: bytes) -> None:
    store.put_decision("k", Decision({"a": np.arange(3)}, {"x": 1.0}))
    spoil(store, "UPDATE decisions SET body = ? WHERE key = 'k'", body)
    assert store.get_decision("k") is None
    store.put_decision("k", Decision({}, {"x": 2.0}))
    found = store.get_decision("k")
    assert found is not None
    assert found.figures == {"x": 2.0}


def test_a_snapshot_without_its_state_does_not_forbid_the_archive(store: Store, tmp_path: Path) -> None:
    state = store.create("Keel", woven_from("gravel"))
    snapshots = Snapshots(store)
    snapshots.keep(state.id, "whole")
    lost = snapshots.keep(state.id, "lost")
    spoil(store, "UPDATE snapshots SET entry_id = 999 WHERE id = ?", lost.id)
    assert write_archive(store, state.id, tmp_path / "keel.material.zip") == ["lost"]
    with (tmp_path / "keel.material.zip").open("rb") as stream:
        back = read_archive(store, stream, "keel.material.zip")
    assert [s.name for s in snapshots.of(back.id)] == ["whole"]


# --- what comes in ------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("body", "words"),
    [
        ("[" + "[]," * 7_000_000 + "[]]", "parts, more than"),
        ("[" * 5000 + "]" * 5000, "nested too deep"),
        ("[" * 300 + "]" * 300, "nested too deep"),
        ('"\\ud800"', "broken character"),
    ],
)
def test_json_is_bounded(body: str, words: str) -> None:
    with pytest.raises(FileError, match=words):
        loads(body, "deck.json")


def test_json_with_whole_pairs_and_many_strokes_is_taken() -> None:
    assert loads('"\\ud83d\\ude00"', "deck.json") == "😀"
    strokes = json.dumps({"strokes": [{"points": [[1.5, 2.5, 1.0]] * 50}] * 2000})
    assert len(loads(strokes, "deck.json")["strokes"]) == 2000
    with pytest.raises(FileError, match="more than the 0 that are taken"):
        loads(b"[1, 2]", "deck.json", most_bytes=3)


def test_a_bomb_in_an_archive_is_refused_in_a_sentence(store: Store) -> None:
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("material.json", '{"format": 1, "weave": [' + "[]," * 8_000_000 + "0]}")
    assert len(packed.getvalue()) < 200_000
    with pytest.raises(FileError, match="parts, more than"):
        read_archive(store, packed, "bomb.material.zip")


def test_a_full_disk_at_taking_in_is_not_called_damage(store: Store, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    state = store.create("Keel", woven_from("gravel"))
    write_archive(store, state.id, tmp_path / "k.material.zip")

    def full(*_: object) -> bytes:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(zipfile.ZipFile, "read", full)
    with (tmp_path / "k.material.zip").open("rb") as stream, pytest.raises(Full, match="disk is full"):
        read_archive(store, stream, "k.material.zip")


def test_rows_with_settings_that_their_step_does_not_have_are_refused() -> None:
    with pytest.raises(SettingError, match="gloss"):
        edit.check_settings([StepEntry(step="height", settings={"gloss": 3})])
    edit.check_settings([StepEntry(step="height", settings={"depth_mm": 3}), StepEntry(step="unheard_of", settings={"a": 1})])


def test_a_card_needs_no_base_colour(store: Store) -> None:
    from silent_loom.core.weave.answers.evaluate import Evaluator

    evaluator = Evaluator(store.sources)
    weave = Weave(steps=(StepEntry(step="noise"), StepEntry(step="normal")))
    assert pictured(evaluator, weave, texels=64)[:4] == b"\x89PNG"
    with pytest.raises(LoomError, match="no map that light falls on"):
        pictured(evaluator, Weave(steps=(StepEntry(step="noise"),)), texels=64)


@pytest.mark.parametrize("alpha", [1e-4, 1e-5, 0.5])
def test_a_faint_float_picture_keeps_its_colour(tmp_path: Path, alpha: float) -> None:
    import OpenImageIO as oiio

    pixels = np.full((4, 4, 4), 0.6, np.float32)
    pixels[..., :3] *= alpha
    pixels[..., 3] = alpha
    out = oiio.ImageOutput.create(str(tmp_path / "faint.exr"))
    out.open(str(tmp_path / "faint.exr"), oiio.ImageSpec(4, 4, 4, "float"))
    out.write_image(pixels)
    out.close()
    found = read(tmp_path / "faint.exr")
    assert np.allclose(found.samples, 0.6, rtol=1e-3)
