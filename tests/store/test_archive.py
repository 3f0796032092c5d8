"""A material as one file: out, in on another machine, the same; and files that are none."""

from __future__ import annotations

import io
import json
import zipfile
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from silent_loom.core.base.errors import LoomError
from silent_loom.core.delivery.models.gltf import glb
from silent_loom.core.files import write
from silent_loom.core.form.model import plate
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.model import StepEntry, Weave
from silent_loom.store.archive import FACTS, SOURCES, read_archive, write_archive
from silent_loom.store.snapshots import Snapshots
from silent_loom.store.states import Origin
from silent_loom.store.store import Store


@pytest.fixture(scope="module")
def archive(tmp_path_factory: pytest.TempPathFactory) -> tuple[Store, str, bytes]:
    folder = tmp_path_factory.mktemp("first")
    store = Store(folder / "data")
    y, x = np.mgrid[0:48, 0:64]
    photo = np.stack([0.3 + 0.2 * np.sin(x / 5), 0.4 + 0.1 * np.cos(y / 3), np.full(x.shape, 0.2)], 2).astype(np.float32)
    write(folder / "photo.png", photo, colour=True)
    with (folder / "photo.png").open("rb") as stream:
        digest, _ = store.add_source(stream, "keel.png")
    rows = (StepEntry(step="photo", settings={"source": digest}), StepEntry(step="height"), StepEntry(step="normal"))
    weave = Weave(steps=rows, sources={digest: store.source_ref(digest)})
    state = store.create("Keel block", weave, origin=Origin(author="M. Thorn", licence="CC0-1.0", sale="yes"))
    Snapshots(store).keep(state.id, "First")
    later = weave.model_copy(update={"steps": (*rows, StepEntry(step="roughness"))})
    store.change(state.id, state.head, later, "More")
    write_archive(store, state.id, folder / "keel.material.zip")
    return store, state.id, (folder / "keel.material.zip").read_bytes()


def test_out_and_in_again_is_the_same(archive: tuple[Store, str, bytes], tmp_path: Path) -> None:
    store, ident, body = archive
    other = Store(tmp_path / "other")
    state = read_archive(other, io.BytesIO(body), "keel.material.zip")
    before = store.get(ident)
    assert (state.name, state.origin) == (before.name, before.origin)
    assert state.weave == before.weave
    assert [s.name for s in Snapshots(other).of(state.id)] == ["First"]
    first = Snapshots(other).of(state.id)[0]
    assert len(other.weave_at(state.id, first.entry).steps) == 3
    for thread in ("base", "height", "normal", "roughness"):
        one, two = (Evaluator(s.sources).ask(s.get(i).weave, thread, 64) for s, i in ((store, ident), (other, state.id)))
        np.testing.assert_array_equal(one.pixels, two.pixels)
    twice = read_archive(other, io.BytesIO(body), "keel.material.zip")
    assert twice.id != state.id, "nothing is overwritten"
    (tmp_path / "there.zip").write_bytes(b"mine")
    with pytest.raises(LoomError, match="already a file"):
        write_archive(store, ident, tmp_path / "there.zip")
    assert (tmp_path / "there.zip").read_bytes() == b"mine"


def test_a_model_behind_a_material_goes_along(tmp_path: Path) -> None:
    store, other = Store(tmp_path / "one"), Store(tmp_path / "other")
    digest = store.add_model_source(io.BytesIO(glb(plate(), {})), "cap.glb")
    rows = (StepEntry(step="blank"), StepEntry(step="lay_on", settings={"model": digest}), StepEntry(step="where_on_model"))
    weave = Weave(steps=rows, sources={digest: store.source_ref(digest)})
    state = store.create("Cap", weave)
    write_archive(store, state.id, tmp_path / "cap.material.zip")
    back = read_archive(other, io.BytesIO((tmp_path / "cap.material.zip").read_bytes()), "cap.material.zip")
    assert back.weave.sources[digest].name == "cap.glb"
    one, two = (Evaluator(s.sources).ask(weave, "where", 64) for s in (store, other))
    np.testing.assert_array_equal(one.pixels, two.pixels)
    with pytest.raises(LoomError, match="no model that can be read"):
        other.add_model_source(io.BytesIO(b"a picture, maybe"), "cap.png")
    assert not any(p.is_file() for p in (tmp_path / "other" / "blobs").rglob("*") if p.name not in (digest,))


def changed(body: bytes, name: str, into: bytes | None) -> io.BytesIO:
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(body)) as old, zipfile.ZipFile(out, "w") as new:
        for info in old.infolist():
            if info.filename.startswith(name):
                if into is not None:
                    new.writestr(info.filename, into)
            else:
                new.writestr(info.filename, old.read(info))
    out.seek(0)
    return out


@pytest.mark.parametrize(
    ("name", "into", "words"),
    [
        (FACTS, None, "not an archive of a material"),
        (FACTS, b"{", "not an archive of a material"),
        (FACTS, b'{"format": 99}', "newer version"),
        (FACTS, b'{"format": 1, "weave": {"steps": 4}}', "weave cannot be read"),
        (SOURCES, None, "a source is missing"),
        (SOURCES, b"something else", "not what it was"),
    ],
)
def test_damaged_archives_are_refused_and_nothing_is_made(
    archive: tuple[Store, str, bytes], tmp_path: Path, name: str, into: bytes | None, words: str
) -> None:
    other = Store(tmp_path / "other")
    with pytest.raises(LoomError, match=words):
        read_archive(other, changed(archive[2], name, into), "keel.material.zip")
    assert other.listed() == []


@settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.data())
def test_no_damage_gets_in_or_makes_it_fall(
    archive: tuple[Store, str, bytes], tmp_path_factory: pytest.TempPathFactory, data: st.DataObject
) -> None:
    body = bytearray(archive[2])
    for _ in range(data.draw(st.integers(1, 6))):
        body[data.draw(st.integers(0, len(body) - 1))] = data.draw(st.integers(0, 255))
    other = Store(tmp_path_factory.mktemp("other"))
    try:
        state = read_archive(other, io.BytesIO(bytes(body)), "keel.material.zip")
    except LoomError:
        assert other.listed() == []
    else:
        assert json.loads(other.get(state.id).weave.model_dump_json())["steps"]
    other.close()
