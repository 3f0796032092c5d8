"""Models out of files: what is in them, and what is refused in a sentence."""

from __future__ import annotations

import base64
import io
import json
import random
import struct
from pathlib import Path

import numpy as np
import pytest
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from silent_loom.core.base.errors import FileError, LoomError
from silent_loom.core.delivery.models.gltf import glb
from silent_loom.core.delivery.models.obj import obj_text
from silent_loom.core.form.model import Model, plate
from silent_loom.core.form.reading.polygons import triangulated
from silent_loom.core.form.reading.table import read_model
from silent_loom.demo.models import MODELS, bollard

OBJ = """mtllib two.mtl
o hull
v 0 0 0 1 0 0
v 2 0 0 1 0 0
v 2 1 0 0 1 0
v 0 1 0 0 1 0
vt 0 0
vt 1 0
vt 1 1
vt 0 1
vn 0 0 1
usemtl paint
f 1/1/1 2/2/1 3/3/1 4/4/1
o deck
v 0 1 -3
usemtl wood
f -1 4 3
"""


def wrote(folder: Path, name: str, text: str | bytes) -> Path:
    path = folder / name
    path.write_bytes(text.encode() if isinstance(text, str) else text)
    return path


def test_an_obj_has_meshes_materials_uvs_normals_and_paint(tmp_path: Path) -> None:
    wrote(tmp_path, "two.mtl", "newmtl paint\nKd 0.1 0.2 0.3\nmap_Kd -s 2 2 1 red paint.png\nnorm paint_n.png\nnewmtl wood\n")
    model = read_model(wrote(tmp_path, "two.obj", OBJ))
    assert model.meshes == ("hull", "deck")
    assert [s.name for s in model.slots] == ["paint", "wood"]
    assert model.slots[0].textures == {"base": "red paint.png", "normal": "paint_n.png"}
    assert model.triangle_mesh.tolist() == [0, 0, 1]
    assert model.triangle_slot.tolist() == [0, 0, 1]
    assert model.corners[2].tolist() == [[0, 1000, -3000], [0, 1000, 0], [2000, 1000, 0]]
    assert model.uv().at_corners()[0].tolist() == [[0, 0], [1, 0], [1, 1]]
    assert np.isnan(model.uv().at_corners()[2]).all(), "a face without UVs has none"
    assert not model.unit_told


def test_a_missing_mtl_leaves_the_names(tmp_path: Path) -> None:
    assert [s.name for s in read_model(wrote(tmp_path, "two.obj", OBJ)).slots] == ["paint", "wood"]


@pytest.mark.parametrize("library", ["../two.mtl", "/etc/passwd", "c:\\windows\\a.mtl", "a/../../b.mtl"])
def test_materials_elsewhere_are_refused(tmp_path: Path, library: str) -> None:
    path = wrote(tmp_path, "two.obj", OBJ.replace("two.mtl", library))
    with pytest.raises(FileError, match="does not lie beside it"):
        read_model(path)


@pytest.mark.parametrize("number", ["1.25", "-3e2", "1E-3", "+4", ".5", "5.", "0.1234567890123456789", "123456789.125"])
def test_numbers_are_read_to_the_last_bit_but_one(tmp_path: Path, number: str) -> None:
    model = read_model(wrote(tmp_path, "one.obj", f"v {number} 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n"))
    value, want = float(model.positions.values[0, 0]), float(number)
    assert abs(value - want) <= np.spacing(abs(want))


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 4\n", "a corner that is not there"),
        ("v 0 0 0\nv 1 0 0\nv 0 1 0\nf -4 1 2\n", "a corner that is not there"),
        ("v 0 0 0\nv 1 0 0\nv 0 x 0\nf 1 2 3\n", "line 3"),
        ("v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1/ 2 three\n", "line 4"),
        ("v 0 0 nan\nv 1 0 0\nv 0 1 0\nf 1 2 3\n", "no place"),
        ("v 0 0 0\n", "no surface"),
        ("v 0 0 0\nv 1 0 0\nf 1 2\n", "no surface"),
    ],
)
def test_an_obj_that_cannot_be_says_why(tmp_path: Path, text: str, words: str) -> None:
    with pytest.raises(FileError, match=words):
        read_model(wrote(tmp_path, "bad.obj", text))


