"""Packed files back to maps, exactly; and the proof that finds the usual mistakes."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.parallel import IDLE
from silent_loom.core.base.srgb import decode_srgb
from silent_loom.core.delivery.files import deliver
from silent_loom.core.delivery.placing import MANIFEST
from silent_loom.core.delivery.proving.proof import prove
from silent_loom.core.delivery.proving.receiver import receive
from silent_loom.core.delivery.shelf import profile, profiles
from silent_loom.core.delivery.unpacking import unpack
from silent_loom.core.files import read
from silent_loom.core.moving.slopes import normals_of
from silent_loom.core.weave.threads import spec
from tests.support.commands import loom as run

N, DEPTH = 64, 12.0


@pytest.fixture(scope="module")
def maps() -> dict[str, Image]:
    rng = np.random.default_rng(4)

    def image(pixels: np.ndarray, kind: Kind) -> Image:
        return Image(np.ascontiguousarray(pixels, np.float32), kind, (240.0, 240.0), True)

    codes = rng.integers(0, 256, (N, N, 3)) / 255
    return {
        "base": image(decode_srgb(codes), Kind.COLOUR),
        "height": image((rng.random((N, N, 1)) - 0.5) * DEPTH, Kind.DATA),
        "normal": image(normals_of(np.float32(rng.normal(0, 0.6, (N, N, 2))), IDLE), Kind.NORMAL),
        "roughness": image(rng.random((N, N, 1)), Kind.DATA),
        "metallic": image(rng.integers(0, 2, (N, N, 1)), Kind.DATA),
        "occlusion": image(0.4 + 0.6 * rng.random((N, N, 1)), Kind.DATA),
        "opacity": image(rng.random((N, N, 1)), Kind.DATA),
    }


@pytest.mark.parametrize("name", list(profiles()))
def test_what_was_packed_comes_out_again(maps: dict[str, Image], name: str, tmp_path: Path) -> None:
    deliver(tmp_path / "set", "deck", maps, profile(name), depth_mm=DEPTH)
    found = unpack(tmp_path / "set")
    meanings = {n: spec(n).over(DEPTH) if n == "height" else spec(n) for n in maps}
    expected = {n: m for n, m in maps.items() if n in found.maps}
    assert {"base", "normal", "roughness", "metallic", "occlusion"} <= set(expected)
    lossy = receive(tmp_path / "set").lossy
    assert set(lossy) == ({"base", "normal", "occlusion"} if name == "palette" else set())
    for proved in prove(found.maps, expected, meanings):
        assert proved.same == (proved.map not in lossy), (proved.map, proved.difference)
    if lossy:
        return
    # The same again from the same files by the profile alone, and packed once more: not one code has changed
    (tmp_path / "set" / MANIFEST).rename(tmp_path / MANIFEST)
    by_name = unpack(tmp_path / "set", profile(name), DEPTH)
    assert set(by_name.maps) == set(found.maps)
    deliver(tmp_path / "again", "deck", by_name.maps, profile(name), depth_mm=DEPTH)
    for path in sorted((tmp_path / "set").iterdir()):
        if path.suffix in (".png", ".exr"):
            # Floats come through the range of their thread and back: the last bit may differ
            bound = 2e-7 if path.suffix == ".exr" else 0
            once, twice = read(path).samples, read(tmp_path / "again" / path.name).samples
            np.testing.assert_allclose(once.astype(float), twice.astype(float), rtol=0, atol=bound, err_msg=path.name)


def test_usual_mistakes_are_named(maps: dict[str, Image]) -> None:
    meanings = {n: spec(n).over(DEPTH) if n == "height" else spec(n) for n in maps}

    def told(name: str, pixels: np.ndarray) -> str:
        wrong = {**maps, name: maps[name].with_pixels(np.ascontiguousarray(pixels, np.float32))}
        found = {p.map: p for p in prove(wrong, maps, meanings)}
        assert [n for n, p in found.items() if not p.same] == [name]
        return found[name].mistake

    assert "green" in told("normal", maps["normal"].pixels * (1, -1, 1))
    assert "smoothness" in told("roughness", 1 - maps["roughness"].pixels)
    assert "encoded" in told("base", decode_srgb(maps["base"].pixels))
    assert "holds occlusion" in told("roughness", maps["occlusion"].pixels)
    assert "upside down" in told("height", maps["height"].pixels[::-1])
    assert told("height", np.random.default_rng(9).random((N, N, 1)) - 0.5) == ""
    half = prove({**maps, "roughness": maps["roughness"].with_pixels(maps["roughness"].pixels * 0.5)}, maps, meanings)
    assert next(p for p in half if p.map == "roughness").factor == pytest.approx(2.0, abs=1e-4)
    gone = prove({n: m for n, m in maps.items() if n != "height"}, maps, meanings)
    assert [p.mistake for p in gone if not p.same] == ["it is not in the delivery"]


def test_a_delivery_that_is_not_whole_says_so(maps: dict[str, Image], tmp_path: Path) -> None:
    deliver(tmp_path / "set", "deck", maps, profile("mro"), depth_mm=DEPTH)
    with pytest.raises(LoomError, match="no manifest"):
        unpack(tmp_path)
    with pytest.raises(LoomError, match="ends in basecolor"):
        unpack(tmp_path, profile("plain"))
    manifest = json.loads((tmp_path / "set" / MANIFEST).read_text())
    manifest["files"][0]["file"] = "../../elsewhere.png"
    (tmp_path / "set" / MANIFEST).write_text(json.dumps(manifest))
    with pytest.raises(LoomError, match="missing"):
        unpack(tmp_path / "set")
    (tmp_path / "set" / MANIFEST).write_text("{")
    with pytest.raises(LoomError, match="manifest"):
        unpack(tmp_path / "set")


def test_unpack_and_proof_on_the_command_line(maps: dict[str, Image], tmp_path: Path) -> None:
    deliver(tmp_path / "packed", "deck", maps, profile("smoothness"), depth_mm=DEPTH)
    deliver(tmp_path / "film", "deck", {**maps, "specular": maps["opacity"]}, profile("film"), depth_mm=DEPTH)
    made = run("unpack", tmp_path / "packed", "--out", tmp_path / "out", "--json")
    assert made.returncode == 0, made.stderr
    assert "packed_roughness.png" in json.loads(made.stdout)
    packed = read(tmp_path / "packed" / "deck_metallicsmoothness.png")
    assert packed.alpha is not None
    np.testing.assert_array_equal(read(tmp_path / "out" / "packed_roughness.png").samples[..., 0], 255 - packed.alpha)
    assert run("unpack", tmp_path / "packed", "--out", tmp_path / "out").returncode != 0, "the folder is not empty"
    whole = run("proof", tmp_path / "out", "--against", tmp_path / "packed")
    assert whole.returncode == 0, whole.stdout
    wrong = run("proof", tmp_path / "packed", "--against", tmp_path / "film", "--json")
    assert [m["map"] for m in json.loads(wrong.stdout)["maps"] if not m["same"]] == ["specular"]
    assert wrong.returncode == 1
    again = run("deliver", tmp_path / "out", "--profile", "mro", "--out", tmp_path / "mro", "--name", "deck")
    assert again.returncode == 0, again.stderr
    packed_again = read(tmp_path / "mro" / "deck_metallicroughnessocclusion.png").samples
    np.testing.assert_array_equal(packed_again[..., 0], packed.samples[..., 0])
    np.testing.assert_array_equal(packed_again[..., 1], 255 - packed.alpha)
    listed = run("profiles")
    assert "metallicsmoothness: metallic, metallic, metallic, 1-roughness" in listed.stdout
