"""Models written out again with materials: what was not touched is byte for byte, what others read is right."""

from __future__ import annotations

import json
import struct
import subprocess
from contextlib import closing
from pathlib import Path

import numpy as np
import pytest

from silent_loom.core.base.errors import FileError, LoomError
from silent_loom.core.base.images import Image, Kind
from silent_loom.core.delivery.files import deliver
from silent_loom.core.delivery.models.dressing import dressed, numbered
from silent_loom.core.delivery.models.gltf import glb
from silent_loom.core.delivery.models.laid_on import Layer, laid_on
from silent_loom.core.delivery.models.obj import obj_text, renamed
from silent_loom.core.delivery.models.writing import write_model, written_bytes
from silent_loom.core.delivery.shelf import profile
from silent_loom.core.form.lay.laying import Laying
from silent_loom.core.form.lay.places import Where, onto_itself
from silent_loom.core.form.reading.table import read_model
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.beginnings import woven_from
from silent_loom.demo.models import MODELS, buoy, lifebelt
from silent_loom.store.store import Store

VALIDATOR = Path(__file__).parents[3] / "tools" / "vendor" / "node_modules" / "gltf-validator"


def validated(path: Path) -> list[str]:
    """Errors and warnings of the reference validator of glTF."""
    script = (
        "const v = require(process.argv[1]), fs = require('fs');"
        "v.validateBytes(new Uint8Array(fs.readFileSync(process.argv[2]))).then(r => console.log(JSON.stringify(r.issues)))"
    )
    run = subprocess.run(["node", "-e", script, str(VALIDATOR), str(path)], check=True, capture_output=True, text=True)
    return [m["code"] for m in json.loads(run.stdout)["messages"] if m["severity"] < 2]


