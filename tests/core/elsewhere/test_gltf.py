"""glTF materials as plain maps: known ones by hand, our own there and back, and damaged ones."""

from __future__ import annotations

import base64
import json
import shutil
import struct
import subprocess
from contextlib import suppress
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from PIL import Image as Pillow

import silent_loom
from bench.patterns import evaluator
from silent_loom.core.base.errors import FileError
from silent_loom.core.base.srgb import decode_srgb
from silent_loom.core.delivery.shelf import profile
from silent_loom.core.elsewhere.flatten import bake_flat, flattened
from silent_loom.core.elsewhere.gltf import transform_of
from silent_loom.core.elsewhere.plain_maps import Flat
from silent_loom.core.files import read
from silent_loom.core.ways.bake import BakeOrder, bake
from silent_loom.core.weave.rows.beginnings import woven_from


def png(folder: Path, name: str, codes: np.ndarray[Any, Any]) -> np.ndarray[Any, Any]:
    Pillow.fromarray(codes).save(folder / name)
    return codes


def noise(channels: int, seed: int, size: int = 8) -> np.ndarray[Any, Any]:
    return np.random.default_rng(seed).integers(0, 255, (size, size, channels)).astype(np.uint8)


def gltf(folder: Path, material: dict[str, Any], images: list[str] = [], **more: Any) -> list[Flat]:  # noqa: B006
    told = {
        "asset": {"version": "2.0"},
        "materials": [material],
        "images": [{"uri": i} for i in images],
        "textures": [{"source": k} for k in range(len(images))],
        **more,
    }
    path = folder / "m.gltf"
    path.write_text(json.dumps(told), "utf-8")
    return flattened(path)


def test_factors_alone(tmp_path: Path) -> None:
    (flat,) = gltf(
        tmp_path,
        {
            "name": "Plain",
            "pbrMetallicRoughness": {"baseColorFactor": [0.5, 0.25, 0.1, 0.4], "metallicFactor": 0.3, "roughnessFactor": 0.7},
            "alphaMode": "BLEND",
            "emissiveFactor": [0.2, 0.1, 0.0],
            "doubleSided": True,
        },
    )
    assert flat.name == "Plain"
    assert flat.two_sided
    for name, wanted in {
        "base": [0.5, 0.25, 0.1],
        "metallic": [0.3],
        "roughness": [0.7],
        "opacity": [0.4],
        "emission": [0.2, 0.1, 0],
    }.items():
        assert flat.maps[name][0, 0] == pytest.approx(wanted), name
    (usual,) = gltf(tmp_path, {})
    assert [float(usual.maps[n][0, 0, 0]) for n in ("base", "metallic", "roughness")] == [1, 1, 1]


def test_factors_and_textures_are_multiplied_each_in_its_own_way(tmp_path: Path) -> None:
    colour, packed, bump = (png(tmp_path, f"{k}.png", noise(c, k)) for k, c in ((0, 4), (1, 3), (2, 3)))
    (flat,) = gltf(
        tmp_path,
        {
            "pbrMetallicRoughness": {
                "baseColorTexture": {"index": 0},
                "baseColorFactor": [0.5, 1, 1, 0.5],
                "metallicRoughnessTexture": {"index": 1},
                "metallicFactor": 0.5,
                "roughnessFactor": 0.8,
            },
            "normalTexture": {"index": 2, "scale": 0.5},
            "occlusionTexture": {"index": 1, "strength": 0.25},
            "alphaMode": "MASK",
            "alphaCutoff": 0.25,
        },
        ["0.png", "1.png", "2.png"],
    )
    assert np.abs(flat.maps["base"] - decode_srgb(colour[..., :3] / 255) * [0.5, 1, 1]).max() < 1e-6
    assert np.abs(flat.maps["roughness"][..., 0] - packed[..., 1] / 255 * 0.8).max() < 1e-6
    assert np.abs(flat.maps["metallic"][..., 0] - packed[..., 2] / 255 * 0.5).max() < 1e-6
    assert np.abs(flat.maps["occlusion"][..., 0] - (1 + 0.25 * (packed[..., 0] / 255 - 1))).max() < 1e-6
    assert np.array_equal(flat.maps["opacity"][..., 0], (colour[..., 3] / 255 * 0.5 >= 0.25).astype(np.float32))
    assert np.abs(flat.maps["normal"] - (bump / 255 * 2 - 1) * [0.5, 0.5, 1]).max() < 1e-5
    assert flat.cutout