def test_lines_may_go_on_and_be_indented(tmp_path: Path) -> None:
    text = "  v 0 0 0\nv\t1 0 0\nv 0 \\\n 1 0\n# f 1 1 1\nf 1 2 \\\n3 # a comment\n"
    assert len(read_model(wrote(tmp_path, "one.obj", text))) == 1


@settings(deadline=None)
@given(st.integers(3, 12), st.integers(0, 10**6))
def test_polygons_lose_no_area(sides: int, seed: int) -> None:
    rng = np.random.default_rng(seed)
    angle = np.sort(rng.random(sides)) * 0.95 * 2 * np.pi / 1.0
    radius = rng.uniform(0.3, 1.0, sides)
    flat = np.stack([radius * np.cos(angle), radius * np.sin(angle)], 1)
    gaps = np.diff(np.r_[angle, angle[0] + 2 * np.pi])
    if gaps.max() >= np.pi or gaps.min() < 1e-3:
        return  # its middle lies outside, or two corners are one
    corners = np.c_[flat, np.zeros(sides)][None]
    x, y = flat.T
    area = 0.5 * float((x * np.roll(y, -1) - y * np.roll(x, -1)).sum())
    cut = triangulated(corners)[0]
    p, q, r = (flat[cut[:, k]] for k in range(3))
    each = 0.5 * ((q[:, 0] - p[:, 0]) * (r[:, 1] - p[:, 1]) - (q[:, 1] - p[:, 1]) * (r[:, 0] - p[:, 0]))
    assert each.min() > -1e-9, "no triangle lies the wrong way round"
    assert each.sum() == pytest.approx(area)


def test_an_arrow_is_cut_inside() -> None:
    arrow = np.array([[[0, 0, 0], [2, -1, 0], [0.5, 0, 0], [2, 1, 0.0]]])
    assert triangulated(arrow).tolist() == [[[0, 1, 2], [0, 2, 3]]]
    assert triangulated(np.roll(arrow, 1, 1)).tolist() == [[[0, 1, 3], [1, 2, 3]]]


@pytest.mark.parametrize("name", sorted(MODELS))
def test_a_glb_comes_back_as_it_was(tmp_path: Path, name: str) -> None:
    model = MODELS[name](1)
    again = read_model(wrote(tmp_path, f"{name}.glb", glb(model, {})))
    assert again.meshes == model.meshes
    assert [s.name for s in again.slots] == [s.name for s in model.slots]
    assert len(again) == len(model)
    order = np.lexsort((np.arange(len(model)), model.triangle_slot, model.triangle_mesh))
    places = model.positions.at_corners()[order].astype(np.float32)
    assert np.array_equal(again.positions.at_corners().astype(np.float32), places)
    assert np.allclose(again.uv().at_corners(), model.uv().at_corners()[order], atol=1e-6)
    assert again.colours is not None
    assert np.allclose(again.colours.at_corners(), model.colours.at_corners()[order], atol=1e-6)  # type: ignore[union-attr]
    assert again.unit_told


def test_sparse_accessors_are_filled_in(tmp_path: Path) -> None:
    """A triangle whose places are zero but for the two that are named."""
    body = struct.pack("<2H", 1, 2) + struct.pack("<6f", 1, 0, 0, 0, 1, 0)
    sparse = {
        "count": 2,
        "indices": {"bufferView": 0, "componentType": 5123},
        "values": {"bufferView": 1},
    }
    scene = {
        "asset": {"version": "2.0"},
        "buffers": [{"byteLength": len(body), "uri": "data:application/octet-stream;base64," + base64.b64encode(body).decode()}],
        "bufferViews": [
            {"buffer": 0, "byteOffset": 0, "byteLength": 4},
            {"buffer": 0, "byteOffset": 4, "byteLength": 24},
        ],
        "accessors": [{"componentType": 5126, "type": "VEC3", "count": 3, "sparse": sparse}],
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0}}]}],
        "nodes": [{"mesh": 0}],
        "scenes": [{"nodes": [0]}],
    }
    model = read_model(wrote(tmp_path, "few.gltf", json.dumps(scene)))
    np.testing.assert_allclose(model.corners[0], [[0, 0, 0], [1000, 0, 0], [0, 1000, 0]], atol=1e-6)
    sparse["count"] = 70_000
    with pytest.raises(LoomError, match="damaged"):
        read_model(wrote(tmp_path, "many.gltf", json.dumps(scene)))


