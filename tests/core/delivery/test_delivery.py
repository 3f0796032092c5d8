"""Packed, named, tagged, listed: what leaves is what was meant, and nothing of the artist's is touched."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.images import Image, Kind
from silent_loom.core.delivery.channel import parse_channel
from silent_loom.core.delivery.files import deliver
from silent_loom.core.delivery.names import file_name
from silent_loom.core.delivery.packing import needed
from silent_loom.core.delivery.placing import sha256
from silent_loom.core.delivery.profile import FileSpec, Profile, file_names
from silent_loom.core.delivery.shelf import profile, profiles
from silent_loom.core.files import read
from silent_loom.core.steps.maps.normal import from_height
from tests.conftest import as_colour, spectrum

VENDOR = Path(__file__).parents[3] / "tools" / "vendor"


@pytest.fixture
def maps() -> dict[str, Image]:
    height = Image((spectrum(64, 1.5, 1) * 1.2)[..., None], Kind.DATA, (500, 500), True)
    plane = Image((0.5 + 0.1 * spectrum(64, 1, 2))[..., None].astype(np.float32), Kind.DATA, (500, 500), True)
    zero = Image(np.zeros((64, 64, 1), np.float32), Kind.DATA, (500, 500), True)
    return {
        "base": as_colour(spectrum(64, 1, 3), (500, 500)),
        "height": height,
        "normal": from_height(height),
        "roughness": plane,
        "metallic": zero,
        "occlusion": plane,
    }


def test_plain_set_is_as_promised(tmp_path: Path, maps: dict[str, Image]) -> None:
    out = tmp_path / "set"
    manifest = deliver(out, "deck", maps, profile("plain"), depth_mm=10)
    assert sorted(p.name for p in out.iterdir()) == sorted(
        ["manifest.json"] + [f"deck_{m}.png" for m in ("basecolor", "normal", "height", "roughness", "metallic", "occlusion")]
    )
    assert {f["file"]: f["bits"] for f in manifest["files"]} == {
        "deck_basecolor.png": "8", "deck_normal.png": "16", "deck_height.png": "16", "deck_roughness.png": "8", "deck_metallic.png": "8", "deck_occlusion.png": "8",
    }  # fmt: skip
    assert np.abs(read(out / "deck_basecolor.png").colour() - np.clip(maps["base"].pixels, 0, 1)).max() < 0.006
    assert np.abs(read(out / "deck_normal.png").data() * 2 - 1 - maps["normal"].pixels).max() < 2e-5
    height = (read(out / "deck_height.png").data() - 0.5) * 10
    assert np.abs(height - maps["height"].pixels).max() < 10 / 65535
    assert not read(out / "deck_metallic.png").data().any(), "a constant is not dithered"
    assert read(out / "deck_roughness.png").channels == 1
    for file in manifest["files"]:
        assert sha256(out / file["file"]) == file["sha256"]
    assert json.loads((out / "manifest.json").read_text())["depth_mm"] == 10
    assert "deck_metallic.png: constant" in manifest["warnings"]


def test_heights_outside_the_depth_are_counted_and_warned_of(tmp_path: Path, maps: dict[str, Image]) -> None:
    manifest = deliver(tmp_path / "s", "deck", maps, profile("plain"), depth_mm=2)
    entry = next(f for f in manifest["files"] if f["file"] == "deck_height.png")
    outside = int((np.abs(maps["height"].pixels) > 1.0002).sum())
    assert abs(entry["clipped"] - outside) <= 2
    assert outside > 100
    assert any("deck_height.png" in w and "cut" in w for w in manifest["warnings"])


def test_gltf_packs_occlusion_roughness_metallic(tmp_path: Path, maps: dict[str, Image]) -> None:
    deliver(tmp_path / "s", "deck", maps, profile("gltf"), depth_mm=10)
    packed = read(tmp_path / "s" / "deck_occlusionroughnessmetallic.png").data()
    for k, name in enumerate(("occlusion", "roughness", "metallic")):
        assert np.abs(packed[..., k] - maps[name].plane()).max() <= 1.01 / 255
    assert (tmp_path / "s" / "deck.glb").read_bytes()[:4] == b"glTF"


def test_green_down_turns_green_and_nothing_else(tmp_path: Path, maps: dict[str, Image]) -> None:
    down = profile("plain").model_copy(update={"green": "down"})
    deliver(tmp_path / "u", "d", maps, profile("plain"), depth_mm=10)
    deliver(tmp_path / "d", "d", maps, down, depth_mm=10)
    up, turned = read(tmp_path / "u" / "d_normal.png").data(), read(tmp_path / "d" / "d_normal.png").data()
    assert np.abs(up[..., 1] + turned[..., 1] - 1).max() < 2e-5
    assert np.array_equal(up[..., [0, 2]], turned[..., [0, 2]])


def test_a_folder_that_is_not_empty_is_refused(tmp_path: Path, maps: dict[str, Image]) -> None:
    (tmp_path / "notes.txt").write_text("mine")
    with pytest.raises(LoomError, match="not empty"):
        deliver(tmp_path, "deck", maps, profile("plain"), depth_mm=10)
    assert [p.name for p in tmp_path.iterdir()] == ["notes.txt"]
    deliver(tmp_path, "deck", maps, profile("plain"), depth_mm=10, force=True)
    assert (tmp_path / "notes.txt").read_text() == "mine"


def test_force_replaces_only_its_own_unchanged_files(tmp_path: Path, maps: dict[str, Image]) -> None:
    deliver(tmp_path, "deck", maps, profile("plain"), depth_mm=10)
    deliver(tmp_path, "deck", maps, profile("plain"), depth_mm=5, force=True)
    assert json.loads((tmp_path / "manifest.json").read_text())["depth_mm"] == 5
    painted = tmp_path / "deck_roughness.png"
    painted.write_bytes(painted.read_bytes() + b"touched up by hand")
    mine = painted.read_bytes()
    before = sha256(tmp_path / "deck_height.png")
    with pytest.raises(LoomError, match=r"deck_roughness\.png"):
        deliver(tmp_path, "deck", maps, profile("plain"), depth_mm=3, force=True)
    assert painted.read_bytes() == mine
    assert sha256(tmp_path / "deck_height.png") == before, "nothing is written when one file is in the way"
    other = tmp_path / "x"
    other.mkdir()
    (other / "deck_height.png").write_bytes(b"mine")
    with pytest.raises(LoomError, match=r"deck_height\.png"):
        deliver(other, "deck", maps, profile("plain"), depth_mm=3, force=True)


@pytest.mark.parametrize("listed", ['{"files": 3}', "no json", '{"files": [{"file": "../../escape.png", "sha256": "0"}]}', "[]"])
def test_a_hostile_manifest_allows_nothing(tmp_path: Path, maps: dict[str, Image], listed: str) -> None:
    (tmp_path / "out").mkdir()
    (tmp_path / "escape.png").write_bytes(b"mine")
    (tmp_path / "out" / "manifest.json").write_text(listed)
    (tmp_path / "out" / "deck_height.png").write_bytes(b"mine")
    with pytest.raises(LoomError):
        deliver(tmp_path / "out", "deck", maps, profile("plain"), depth_mm=3, force=True)
    assert (tmp_path / "out" / "deck_height.png").read_bytes() == b"mine"


@given(st.text(max_size=80))
def test_any_title_is_a_safe_file_name(title: str) -> None:
    name = file_name(title)
    assert name
    assert len(name) <= 61
    assert set(name) <= set("abcdefghijklmnopqrstuvwxyz0123456789_-")
    assert file_name(name) == name


def test_known_names() -> None:
    assert file_name("Keeper's roof slate") == "keepers_roof_slate"
    assert file_name("Hüllenplatte № 3") == "hullenplatte_no_3"
    assert file_name("CON") == "con_"


def test_profiles_are_data_and_checked() -> None:
    assert list(profiles()) == [
        "plain",
        "cutout",
        "film",
        "gltf",
        "green-down",
        "master",
        "mro",
        "palette",
        "smoothness",
        "two-sided",
    ]
    assert profile("green-down").green == "down"
    with pytest.raises(LoomError, match="There are plain, cutout, film"):
        profile("nobody")
    with pytest.raises(ValueError):
        FileSpec(suffix="x", channels=("base.q",))
    assert parse_channel("1-roughness").invert
    assert parse_channel("0.5").constant == 0.5
    odd = Profile(
        name="o",
        title="O",
        files=(
            FileSpec(suffix="m", channels=("metallic", "0.25", "occlusion", "1-roughness")),
            FileSpec(suffix="o", channels=("opacity",), optional=True),
        ),
    )
    assert needed(odd, ["base", "roughness", "metallic"]) == ["roughness", "metallic"]
    assert list(file_names(odd, "d", ["roughness"])) == ["d_m.png"]


def test_packing_takes_constants_inversions_and_stand_ins(tmp_path: Path, maps: dict[str, Image]) -> None:
    odd = Profile(
        name="o", title="O", files=(FileSpec(suffix="m", channels=("opacity", "0.25", "normal.z", "1-roughness"), depth="16"),)
    )
    deliver(tmp_path / "s", "d", {"roughness": maps["roughness"]}, odd, depth_mm=1)
    picture = read(tmp_path / "s" / "d_m.png")
    rgb, a = picture.data(), picture.alpha_plane()
    assert (rgb[..., 0] == 1).all()
    assert np.allclose(rgb[..., 1], 0.25, atol=1e-4)
    assert (rgb[..., 2] == 1).all()
    assert np.allclose(a, 1 - maps["roughness"].plane(), atol=1e-4)