def moved(index: int, **how: Any) -> dict[str, Any]:
    return {"index": index, "extensions": {"KHR_texture_transform": how}}


def test_a_transform_that_all_share_is_how_often_the_sheet_repeats(tmp_path: Path) -> None:
    colour = png(tmp_path, "0.png", noise(3, 5))
    (flat,) = gltf(tmp_path, {"pbrMetallicRoughness": {"baseColorTexture": moved(0, scale=[3, 3])}}, ["0.png"])
    assert flat.size == (8, 8)
    assert np.abs(flat.maps["base"] - decode_srgb(colour / 255)).max() < 1e-6
    assert "3 × 3" in flat.notes[0]


def test_transforms_that_differ_are_drawn(tmp_path: Path) -> None:
    colour, rough = png(tmp_path, "0.png", noise(3, 6)), png(tmp_path, "1.png", noise(3, 7))
    (flat,) = gltf(
        tmp_path,
        {"pbrMetallicRoughness": {"baseColorTexture": {"index": 0}, "metallicRoughnessTexture": moved(1, scale=[2, 2])}},
        ["0.png", "1.png"],
    )
    assert flat.size == (16, 16)
    tiled = np.tile(rough[..., 1], (2, 2)) / 255
    assert np.abs(flat.maps["roughness"][..., 0] - tiled).max() < 1e-6
    turned = moved(0, rotation=np.pi / 2, offset=[0, 1])
    (flat,) = gltf(tmp_path, {"pbrMetallicRoughness": {"baseColorTexture": turned}}, ["0.png"])
    # u' = v, v' = 1 − u: what stands at u, v of the sheet is what stood at those places of the picture
    decoded = decode_srgb(colour / 255)
    wanted = np.array([[decoded[7 - x, y] for x in range(8)] for y in range(8)])
    assert np.abs(flat.maps["base"] - wanted).max() < 1e-5


def test_the_extensions_own_example_uses_the_lower_left_quarter(tmp_path: Path) -> None:
    codes = np.zeros((8, 8, 3), np.uint8)
    codes[4:, :4] = [200, 40, 90]
    codes[4, 0] = [10, 250, 10]  # the quarter's upper left corner
    png(tmp_path, "0.png", codes)
    turned = moved(0, rotation=np.pi / 2, offset=[0, 1], scale=[0.5, 0.5])
    (flat,) = gltf(tmp_path, {"pbrMetallicRoughness": {"baseColorTexture": turned}}, ["0.png"])
    base = flat.maps["base"]
    assert (base.max(2) > 0.01).all(), "nothing but the quarter that is not black"
    green = np.argwhere(base[..., 1] > base[..., 0])
    assert green.mean(0)[0] < 1.5, "turned clockwise by a quarter: the upper left corner goes to the upper right"
    assert green.mean(0)[1] > 6


@pytest.mark.parametrize("seed", range(4))
def test_transforms_are_those_of_the_shipped_3d_library(seed: int) -> None:
    node = shutil.which("node")
    assert node, "Node comes with npm, which the tests need anyway"
    rng = np.random.default_rng(seed)
    offset, scale, turn = rng.uniform(-2, 2, 2).tolist(), float(rng.uniform(0.2, 3)), float(rng.uniform(-7, 7))
    library = next((Path(silent_loom.__file__).parent / "web/static/vendor/three").rglob("three.core*.js"))
    code = (
        f"import {{ Matrix3 }} from {json.dumps(library.as_uri())}; const m = new Matrix3();"
        f"m.setUvTransform({offset[0]}, {offset[1]}, {scale}, {scale}, {turn}, 0, 0);"
        "console.log(JSON.stringify(m.transpose().elements));"
    )
    done = subprocess.run([node, "--input-type=module", "-e", code], capture_output=True, text=True, timeout=60, check=True)
    theirs = np.array(json.loads(done.stdout)).reshape(3, 3)
    ours = transform_of(moved(0, offset=offset, scale=[scale, scale], rotation=turn))
    assert np.abs(ours - theirs).max() < 1e-9


