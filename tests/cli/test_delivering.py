"""Baking, delivering, unpacking and proving from the command line, on materials, archives and folders."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest

from silent_loom.core.delivery.shelf import as_text, profile
from silent_loom.core.files import read, write
from silent_loom.core.weave.rows.model import StepEntry, Weave
from silent_loom.store.store import Store
from tests.support.commands import loom as run

MAPS = ("base", "normal", "height", "roughness", "metallic", "occlusion")


@pytest.fixture(scope="module")
def library(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("library")
    store = Store(folder / "data")
    rng = np.random.default_rng(2)
    y, x = np.mgrid[0:96, 0:96] / 96 * 2 * np.pi
    light = 0.35 + 0.15 * np.sin(4 * x) * np.sin(3 * y) + 0.02 * rng.random((96, 96))
    write(folder / "quay.png", np.stack([light, light * 0.9, light * 0.7], 2).astype(np.float32), colour=True)
    with (folder / "quay.png").open("rb") as stream:
        digest, _ = store.add_source(stream, "quay.png")
    rows = [StepEntry(step="mapset", settings={"maps": [{"thread": "base", "source": digest}], "width_mm": 300.0})]
    rows += [StepEntry(step=s) for s in MAPS[1:] if s != "height"]
    rows.insert(1, StepEntry(step="height", settings={"depth_mm": 6.0}))
    store.create("Quay stone", Weave(steps=tuple(rows), sources={digest: store.source_ref(digest)}))
    store.close()
    return folder / "data"


def test_bake_deliver_unpack_and_proof(library: Path, tmp_path: Path) -> None:
    baked = run("bake", "Quay stone", "--data", library, "--size", 128, "--out", tmp_path / "master", "--json")
    assert baked.returncode == 0, baked.stderr
    manifest = json.loads(baked.stdout)
    assert manifest["size"] == [128, 128]
    assert {f["bits"] for f in manifest["files"] if "channels" in f} == {"16"}
    assert run("proof", tmp_path / "master", "--data", library).returncode == 0
    packed = run(
        "deliver", "quay_stone", "--data", library, "--profile", "smoothness", "--size", 64, "--out", tmp_path / "packed"
    )
    assert packed.returncode == 0, packed.stderr
    told = run("proof", tmp_path / "packed", "--against", "Quay stone", "--data", library, "--json")
    assert told.returncode == 0, told.stdout
    found = json.loads(told.stdout)
    assert {m["map"] for m in found["maps"]} == set(MAPS)
    assert set(found["mistakes"]) >= {"green", "smoothness"}
    small = run("deliver", tmp_path / "master", "--profile", "gltf", "--size", 32, "--out", tmp_path / "small", "--json")
    assert small.returncode == 0, small.stderr
    assert {"glb", "gltf", "mtlx", "usdz"} <= {f["format"] for f in json.loads(small.stdout)["files"]}
    larger = run("deliver", tmp_path / "master", "--size", 512, "--out", tmp_path / "larger")
    assert (larger.returncode, "holds 128 texels, not 512" in larger.stderr) == (1, True)
    again = run("bake", "Quay stone", "--data", library, "--out", tmp_path / "master")
    assert (again.returncode, "not empty" in again.stderr) == (1, True)
    out = run("unpack", tmp_path / "packed", "--out", tmp_path / "maps", "--json")
    assert "packed_roughness.png" in json.loads(out.stdout)
    hand = run(
        "unpack",
        tmp_path / "packed",
        "--out",
        tmp_path / "hand",
        "--file",
        "metallicsmoothness.png=metallic,metallic,metallic,1-roughness",
    )
    assert hand.returncode == 0, hand.stderr
    one, other = (read(tmp_path / f / "packed_roughness.png").samples for f in ("maps", "hand"))
    np.testing.assert_array_equal(one, other)
    odd = run("unpack", tmp_path / "packed", "--out", tmp_path / "odd", "--file", "metallicsmoothness.png=what.q")
    assert (odd.returncode, "NAME=CHANNEL" in odd.stderr) == (1, True)
    # One texel of one file, changed: said, and told by its exit code
    path = tmp_path / "packed" / "quay_stone_normal.png"
    picture = read(path).data()
    picture[..., 1] = 1 - picture[..., 1]
    path.unlink()
    write(path, picture, colour=False)
    wrong = run("proof", tmp_path / "packed", "--data", library)
    assert wrong.returncode == 1
    assert "its green points the other way" in wrong.stdout
    assert "responsible: normal" in wrong.stdout
    assert "quay_stone_normal.png: changed since it was delivered" in wrong.stdout


def test_a_forecast_makes_nothing(library: Path, tmp_path: Path) -> None:
    told = run("bake", "Quay stone", "--data", library, "--size", 48, "--out", tmp_path / "no", "--forecast", "--json")
    found = json.loads(told.stdout)
    assert {m["thread"] for m in found["maps"]} == set(MAPS)
    assert found["losses"]["reference"] == 96
    assert next(m for m in found["losses"]["maps"] if m["thread"] == "base")["share"] > 0.001
    assert not (tmp_path / "no").exists()
    words = run("bake", "Quay stone", "--data", library, "--size", 48, "--out", tmp_path / "no", "--forecast").stdout
    assert "nothing is lost from about 96 texels on" in words


def test_an_archive_goes_to_another_library_and_bakes_the_same(library: Path, tmp_path: Path) -> None:
    assert run("archive", "Quay stone", "--data", library, "--out", tmp_path / "quay.material.zip").returncode == 0
    direct = run("bake", tmp_path / "quay.material.zip", "--size", 64, "--out", tmp_path / "a")
    assert direct.returncode == 0, direct.stderr
    Store(tmp_path / "other").close()
    taken = run("take-in", tmp_path / "quay.material.zip", "--data", tmp_path / "other")
    assert taken.stdout.startswith("Quay stone (")
    assert run("bake", "Quay stone", "--data", tmp_path / "other", "--size", 64, "--out", tmp_path / "b").returncode == 0
    assert run("bake", "Quay stone", "--data", library, "--size", 64, "--out", tmp_path / "c").returncode == 0
    for name in MAPS:
        file = f"quay_stone_{name if name != 'base' else 'basecolor'}.png"
        assert (
            (tmp_path / "a" / file).read_bytes() == (tmp_path / "b" / file).read_bytes() == (tmp_path / "c" / file).read_bytes()
        )


def test_what_is_wrong_is_said_in_a_line(library: Path, tmp_path: Path) -> None:
    for call, words in [
        (("bake", "Nobody", "--data", library), "no such material in the library"),
        (("bake", "Quay stone", "--data", tmp_path), "no library here"),
        (("bake", "Quay stone", "--data", library, "--profile", "nobody"), "no profile called 'nobody'"),
        (("bake", tmp_path / "no.material.zip", "--data", library), "no such file"),
        (("bake", "Quay stone", "--data", library, "--size", 16384, "--memory", 1), "GB of memory, and 1.0 GB may be used"),
        (("deliver", "Quay stone", "--data", library, "--profile", tmp_path / "no.json"), "no such file"),
    ]:
        done = run(*call, "--out", tmp_path / "out")
        assert (done.returncode, words in done.stderr, done.stderr.count("\n")) == (1, True, 1), done.stderr
    assert not (tmp_path / "out").exists()
    assert run("proof", tmp_path).returncode == 1


def test_a_profile_may_be_a_file_that_somebody_shared(library: Path, tmp_path: Path) -> None:
    mine = profile("mro").model_copy(update={"name": "quay", "pattern": "Q_{map}_{size}"})
    (tmp_path / "quay.json").write_text(as_text(mine))
    done = run(
        "deliver", "Quay stone", "--data", library, "--profile", tmp_path / "quay.json", "--size", 32, "--out", tmp_path / "s"
    )
    assert done.returncode == 0, done.stderr
    assert (tmp_path / "s" / "Q_basecolor_32.png").is_file()
    listed = json.loads(run("profiles", "--json").stdout)
    assert len(listed) >= 8


def test_a_bake_that_is_killed_leaves_no_half_file(library: Path, tmp_path: Path) -> None:
    for k, wait in enumerate((1.2, 1.6, 2.0)):
        out = tmp_path / f"out{k}"
        call = [
            sys.executable,
            "-m",
            "silent_loom",
            "bake",
            "Quay stone",
            "--data",
            str(library),
            "--size",
            "1024",
            "--out",
            str(out),
        ]
        process = subprocess.Popen(call, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True)
        time.sleep(wait)
        os.killpg(process.pid, signal.SIGKILL)
        process.wait()
        for path in out.glob("*.png") if out.exists() else []:
            read(path)  # whole, if it has its name
        again = run("bake", "Quay stone", "--data", library, "--size", 64, "--out", out, "--force")
        assert again.returncode == 0, again.stderr
        assert {p.name for p in out.iterdir()} == {
            f["file"] for f in json.loads((out / "manifest.json").read_text())["files"]
        } | {"manifest.json"}
