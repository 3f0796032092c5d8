"""Models from the command line: from a model with faults to one with a material on it."""

from __future__ import annotations

import json
from contextlib import closing
from pathlib import Path

import numpy as np
import pytest

from silent_loom.core.delivery.models.writing import written_bytes
from silent_loom.core.files import read
from silent_loom.core.form.model import plate
from silent_loom.core.form.reading.table import read_model
from silent_loom.core.weave.rows.beginnings import woven_from
from silent_loom.demo.models import buoy
from silent_loom.store.store import Store
from tests.support.commands import loom as run


@pytest.fixture(scope="module")
def quay(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("quay")
    written_bytes(buoy(), folder / "buoy.glb")
    written_bytes(buoy(3), folder / "dense.glb")
    return folder


def test_from_a_model_with_faults_to_one_with_a_material(quay: Path) -> None:
    told = json.loads(run("model", "check", str(quay / "buoy.glb"), "--json").stdout)
    assert {f["kind"] for f in told["check"]["faults"]} >= {"overlapping", "outside"}
    assert not told["check"]["carries"]
    stopped = run("model", "bake", "--model", str(quay / "buoy.glb"), "--out", str(quay / "none"), "--size", "64")
    assert stopped.returncode == 1
    assert "uvs" in stopped.stderr
    assert not (quay / "none").exists(), "nothing starts that cannot end well"
    flat = quay / "flat.glb"
    done = json.loads(run("model", "unwrap", str(quay / "buoy.glb"), "--out", str(flat), "--size", "256", "--json").stdout)
    assert len(done["uv_sets"]) == 2
    assert done["check"]["carries"]
    out = quay / "maps"
    args = ("--model", str(flat), "--dense", str(quay / "dense.glb"), "--size", "128", "--rays", "8", "--out", str(out), "--json")
    made = json.loads(run("model", "bake", *args, "--maps", "normal,height,occlusion").stdout)
    assert [f["map"] for f in made["files"]] == ["normal", "height", "occlusion"]
    assert made["missed"] < 0.01
    assert read(out / "flat_normal.png").samples.shape == (128, 128, 3)
    again = json.loads(run("model", "bake", *args, "--maps", "normal").stdout)
    assert again["files"][0]["file"] == "flat_2_normal.png", "nothing is overwritten"
    laid = quay / "laid"
    over = ("--over", "pattern:slates@altitude=0.4..0.6@slope=90..20")
    line = (
        "model",
        "lay",
        "pattern:trowelled-plaster",
        "--model",
        str(flat),
        "--by",
        "sides",
        "--size",
        "128",
        "--out",
        str(laid),
    )
    manifest = json.loads(run(*line, *over, "--profile", "gltf", "--json").stdout)
    assert manifest["on_model"]["by"] == "sides"
    assert all(n > 0 for n in manifest["on_model"]["repeats"])
    assert run("model", "export", "--model", str(flat), "--maps", str(laid), "--out", str(quay / "no")).returncode == 1
    run(
        "model",
        "export",
        "--model",
        str(flat),
        "--maps",
        str(laid),
        "--out",
        str(quay / "given"),
        "--as",
        "glb,obj,usda",
        "--rename",
        "--changes",
    )
    assert {p.suffix for p in (quay / "given").iterdir()} == {".glb", ".obj", ".mtl", ".usda", ".png"}
    before, after, changed = (read(quay / "given" / f"flat_{w}.png").samples for w in ("before", "after", "changed"))
    assert len(np.unique(before.reshape(-1, 3), axis=0)) <= len(buoy().slots), "it came with colours, not with textures"
    assert len(np.unique(after.reshape(-1, 3), axis=0)) > 100
    assert changed.max() > 200


def test_a_model_under_a_material_of_the_library_is_baked_and_proved(quay: Path, tmp_path: Path) -> None:
    data, cap = ("--data", str(tmp_path / "library")), tmp_path / "cap.glb"
    written_bytes(plate(), cap)
    with closing(Store(tmp_path / "library")) as store:
        store.create("Gravel", woven_from("gravel"))
    told = json.loads(run("model", "put-under", str(cap), "Gravel", *data, "--json").stdout)
    assert told["label"] == "Model: cap.glb"
    where = {"kind": "add", "step": "where_on_model", "to": 99, "settings": {"by": "altitude", "name": "top"}}
    assert "added" in run("change", "Gravel", json.dumps(where), *data).stdout
    out = tmp_path / "set"
    line = ("bake", "Gravel", *data, "--size", "64", "--profile", "gltf", "--out", str(out), "--json")
    manifest = json.loads(run(*line).stdout)
    assert manifest["on_model"]["file"] == "cap.glb"
    assert manifest["on_model"]["repeats"] == [2.0, 2.0]
    worn = read_model(out / "gravel.glb")
    assert (len(worn), worn.slots[0].name) == (len(plate()), "gravel")
    assert {"base", "normal"} <= set(worn.slots[0].textures)
    assert run("proof", str(out), *data).returncode == 0


def test_a_model_is_put_under_in_the_unit_that_somebody_says(tmp_path: Path) -> None:
    data, cap = ("--data", str(tmp_path / "library")), tmp_path / "cap.obj"
    written_bytes(plate(), cap)
    with closing(Store(tmp_path / "library")) as store:
        ident = store.create("Gravel", woven_from("gravel")).id
    run("model", "put-under", str(cap), "Gravel", "--unit", "cm", "--up", "z", *data)
    with closing(Store(tmp_path / "library")) as store:
        settings = next(r for r in store.get(ident).weave.rows() if r.step == "lay_on").settings
    assert (settings["unit"], settings["up"]) == ("cm", "z")


def test_a_mask_is_written(quay: Path) -> None:
    path = quay / "top.png"
    run("model", "mask", "altitude=0.5..0.5", "--model", str(quay / "buoy.glb"), "--out", str(path), "--size", "64")
    assert read(path).bits == 16


@pytest.mark.parametrize(
    ("args", "words"),
    [
        (("check", "nothing.obj"), "cannot be read"),
        (("check", "x.fbx"), "no model that can be read"),
        (("unwrap", "{quay}/buoy.glb", "--out", "{quay}/buoy.glb"), "already a file"),
        (("mask", "shade", "--model", "{quay}/buoy.glb", "--out", "{quay}/m.png"), "no mask"),
        (("lay", "pattern:trowelled-plaster", "--model", "{quay}/buoy.glb", "--out", "{quay}/l", "--by", "wind"), "laid on by"),
        (("bake", "--model", "{quay}/buoy.glb", "--out", "{quay}/b", "--maps", "shine", "--uv", "third"), "no UV set"),
    ],
)
def test_what_is_wrong_is_said_in_a_line(quay: Path, args: tuple[str, ...], words: str) -> None:
    done = run("model", *(a.format(quay=quay) for a in args))
    assert done.returncode == 1
    assert words in done.stderr
    assert len(done.stderr.strip().splitlines()) == 1