def test_extensions_that_matter_and_those_left_out(tmp_path: Path) -> None:
    specular = png(tmp_path, "0.png", noise(4, 8))
    (flat,) = gltf(
        tmp_path,
        {
            "emissiveFactor": [1, 0.5, 0],
            "extensions": {
                "KHR_materials_emissive_strength": {"emissiveStrength": 4},
                "KHR_materials_specular": {"specularFactor": 0.5, "specularTexture": {"index": 0}},
                "KHR_materials_clearcoat": {"clearcoatFactor": 1},
                "KHR_materials_sheen": {},
                "VENDOR_glitter": {},
            },
        },
        ["0.png"],
    )
    assert flat.maps["emission"][0, 0] == pytest.approx([1, 0.5, 0])
    assert "4" in next(n for n in flat.notes if "light" in n)
    assert np.abs(flat.maps["specular"][..., 0] - specular[..., 3] / 255 * 0.5).max() < 1e-6
    assert flat.left == ["a clear coat", "sheen", "the extension VENDOR_glitter"]
    (water,) = gltf(tmp_path, {"extensions": {"KHR_materials_ior": {"ior": 1.333}}})
    assert float(water.maps["specular"][0, 0, 0]) == pytest.approx((0.333 / 2.333) ** 2 / 0.04, rel=1e-5)


def test_specular_and_glossiness_become_metal_and_roughness(tmp_path: Path) -> None:
    (flat,) = gltf(
        tmp_path,
        {
            "name": "Brass",
            "extensions": {
                "KHR_materials_pbrSpecularGlossiness": {
                    "diffuseFactor": [0, 0, 0, 1],
                    "specularFactor": [0.9, 0.7, 0.4],
                    "glossinessFactor": 0.75,
                }
            },
        },
    )
    assert float(flat.maps["roughness"][0, 0, 0]) == pytest.approx(0.25)
    manifest = bake_flat(flat, profile("plain"), tmp_path / "out", _made(tmp_path / "x"), BakeOrder(32))
    files = {f["file"].rpartition("_")[2].partition(".")[0]: f["file"] for f in manifest["files"] if f["file"].endswith(".png")}
    metal = read(tmp_path / "out" / files["metallic"]).samples
    base = read(tmp_path / "out" / files["basecolor"]).samples.reshape(-1, 3)[0] / 255
    assert metal.min() > 240
    assert decode_srgb(base) == pytest.approx([0.9, 0.7, 0.4], abs=0.02)


def _made(folder: Path) -> Path:
    folder.mkdir()
    return folder


def mesh(colours: list[list[float]], uv: list[list[float]], positions: list[list[float]]) -> dict[str, Any]:
    parts = [np.array(positions, "<f4"), np.array(uv, "<f4"), np.array(colours, "<f4"), np.array([0, 1, 2, 0, 2, 3], "<u2")]
    body, views = b"", []
    for p in parts:
        views.append({"buffer": 0, "byteOffset": len(body), "byteLength": p.nbytes})
        body += p.tobytes()
    kinds = ["VEC3", "VEC2", f"VEC{len(colours[0])}", "SCALAR"]
    accessors = [
        {"bufferView": k, "componentType": 5123 if k == 3 else 5126, "count": 6 if k == 3 else 4, "type": kinds[k]}
        for k in range(4)
    ]
    primitive = {"attributes": {"POSITION": 0, "TEXCOORD_0": 1, "COLOR_0": 2}, "indices": 3, "material": 0}
    return {
        "buffers": [{"uri": "data:application/octet-stream;base64," + base64.b64encode(body).decode(), "byteLength": len(body)}],
        "bufferViews": views,
        "accessors": accessors,
        "meshes": [{"primitives": [primitive]}],
    }


SQUARE = [[0.0, 0.0], [1.0, 0.0], [1.0, 1.0], [0.0, 1.0]]
SHEET = [[0.0, 2.0, 0.0], [3.0, 2.0, 0.0], [3.0, 0.0, 0.0], [0.0, 0.0, 0.0]]