@pytest.fixture(scope="module")
def paint(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A delivered material."""
    folder = tmp_path_factory.mktemp("paint") / "set"
    maps = {
        "base": Image(np.random.default_rng(1).random((32, 32, 3), np.float32), Kind.COLOUR),
        "roughness": Image(np.full((32, 32, 1), 0.6, np.float32), Kind.DATA),
        "metallic": Image(np.zeros((32, 32, 1), np.float32), Kind.DATA),
        "occlusion": Image(np.ones((32, 32, 1), np.float32), Kind.DATA),
        "normal": Image(np.tile(np.float32([0, 0, 1]), (32, 32, 1)), Kind.NORMAL),
    }
    deliver(folder, "red_lead", maps, profile("gltf"))
    return folder


@pytest.mark.parametrize("name", sorted(MODELS))
def test_others_read_our_glb(tmp_path: Path, name: str) -> None:
    path = tmp_path / f"{name}.glb"
    written_bytes(MODELS[name](1), path)
    assert validated(path) == []


def test_a_dressed_glb_keeps_its_geometry_byte_for_byte(tmp_path: Path, paint: Path) -> None:
    source = tmp_path / "buoy.glb"
    written_bytes(buoy(), source)
    model = read_model(source)
    dresses, _ = dressed(model, {"": paint}, rename=True)
    write_model(model, dresses, tmp_path / "out", "buoy", ("glb",), source=source.read_bytes())
    path = tmp_path / "out" / "buoy.glb"
    before, after = source.read_bytes(), path.read_bytes()
    (length,) = struct.unpack_from("<I", before, 12)
    binary = before[20 + length + 8 :]
    assert binary.rstrip(b"\0") in after, "the binary part stands in the new file as it was"
    told = json.loads(after[20 : 20 + struct.unpack_from("<I", after, 12)[0]])
    assert [m["name"] for m in told["materials"]] == ["red_lead_1", "red_lead_2"]
    assert "baseColorTexture" in told["materials"][0]["pbrMetallicRoughness"]
    assert np.array_equal(read_model(path).corners, model.corners)
    assert validated(path) == []


def test_an_obj_keeps_every_line_but_its_names(tmp_path: Path, paint: Path) -> None:
    source = tmp_path / "belt.obj"
    source.write_bytes(obj_text(lifebelt(), "belt.mtl", {}))
    model = read_model(source)
    dresses, _ = dressed(model, {"cloth": paint}, rename=True)
    files = write_model(model, dresses, tmp_path / "out", "belt", ("obj",), source=source.read_bytes())
    assert files[:2] == ["belt.obj", "belt.mtl"]
    old = source.read_text().splitlines()
    new = (tmp_path / "out" / "belt.obj").read_text().splitlines()
    assert [b for a, b in zip(old, new, strict=True) if a != b] == ["usemtl red_lead"] * sum(a == "usemtl cloth" for a in old)
    mtl = (tmp_path / "out" / "belt.mtl").read_text()
    assert "newmtl red_lead" in mtl
    assert "newmtl rope" in mtl, "what has no new material keeps its name"
    for line in mtl.splitlines():
        if line.startswith(("map_", "norm ")):
            assert (tmp_path / "out" / line.split()[-1]).is_file()
    again = read_model(tmp_path / "out" / "belt.obj")
    assert again.slots[0].textures["base"].startswith("red_lead")


def test_line_ends_and_other_bytes_of_an_obj_stay() -> None:
    text = "# Böje\r\nmtllib a.mtl\r\nv 0.10 0 0\r\nusemtl one # here\r\n".encode()
    assert renamed(text, "b.mtl", {"one": "zwei"}) == "# Böje\r\nmtllib b.mtl\r\nv 0.10 0 0\r\nusemtl zwei\r\n".encode()


def test_usd_has_meshes_materials_and_bindings(tmp_path: Path, paint: Path) -> None:
    usd = pytest.importorskip("pxr.Usd")
    geometry, shading = pytest.importorskip("pxr.UsdGeom"), pytest.importorskip("pxr.UsdShade")
    model = buoy()
    dresses, _ = dressed(model, {"": paint}, rename=True)
    write_model(model, dresses, tmp_path / "out", "buoy", ("usda",))
    stage = usd.Stage.Open(str(tmp_path / "out" / "buoy.usda"))
    meshes = [p for p in stage.Traverse() if p.IsA(geometry.Mesh)]
    assert [m.GetName() for m in meshes] == ["body", "ring"]
    points = np.array(geometry.Mesh(meshes[0]).GetPointsAttr().Get())
    assert float(np.ptp(points[:, 1])) == pytest.approx(0.9)
    assert geometry.GetStageMetersPerUnit(stage) == 1
    for m in meshes:
        bound, _ = shading.MaterialBindingAPI(m).ComputeBoundMaterial()
        assert bound.GetPrim().IsValid()
        assert len(geometry.PrimvarsAPI(m).GetPrimvar("st").Get()) == 3 * len(geometry.Mesh(m).GetFaceVertexCountsAttr().Get())


def test_what_does_not_match_is_said_before_anything_is_written(tmp_path: Path, paint: Path) -> None:
    model = buoy()
    with pytest.raises(LoomError, match="case counts"):
        dressed(model, {"Paint": paint})
    _, mismatches = dressed(model, {"paint": paint})
    assert "paint" in mismatches[0].words
    assert "red_lead" in mismatches[0].words
    with pytest.raises(FileError, match="no manifest"):
        dressed(model, {"": tmp_path})
    dresses, _ = dressed(model, {"": paint}, rename=True)
    with pytest.raises(LoomError, match="not written as"):
        write_model(model, dresses, tmp_path / "out", "buoy", ("fbx",))
    assert not (tmp_path / "out").exists()
    write_model(model, dresses, tmp_path / "out", "buoy", ("glb",))
    with pytest.raises(LoomError, match="not empty"):
        write_model(model, dresses, tmp_path / "out", "buoy", ("glb",))
    with pytest.raises(FileError, match=r"written as \.obj or \.glb"):
        written_bytes(model, tmp_path / "buoy.ply")


def test_pictures_of_one_name_from_two_folders_are_never_taken_for_each_other(tmp_path: Path, paint: Path) -> None:
    other = tmp_path / "other"
    deliver(other, "red_lead", {"base": Image(np.zeros((8, 8, 3), np.float32), Kind.COLOUR)}, profile("gltf"))
    dresses, _ = dressed(buoy(), {"paint": paint, "iron": other}, rename=True)
    with pytest.raises(FileError, match="different files of this name"):
        glb(buoy(), dresses)
    with pytest.raises(FileError, match="different files of this name"):
        write_model(buoy(), dresses, tmp_path / "out", "buoy", ("usda",))
    assert not (tmp_path / "out").exists()


def test_what_lies_over_a_material_is_within_the_range_that_is_told(tmp_path: Path) -> None:
    surface = onto_itself(buoy(), (64, 64))
    with closing(Store(tmp_path)) as store:
        evaluator = Evaluator(store.sources)
        flat = Layer(evaluator, woven_from("riveted-plate"), Laying("sides"))
        deep = Layer(evaluator, woven_from("cobbles"), Laying("sides"), (Where("altitude", 0.0, 0.0),))
        maps, told = laid_on(surface, [flat, deep], profile("master"))
        alone = laid_on(surface, [flat], profile("master"))[1]["height"]
    height = maps["height"].pixels
    assert height.max() > alone.high, "the stones stand out farther than the plate can"
    assert told["height"].low <= height.min()
    assert height.max() <= told["height"].high


def test_names_that_come_twice_are_numbered() -> None:
    assert numbered(["a", "b", "a", "a"]) == ["a_1", "b", "a_2", "a_3"]


def test_a_glb_has_every_uv_set() -> None:
    from dataclasses import replace

    model = buoy()
    two = replace(model, uvs={"new": model.uv(), "UV": model.uv()})
    told = glb(two, {})
    assert b'"TEXCOORD_1"' in told
    assert b'"TANGENT"' in told
