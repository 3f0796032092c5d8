"""Many photos through a recipe: one that fails stops nothing, what was killed goes on, every result is there once."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import pytest
from PIL import Image as Pillow

from silent_loom.core.base.errors import Cancelled, FileError, LoomError
from silent_loom.core.base.parallel import Task
from silent_loom.core.delivery.shelf import profile
from silent_loom.core.weave.rows.dials import turned
from silent_loom.core.weave.rows.saved import shipped
from silent_loom.demo.surfaces import noise
from silent_loom.store.recipes import Recipes
from silent_loom.store.store import Store
from silent_loom.work.jobs import GOT_ON
from silent_loom.work.many.folder import JOURNAL, order_of, photos_in, run
from silent_loom.work.many.results import Result, by_urgency
from silent_loom.work.workbench import Workbench

RECIPE = shipped()["photo-plaster"]


def photo(path: Path, seed: int) -> Path:
    n = noise((96, 128), 24, seed)
    light = 0.5 + 0.12 * (n - n.mean()) / n.std()
    codes = np.clip(255 * np.stack([light, light * 0.95, light * 0.9], -1), 0, 255).astype(np.uint8)
    Pillow.fromarray(codes).save(path)
    return path


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    place = tmp_path / "photos"
    place.mkdir()
    for k, name in enumerate(("b.png", "a.png", "c.jpg")):
        photo(place / name, k)
    (place / "notes.txt").write_text("not a photo")
    (place / ".hidden.png").write_bytes(b"x")
    return place


def order(**more: Any) -> Any:
    return order_of(RECIPE.weave, RECIPE.title, [profile("plain")], 64, suggest=False, **more)


def test_photos_of_a_folder_in_order(folder: Path, tmp_path: Path) -> None:
    assert [p.name for p in photos_in([folder])] == ["a.png", "b.png", "c.jpg"]
    assert [p.name for p in photos_in([folder / "b.png", folder])] == ["b.png", "a.png", "c.jpg"]
    with pytest.raises(FileError, match="no such file"):
        photos_in([tmp_path / "none"])
    (tmp_path / "empty").mkdir()
    with pytest.raises(FileError, match="no photo"):
        photos_in([tmp_path / "empty"])


def test_every_photo_gets_a_folder_figures_and_a_picture(folder: Path, tmp_path: Path) -> None:
    out = tmp_path / "out"
    told: list[str] = []
    results = run(photos_in([folder]), out, order(), each=lambda r: told.append(r.photo))
    assert told == ["a.png", "b.png", "c.jpg"]
    for r in results:
        assert r.state == "done"
        assert r.seam is not None
        assert r.evenness is not None
        assert 0 <= r.seam < 5
        place = out / r.out[0]
        assert len(list(place.glob("*.png"))) >= 6
        assert json.loads((place / "manifest.json").read_text())["recipe"] == RECIPE.title
        assert (out / "pictures" / f"{place.name}.png").is_file()
    assert {p.name for p in out.iterdir()} == {"a", "b", "c", "pictures", JOURNAL}


def test_one_failure_stops_nothing_and_comes_first(folder: Path, tmp_path: Path) -> None:
    (folder / "aa.png").write_bytes(b"no picture at all")
    (folder / "tiny.png").write_bytes((folder / "a.png").read_bytes()[:400])
    results = run(photos_in([folder]), tmp_path / "out", order())
    assert [r.state for r in results] == ["failed", "failed", "done", "done", "done"]
    assert all(r.error and r.reasons()[0] == r.error for r in results[:2])
    again = run(photos_in([folder]), tmp_path / "out", order())  # tried again, and told again
    assert [r.state for r in again] == [r.state for r in results]


def test_the_same_call_makes_only_what_is_missing(folder: Path, tmp_path: Path) -> None:
    out = tmp_path / "out"
    run(photos_in([folder]), out, order())
    before = {p: p.stat().st_mtime_ns for p in out.rglob("*.png")}
    photo(folder / "b.png", 9)  # another picture under the same name
    photo(folder / "d.png", 10)
    run(photos_in([folder]), out, order())
    after = {p: p.stat().st_mtime_ns for p in out.rglob("*.png")}
    assert {p.parent.name for p in after if before.get(p) == after[p]} >= {"a", "c"}
    assert all(before[p] != after[p] for p in before if p.parent.name == "b")
    assert (out / "d").is_dir()


def test_a_folder_of_something_else_is_left_alone(folder: Path, tmp_path: Path) -> None:
    out = tmp_path / "out"
    out.mkdir()
    (out / "mine.txt").write_text("precious")
    with pytest.raises(LoomError, match="not empty"):
        run(photos_in([folder]), out, order())
    done = tmp_path / "done"
    run(photos_in([folder])[:1], done, order())
    other = order_of(turned(RECIPE.weave, {"relief": 0.9}), RECIPE.title, [profile("plain")], 64, suggest=False)
    with pytest.raises(LoomError, match="another recipe, profile or size"):
        run(photos_in([folder]), done, other)
    (done / JOURNAL).write_text("{}")
    with pytest.raises(LoomError, match="no list of results"):
        run(photos_in([folder]), done, order())


def test_it_stops_when_it_is_asked_to_and_goes_on(folder: Path, tmp_path: Path) -> None:
    task = Task()
    with pytest.raises(Cancelled):
        run(photos_in([folder]), tmp_path / "out", order(), task, each=lambda _: task.cancel())
    assert len(list((tmp_path / "out" / "pictures").iterdir())) == 1
    assert len(run(photos_in([folder]), tmp_path / "out", order())) == 3


def test_killed_at_any_moment_every_result_is_there_once(folder: Path, tmp_path: Path) -> None:
    out = tmp_path / "out"
    command = [sys.executable, "-m", "silent_loom", "batch", str(folder), "--recipe", "photo-plaster", "--size", "64"]
    command += ["--set", "seamless.method=cut", "--out", str(out), "--data", str(tmp_path / "none")]
    rng = np.random.default_rng(4)
    for _ in range(4):
        going = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        time.sleep(float(rng.uniform(0.8, 3.0)))  # a moment in its life, whichever: the outcome does not depend on it
        os.kill(going.pid, signal.SIGKILL)
        going.wait()
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    told = json.loads((out / JOURNAL).read_text())["rows"]
    assert {k: r["state"] for k, r in told.items()} == {"a": "done", "b": "done", "c": "done"}
    whole = tmp_path / "whole"
    run(photos_in([folder]), whole, order())
    names = lambda place: sorted(str(p.relative_to(place)) for p in place.rglob("*") if p.is_file())  # noqa: E731
    assert names(out) == names(whole)


def test_a_blurred_photo_wants_a_look(tmp_path: Path) -> None:
    place = tmp_path / "photos"
    place.mkdir()
    rng = np.random.default_rng(2)
    codes = cv2.resize(rng.integers(60, 200, (96, 128, 3)).astype(np.uint8), (256, 192), interpolation=cv2.INTER_NEAREST)
    Pillow.fromarray(codes).save(place / "sharp.png")
    Pillow.fromarray(cv2.GaussianBlur(codes, (0, 0), 2.5)).save(place / "soft.png")
    made = {r.photo: r for r in run(photos_in([place]), tmp_path / "out", order())}
    sharp, soft = made["sharp.png"], made["soft.png"]
    assert not any("Blurred" in words for words in sharp.reasons())
    assert any("Blurred" in words for words in soft.reasons())
    assert by_urgency([sharp, soft])[0] is soft
    told = json.loads((tmp_path / "out" / JOURNAL).read_text())["rows"]
    assert {k: bool(r["soft"]) for k, r in told.items()} == {"sharp": False, "soft": True}


def test_what_needs_a_look_comes_first() -> None:
    fine = Result("fine.png", state="done", seam=0.8, contrast=1.0, evenness=1.0)
    seam = Result("seam.png", state="done", seam=1.4, contrast=1.0, evenness=1.0)
    dark = Result("dark.png", state="done", seam=0.8, contrast=0.5, evenness=9.0, odd={"metallic": ["half metal"]})
    bad = Result("bad.png", state="failed", error="it is damaged")
    assert by_urgency([fine, seam, bad, dark])[0] is bad
    assert by_urgency([fine, seam, bad, dark])[-1] is fine
    assert fine.reasons() == []
    assert len(dark.reasons()) == 3
    assert Result.read(seam.as_dict()) == seam


# --- in the application -------------------------------------------------------------------------------------------------


@pytest.fixture
def bench(tmp_path: Path) -> Any:
    made = Workbench(Store(tmp_path / "data"))
    yield made
    made.close()
    made.store.close()


def wait(bench: Workbench, job: Any) -> dict[str, Any]:
    until = time.monotonic() + 120
    while job.state in ("waiting", "running") and time.monotonic() < until:
        time.sleep(0.02)
    return job.as_dict()


def brought(bench: Workbench, paths: list[Path]) -> list[tuple[str, str]]:
    found = []
    for path in paths:
        with path.open("rb") as stream:
            digest, _ = bench.store.add_source(stream, path.name)
        found.append((digest, path.name))
    return found


def test_a_batch_makes_a_material_of_each(bench: Workbench, folder: Path) -> None:
    photos = brought(bench, [folder / "a.png", folder / "b.png"])
    job = bench.batches.begin("photo-plaster", photos, ["plain"], 64, dials={"relief": 0.9})
    told = wait(bench, job)
    assert told["state"] == "done", told
    rows = told["result"]["rows"]
    assert {r["photo"] for r in rows} == {"a.png", "b.png"}
    for r in rows:
        state = bench.store.get(r["material"])
        assert state.name.lower() == r["photo"].partition(".")[0]
        assert len(bench.store.deliveries(state.id)) == 1
        assert bench.evaluator.plan(state.weave).spec("height").depth == pytest.approx(0.9 * 2 * 1.8)


def test_a_batch_that_was_interrupted_makes_nothing_twice(bench: Workbench, folder: Path) -> None:
    photos = brought(bench, [folder / "a.png", folder / "b.png"])
    first = bench.batches.begin("photo-plaster", photos, ["plain"], 64)
    wait(bench, first)
    before = sorted(m.id for m in bench.store.listed())
    # As a kill leaves it: running, its first photo not yet noted, though its material and delivery are there
    first.state, first.result = "running", {}
    bench.batches._done(first)
    assert sorted(m.id for m in bench.store.listed()) == before
    assert all(len(bench.store.deliveries(m)) == 1 for m in before)
    assert sum(line.endswith(GOT_ON) for line in first.log) == 4


def test_a_batch_is_refused_before_it_begins(bench: Workbench) -> None:
    for recipe, photos, profiles, words in (
        ("nope", [("a" * 64, "a.png")], [], "no such recipe"),
        ("carpet", [("a" * 64, "a.png")], [], "takes no photo"),
        ("photo-stone", [], [], "no photo is chosen"),
        ("photo-stone", [("a" * 64, "a.png")], ["nope"], "profile"),
    ):
        with pytest.raises(LoomError, match=words):
            bench.batches.begin(recipe, photos, profiles)


# --- recipes in the store -------------------------------------------------------------------------------------------------


def test_recipes_are_kept_in_versions_and_followed(bench: Workbench) -> None:
    book, weave = Recipes(bench.store), shipped()["slate-roof"].weave
    told = book.save(weave, "  My   roof ", "Slates.", "roof wet")
    assert (told.name, told.title, told.words) == ("my_roof", "My roof", ("roof", "wet"))
    state = bench.store.create("Roof", weave)
    book.follow(state.id, told.name)
    assert book.behind("my_roof") == []
    newer = turned(weave, {"moss": 0.9})
    assert book.save(newer, "My roof").weave == newer
    assert book.behind("my_roof") == [state.id]
    follows = book.followed(state.id)
    assert follows is not None
    assert (follows.version, follows.newest) == (1, 2)
    assert book.versions(state.id) == (weave, newer)
    bench.store.put_in_bin(state.id)
    assert book.behind("my_roof") == []
    book.forget("my_roof")
    assert book.all() == []
    assert book.followed(state.id) is None
    with pytest.raises(LoomError, match="no such recipe"):
        book.get("my_roof")
    for title in ("", "   "):
        with pytest.raises(LoomError, match="needs a name"):
            book.save(weave, title)