def test_vertex_colour_is_drawn_and_the_size_is_the_model_s(tmp_path: Path) -> None:
    left_to_right = [[1.0, 0, 0], [0, 1.0, 0], [0, 1.0, 0], [1.0, 0, 0]]
    (flat,) = gltf(tmp_path, {"name": "Painted"}, **mesh(left_to_right, SQUARE, SHEET))
    base = flat.maps["base"]
    n = base.shape[1]
    ramp = (np.arange(n) + 0.5) / n
    assert np.abs(base[n // 2, :, 1] - ramp).max() < 2 / n
    assert np.abs(base[n // 2, :, 0] - (1 - ramp)).max() < 2 / n
    assert flat.size_mm == pytest.approx((3000, 2000))
    constant = gltf(tmp_path, {}, **mesh([[0.5, 0.25, 1.0]] * 4, SQUARE, SHEET))[0]
    assert constant.maps["base"][0, 0] == pytest.approx([0.5, 0.25, 1.0])
    repeated = gltf(tmp_path, {}, **mesh(left_to_right, [[2 * u, 2 * v] for u, v in SQUARE], SHEET))[0]
    assert any("vertex colour" in words for words in repeated.left)


def test_our_own_there_and_back_within_a_code_value(tmp_path: Path) -> None:
    weave, asked = woven_from("flaking-paint"), evaluator()
    bake(asked, weave, profile("gltf"), tmp_path / "one", "wall", BakeOrder(128))
    for kind in ("glb", "gltf"):
        (flat,) = flattened(next((tmp_path / "one").glob(f"*.{kind}")))
        assert flat.size_mm == pytest.approx(asked.plan(weave).geometry.size_mm, rel=1e-3)
        beside = _made(tmp_path / f"maps_{kind}")
        bake_flat(flat, profile("plain"), tmp_path / kind, beside, BakeOrder(128))
        out = {p.stem.rpartition("_")[2]: read(p).samples.astype(int) for p in (tmp_path / kind).glob("wall*.png")}
        first = {p.stem.rpartition("_")[2]: read(p).samples.astype(int) for p in (tmp_path / "one").glob("wall*.png")}
        packed = first["occlusionroughnessmetallic"]
        for k, name in enumerate(("occlusion", "roughness", "metallic")):
            assert np.abs(out[name][..., 0] - packed[..., k]).max() <= 1, name
        assert np.abs(out["basecolor"] - first["basecolor"]).max() <= 1
        assert np.abs(np.rint(out["normal"] / 257) - first["normal"]).max() <= 1  # in 16 bits, out of 8


@pytest.mark.parametrize(
    ("told", "words"),
    [
        ({"asset": {"version": "1.0"}}, "glTF 1.0"),
        ({"asset": {"version": "2.0"}}, "no material"),
        (
            {"asset": {"version": "2.0"}, "materials": [{"pbrMetallicRoughness": {"baseColorTexture": {"index": 4}}}]},
            "textures 4",
        ),
        (
            {
                "asset": {"version": "2.0"},
                "materials": [{"pbrMetallicRoughness": {"baseColorTexture": {"index": 0}}}],
                "textures": [{"source": 0}],
                "images": [{"uri": "../../etc/passwd"}],
            },
            "beside it",
        ),
        (
            {
                "asset": {"version": "2.0"},
                "materials": [{"pbrMetallicRoughness": {"baseColorTexture": {"index": 0}}}],
                "textures": [{"source": 0}],
                "images": [{"uri": "gone.png"}],
            },
            "missing",
        ),
        ({"asset": {"version": "2.0"}, "materials": [{"pbrMetallicRoughness": {"baseColorFactor": "red"}}]}, "damaged"),
    ],
)
def test_wrong_files_are_told_in_words(tmp_path: Path, told: dict[str, Any], words: str) -> None:
    path = tmp_path / "m.gltf"
    path.write_text(json.dumps(told), "utf-8")
    with pytest.raises(FileError, match=words):
        flattened(path)


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.data())
def test_a_damaged_glb_is_refused_or_read_but_never_a_fault(tmp_path: Path, data: st.DataObject) -> None:
    told = {"asset": {"version": "2.0"}, "materials": [{"name": "A"}], **mesh([[1.0, 0, 0]] * 4, SQUARE, SHEET)}
    body = json.dumps(told).encode()
    body += b" " * (-len(body) % 4)
    whole = struct.pack("<4sII", b"glTF", 2, 20 + len(body)) + struct.pack("<I4s", len(body), b"JSON") + body
    at, value = data.draw(st.integers(0, len(whole) - 1)), data.draw(st.integers(0, 255))
    path = tmp_path / "m.glb"
    path.write_bytes(whole[:at] + bytes([value]) + whole[at + 1 :])
    with suppress(FileError):
        flattened(path, 16)
