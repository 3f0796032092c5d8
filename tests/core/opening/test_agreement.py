"""What the maps of a set say of each other, and sets that were delivered from here."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

from silent_loom.core.base.images import Floats
from silent_loom.core.delivery.shelf import profile, profiles
from silent_loom.core.files import read, write
from silent_loom.core.opening.agreement import doubts
from silent_loom.core.opening.folder import pictures_in
from silent_loom.core.opening.naming import tell
from silent_loom.core.opening.own import of_channels
from silent_loom.core.opening.recognised import find
from silent_loom.core.ways.bake import BakeOrder, bake
from silent_loom.core.ways.single import check_files
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.beginnings import woven_from
from tests.conftest import OnePicture

EVALUATOR = Evaluator(OnePicture(None))  # type: ignore[arg-type]
MAPS = ("normal", "height", "occlusion", "roughness", "metallic")


@pytest.fixture(scope="module", params=["gravel", "ashlar", "bricks"])
def maps(request: pytest.FixtureRequest) -> dict[str, Floats]:
    weave = woven_from(request.param)
    plan = EVALUATOR.plan(weave)
    made = {n: EVALUATOR.ask(weave, n, 128).pixels for n in MAPS if n in plan.threads}
    out = {n: m if n == "normal" else m[..., 0] for n, m in made.items()}
    height = plan.spec("height")
    return {**out, "height": (out["height"] - height.low) / height.depth}


def swapped(maps: dict[str, Floats], a: str, b: str) -> dict[str, Floats]:
    return {**maps, a: maps[b], b: maps[a]}


def test_a_right_set_is_not_doubted(maps: dict[str, Floats]) -> None:
    assert doubts(maps) == []
    assert doubts({n: m for n, m in maps.items() if n != "normal"}) == []


@pytest.mark.parametrize(("a", "b"), [("height", "roughness"), ("occlusion", "roughness"), ("height", "occlusion")])
def test_maps_that_changed_places_are_found(maps: dict[str, Floats], a: str, b: str) -> None:
    found = doubts(swapped(maps, a, b))
    if (a, b) == ("height", "occlusion") and not found:
        pytest.skip("where occlusion follows the height, both ways agree alike")
    assert [(d.maps, d.mend) for d in found] == [((a, b), "swap")]
    assert 0.15 < found[0].sure <= 1


def test_a_height_that_is_turned_over_is_found(maps: dict[str, Floats]) -> None:
    found = doubts({**maps, "height": 1 - maps["height"]})
    assert [(d.maps, d.mend) for d in found] == [(("height",), "invert")]


def files_of(folder: Path, maps: dict[str, Floats]) -> list[Path]:
    for name, m in maps.items():
        plane = m * 0.5 + 0.5 if name == "normal" else m[..., None]
        write(folder / f"deck_{name}.png", np.ascontiguousarray(plane, np.float32), depth="16", colour=False)
    return sorted(folder.glob("deck_*.png"))


def test_opening_and_checking_say_it(maps: dict[str, Floats], tmp_path: Path) -> None:
    (found,) = find(files_of(tmp_path, swapped(maps, "height", "roughness")))
    assert "Height and roughness seem to have changed places" in found.doubts[0].words
    lines = check_files(sorted(tmp_path.glob("*.png")))
    assert any("changed places" in w for line in lines if line["map"] == "as a set" for w in line["odd"])


def test_a_data_map_tagged_as_colour_is_said(tmp_path: Path) -> None:
    write(tmp_path / "deck_roughness.png", np.random.default_rng(0).random((32, 32, 1)).astype(np.float32), colour=True)
    (found,) = find([tmp_path / "deck_roughness.png"])
    assert any("tagged as colour" in n for n in found.files[0].notes)


@pytest.mark.parametrize("name", sorted(profiles()))
@pytest.mark.parametrize("manifest", [True, False])
def test_a_set_that_was_delivered_from_here_comes_back_as_one_material(name: str, manifest: bool, tmp_path: Path) -> None:
    weave = woven_from("gravel")
    bake(EVALUATOR, weave, profile(name), tmp_path / "s", "gravel", BakeOrder(64))
    told = json.loads((tmp_path / "s" / "manifest.json").read_text())
    if not manifest:
        (tmp_path / "s" / "manifest.json").unlink()
    (found,) = find(pictures_in(tmp_path / "s"))
    there = {c.map.replace("smoothness", "roughness") for f in found.files for c in f.channels if c.map}
    assert there >= {"base", "normal", "roughness"}
    assert not [n for f in found.files for n in f.notes if "check the table" in n]
    green = next(f.green for f in found.files if f.green)
    assert green == profile(name).green
    if manifest:
        assert (found.width_mm, found.depth_mm) == (told["repeat_mm"][0], told["depth_mm"])
        rough = next(c for f in found.files for c in f.channels if c.map.replace("smoothness", "roughness") == "roughness")
        assert (rough.map == "smoothness") == (name == "smoothness")


def test_names_that_run_together_are_packed_files() -> None:
    assert tell("deck_occlusionroughnessmetallic.png").channels == ("occlusion", "roughness", "metallic")
    assert tell("deck_MetallicSmoothness.tga").stem == "deck"
    assert tell("deck_metallicsmoothness.png").channels == ("metallic", "smoothness")
    assert tell("normalheight.png").channels == (), "normals are never packed with a word alone"


def test_channels_of_a_manifest() -> None:
    assert of_channels(["normal.x", "normal.y", "normal.z"]) == [("rgb", "normal")]
    assert of_channels(["metallic", "metallic", "metallic", "1-roughness"]) == [("rgb", "metallic"), ("a", "smoothness")]
    assert of_channels(["roughness"]) == [("r", "roughness")]
    assert of_channels([{"thread": "height", "scale": 2.0}, "0.5", "metallic"]) == [("b", "metallic")]
    assert of_channels([]) == []


def test_a_manifest_that_is_none_of_ours_changes_nothing(tmp_path: Path) -> None:
    write(tmp_path / "deck_roughness.png", np.random.default_rng(0).random((32, 32, 1)).astype(np.float32), colour=False)
    for body in ("[]", "{", '{"files": 3}', '{"made_by": "x", "files": [{"file": 1}]}', "[" * 100_000):
        (tmp_path / "manifest.json").write_text(body)
        (found,) = find([tmp_path / "deck_roughness.png"])
        assert found.files[0].by != "manifest", body[:20]
    assert read(tmp_path / "deck_roughness.png").bits == 8