def test_an_obj_comes_back_bit_for_bit(tmp_path: Path) -> None:
    model = bollard(1)
    again = read_model(wrote(tmp_path, "bollard.obj", obj_text(model, "bollard.mtl", {})), unit="m")
    assert np.array_equal(again.corners, model.corners)
    assert np.array_equal(again.uv().at_corners(), model.uv().at_corners())


@pytest.mark.parametrize("kind", ["ply", "stl", "stl_ascii"])
def test_ply_and_stl(tmp_path: Path, kind: str) -> None:
    ball = trimesh.creation.icosphere(2)
    body = ball.export(file_type=kind)
    model = read_model(wrote(tmp_path, f"ball.{kind[:3]}", body), unit="mm", up="y")
    assert len(model) == len(ball.faces)
    assert len(model.positions.values) == len(ball.vertices), "corners at one place are one"
    assert float(model.areas_mm2.sum()) == pytest.approx(float(ball.area), rel=1e-5)


def test_vertex_colours_of_a_ply_are_light(tmp_path: Path) -> None:
    ball = trimesh.creation.icosphere(0)
    ball.visual.vertex_colors = np.tile(np.array([188, 0, 255, 255], np.uint8), (len(ball.vertices), 1))
    model = read_model(wrote(tmp_path, "ball.ply", ball.export(file_type="ply")))
    assert model.colours is not None
    assert model.colours.at_corners()[0, 0] == pytest.approx([0.5029, 0, 1, 1], abs=1e-3)


def test_heads_that_promise_too_much_are_refused(tmp_path: Path) -> None:
    head = b"ply\nformat binary_little_endian 1.0\nelement vertex 900000000\nproperty float x\nend_header\n\0"
    with pytest.raises(FileError, match="promises"):
        read_model(wrote(tmp_path, "bomb.ply", head))
    with pytest.raises(FileError, match="promises"):
        read_model(wrote(tmp_path, "bomb.stl", b"\0" * 80 + (10**9).to_bytes(4, "little") + b"\0" * 100))
    with pytest.raises(FileError, match="can be read"):
        read_model(wrote(tmp_path, "model.fbx", b"x"))


def test_units_and_the_axis_that_points_up_are_told(tmp_path: Path) -> None:
    path = wrote(tmp_path, "one.obj", "v 0 0 0\nv 100 0 0\nv 0 0 50\nf 1 2 3\n")
    assert read_model(path).unit_mm == 10, "a hundred units are taken for centimetres"
    model = read_model(path, unit="in", up="z")
    assert model.size_mm == (2540, 1270, 0)
    with pytest.raises(LoomError, match="no unit"):
        read_model(path, unit="ell")


def damaged() -> dict[str, bytes]:
    ball = trimesh.creation.icosphere(1)
    return {
        "a.glb": glb(plate(), {}),
        "a.obj": obj_text(bollard(1), "a.mtl", {})[:6000],
        "a.ply": ball.export(file_type="ply"),
        "b.ply": ball.export(file_type="ply", encoding="ascii"),
        "a.stl": ball.export(file_type="stl"),
        "b.stl": ball.export(file_type="stl_ascii").encode(),
    }


@settings(max_examples=120, deadline=None)
@given(st.integers(0, 10**9))
def test_damaged_files_are_models_or_a_sentence(seed: int) -> None:
    rng = random.Random(seed)
    files = damaged()
    name = rng.choice(sorted(files))
    body = bytearray(files[name])
    for _ in range(rng.randrange(1, 12)):
        at = rng.randrange(len(body))
        match rng.randrange(4):
            case 0:
                body[at] = rng.randrange(256)
            case 1:
                del body[at : at + rng.randrange(1, 60)]
            case 2:
                body[at:at] = bytes(rng.randrange(256) for _ in range(8))
            case _:
                body[at : at + 4] = rng.choice([b"nan ", b"9999", b"\xff\xff\xff\xff", b"-1 -"])
        if not body:
            body = bytearray(b" ")
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        path = wrote(Path(folder), name, bytes(body))
        model: Model | None = None
        said = ""
        try:
            model = read_model(path)
        except FileError as error:
            said = str(error) if error.what and error.todo else ""
    assert 0 < len(said) < 400 if model is None else np.isfinite(model.corners).all()


def test_a_name_without_an_ending_is_told_by_its_head() -> None:
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        path = wrote(Path(folder), "0123abcd", io.BytesIO(glb(plate(), {})).getvalue())
        assert len(read_model(path)) == 2
