"""Open materials beside the pictures: whoever reads them by the standard finds nothing wrong, and the right values."""

from __future__ import annotations

import json
import zipfile
from pathlib import Path

import numpy as np
import pytest

from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.images import Image, Kind
from silent_loom.core.delivery.files import Order, deliver
from silent_loom.core.delivery.open.gltf import glb_bytes
from silent_loom.core.delivery.open.surface import Surface
from silent_loom.core.delivery.profile import FileSpec, Profile
from silent_loom.core.delivery.shelf import profile, profiles
from silent_loom.core.weave.threads import helper
from tests.support.validators import gltf_messages, materialx_messages, usd_messages

N, DEPTH = 32, 8.0


def image(pixels: np.ndarray, kind: Kind = Kind.DATA) -> Image:
    return Image(np.ascontiguousarray(pixels, np.float32), kind, (400.0, 200.0), True)


@pytest.fixture(scope="module")
def maps() -> dict[str, Image]:
    rng = np.random.default_rng(8)
    normal = np.concatenate([rng.normal(0, 0.2, (N // 2, N, 2)), np.ones((N // 2, N, 1))], 2)
    grey = {n: image(rng.random((N // 2, N, 1))) for n in ("roughness", "metallic", "occlusion", "specular", "opacity")}
    return {
        "base": image(rng.random((N // 2, N, 3)), Kind.COLOUR),
        "height": image((rng.random((N // 2, N, 1)) - 0.5) * DEPTH),
        "normal": image(normal / np.linalg.norm(normal, axis=2, keepdims=True), Kind.NORMAL),
        "emission": image(rng.random((N // 2, N, 3)), Kind.COLOUR),
        **grey,
    }


@pytest.mark.parametrize("name", [n for n, p in profiles().items() if p.models])
@pytest.mark.parametrize("what", ["all", "some", "constant"])
def test_every_open_material_is_valid(maps: dict[str, Image], name: str, what: str, tmp_path: Path) -> None:
    some = {n: maps[n] for n in ("base", "height", "normal", "roughness", "metallic", "occlusion")}
    wanted = dict(maps) if what == "all" else some
    if what == "constant":
        flat = np.array([0, 0, 1])
        wanted = {
            n: m.with_pixels(np.broadcast_to(np.float32(0.25 if n != "normal" else flat), m.pixels.shape).copy())
            for n, m in some.items()
        }
    order = Order(skip_constant=what == "constant", two_sided=what == "some", package=True)
    manifest = deliver(tmp_path / "s", "2 deck-é", wanted, profile(name), depth_mm=DEPTH, order=order)
    found = {f["file"]: f["format"] for f in manifest["files"] if f["format"] in ("glb", "gltf", "mtlx", "usda", "usdz")}
    assert len(found) >= len(profile(name).models)
    for file, kind in found.items():
        path = tmp_path / "s" / file
        if kind in ("glb", "gltf") and file.endswith(("glb", "gltf")):
            assert gltf_messages(path) == []
        if kind == "mtlx":
            assert materialx_messages(path) == []
        if kind in ("usda", "usdz"):
            assert usd_messages(path) == []


def test_front_and_back_are_two_materials_on_two_primitives(maps: dict[str, Image], tmp_path: Path) -> None:
    back = {
        f"back_{n}": maps[n].with_pixels(maps[n].pixels[::-1].copy())
        for n in ("base", "normal", "occlusion", "roughness", "metallic")
    }
    meanings = {n: helper(n, maps[n.removeprefix("back_")].kind) for n in back}
    deliver(tmp_path / "s", "leaf", {**maps, **back}, profile("two-sided"), depth_mm=DEPTH, meanings=meanings)
    assert gltf_messages(tmp_path / "s" / "leaf.glb") == []
    assert materialx_messages(tmp_path / "s" / "leaf.mtlx") == []
    raw = (tmp_path / "s" / "leaf.glb").read_bytes()
    scene = json.loads(raw[20 : 20 + int.from_bytes(raw[12:16], "little")])
    assert [m["name"] for m in scene["materials"]] == ["leaf", "leaf back"]
    assert [p["material"] for p in scene["meshes"][0]["primitives"]] == [0, 1]
    a, b = (scene["accessors"][p["attributes"]["POSITION"]] for p in scene["meshes"][0]["primitives"])
    assert a["max"] == b["max"]
    assert scene["materials"][1]["pbrMetallicRoughness"]["baseColorTexture"]["index"] != 0


def test_a_glb_states_true_size_and_repeats() -> None:
    raw = glb_bytes(Surface("x", {}, {"roughness": (0.25,), "metallic": (1.0,)}, size_mm=(500, 250)), lambda _: b"")
    scene = json.loads(raw[20 : 20 + int.from_bytes(raw[12:16], "little")])
    assert scene["accessors"][0]["max"] == [0.5, 0.25, 0], "two repeats each way, in metres"
    rough = scene["materials"][0]["pbrMetallicRoughness"]
    assert (rough["roughnessFactor"], rough["metallicFactor"]) == (0.25, 1.0)


def test_usd_says_what_the_pictures_mean(maps: dict[str, Image], tmp_path: Path) -> None:
    from pxr import Usd, UsdShade

    odd = Profile(
        name="odd", title="Odd", models=("usda",),
        files=(
            FileSpec(suffix="n", channels=("normal.x", "normal.y", "normal.z"), depth="16"),
            FileSpec(suffix="m", channels=("1-roughness", "height", "occlusion"), depth="16"),
        ),
    )  # fmt: skip
    deliver(tmp_path / "s", "odd", maps, odd, depth_mm=DEPTH)
    assert usd_messages(tmp_path / "s" / "odd.usda") == []
    stage = Usd.Stage.Open(str(tmp_path / "s" / "odd.usda"))

    def of(part: str, key: str) -> list[float]:
        return [round(v, 6) for v in UsdShade.Shader(stage.GetPrimAtPath(f"/odd/materials/odd/{part}")).GetInput(key).Get()]

    assert of("normal", "scale") == [2, 2, 2, 1]
    assert of("normal", "bias") == [-1, -1, -1, 0]
    assert of("roughness", "scale")[0] == -1
    assert of("roughness", "bias")[0] == 1
    assert of("height", "scale")[0] == pytest.approx(DEPTH / 1000)
    assert of("height", "bias")[0] == pytest.approx(-DEPTH / 2000)


def test_a_usdz_is_not_compressed_and_aligned(maps: dict[str, Image], tmp_path: Path) -> None:
    deliver(tmp_path / "s", "deck", maps, profile("gltf"), depth_mm=DEPTH)
    with zipfile.ZipFile(tmp_path / "s" / "deck.usdz") as packed:
        assert packed.testzip() is None
        for info in packed.infolist():
            assert info.compress_type == zipfile.ZIP_STORED
            head = (tmp_path / "s" / "deck.usdz").read_bytes()[info.header_offset :]
            start = info.header_offset + 30 + int.from_bytes(head[26:28], "little") + int.from_bytes(head[28:30], "little")
            assert start % 64 == 0
        assert packed.namelist()[0] == "deck.usda"
        assert packed.read("deck_normal.png") == (tmp_path / "s" / "deck_normal.png").read_bytes()


def test_what_gltf_cannot_read_is_refused_in_words(maps: dict[str, Image], tmp_path: Path) -> None:
    wrong = profile("mro").model_copy(update={"models": ("glb",)})
    with pytest.raises(LoomError, match="glTF reads metallic from blue"):
        deliver(tmp_path / "s", "deck", {n: m for n, m in maps.items() if n != "opacity"}, wrong, depth_mm=DEPTH)
    assert not (tmp_path / "s").exists(), "nothing is left half written"
    for model in ("glb", "usda"):
        down = profile("gltf").model_copy(update={"green": "down", "models": (model,)})
        with pytest.raises(LoomError, match="green points up"):
            deliver(tmp_path / "d", "deck", maps, down, depth_mm=DEPTH)
