"""One map out of finished ones, and checks of them, from the command line."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.images import Image, Kind
from silent_loom.core.files import read, write
from silent_loom.core.steps.maps.normal import from_height
from silent_loom.core.ways.single import check_files, one_map
from tests.cli.test_cli import run
from tests.conftest import spectrum

N, DEPTH, MM = 128, 8.0, 100.0


@pytest.fixture(scope="module")
def known(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A height of 8 mm over 100 mm and its normals, as files."""
    folder = tmp_path_factory.mktemp("finished")
    plane = spectrum(N, 2.0, 3, keep=0.15)
    plane = (plane - (plane.max() + plane.min()) / 2) * (0.9 * DEPTH / np.ptp(plane))
    height = Image(plane.astype(np.float32)[..., None], Kind.DATA, (MM, MM), True)
    write(folder / "deck_height.png", height.pixels / DEPTH + 0.5, depth="16", colour=False)
    write(folder / "deck_normal.png", from_height(height).pixels * 0.5 + 0.5, depth="16", colour=False)
    return folder


def samples(path: Path) -> np.ndarray:
    return read(path).data()


def test_normals_of_a_height_and_back(known: Path, tmp_path: Path) -> None:
    made = one_map("normal", known / "deck_height.png", tmp_path / "n.png", extent_mm=MM, depth_mm=DEPTH)
    assert made["size"] == [N, N]
    assert np.abs(samples(tmp_path / "n.png") - samples(known / "deck_normal.png")).max() < 2e-3
    settings = {"scale": "true slopes"}
    one_map("height", known / "deck_normal.png", tmp_path / "h.tif", extent_mm=MM, depth_mm=DEPTH, settings=settings)
    back, was = samples(tmp_path / "h.tif")[..., 0], samples(known / "deck_height.png")[..., 0]
    assert np.abs((back - back.mean()) - (was - was.mean())).max() < 0.005


def test_green_down_goes_in_and_out(known: Path, tmp_path: Path) -> None:
    one_map("normal", known / "deck_height.png", tmp_path / "down.png", extent_mm=MM, depth_mm=DEPTH, green_down=True)
    down, up = samples(tmp_path / "down.png"), samples(known / "deck_normal.png")
    assert np.abs(1 - down[..., 1] - up[..., 1]).max() < 2e-3
    settings = {"scale": "true slopes"}
    one_map("height", tmp_path / "down.png", tmp_path / "h.png", extent_mm=MM, depth_mm=DEPTH, green_down=True, settings=settings)
    back, was = samples(tmp_path / "h.png")[..., 0], samples(known / "deck_height.png")[..., 0]
    assert np.corrcoef(back.ravel(), was.ravel())[0, 1] > 0.999


def test_what_cannot_be_made_is_said(known: Path, tmp_path: Path) -> None:
    height, normal = known / "deck_height.png", known / "deck_normal.png"
    for kind, source, more, words in (
        ("gilding", height, {}, "no step makes 'gilding'"),
        ("normal", normal, {}, "looks like a normal map, and height is wanted"),
        ("height", height, {}, "looks like no normal map"),
        ("normal", height, {"other": normal}, "made from one map"),
        ("combined", normal, {}, "made from two maps"),
        ("normal", height, {"settings": {"strong": 1}}, "no such setting"),
    ):
        with pytest.raises(LoomError, match=words):
            one_map(kind, source, tmp_path / "x.png", **more)  # type: ignore[arg-type]
    assert list(tmp_path.iterdir()) == []
    with pytest.raises(LoomError, match="names no format"):
        one_map("normal", height, tmp_path / "x.psb")


def test_from_the_command_line(known: Path, tmp_path: Path) -> None:
    out = tmp_path / "both.png"
    normal = str(known / "deck_normal.png")
    done = run("map", "combined", "--from", normal, "--with", normal, "--set", "share=1", "--out", str(out))
    assert done.returncode == 0, done.stderr
    n = samples(out) * 2 - 1
    assert np.abs(np.linalg.norm(n, axis=2) - 1).max() < 1e-3
    assert run("map", "combined", "--from", normal, "--with", normal, "--out", str(out)).returncode == 1, "it is there already"
    flat = tmp_path / "deck_roughness.png"
    write(flat, np.full((16, 16, 1), 0.5, np.float32), colour=False)
    done = run("check", normal, str(flat), "--json")
    assert done.returncode == 1
    told = json.loads(done.stdout)
    assert [(t["map"], t["odd"]) for t in told] == [("normal", []), ("roughness", ["constant 0.5"])]


def test_maps_are_told_by_name_and_checked(known: Path, tmp_path: Path) -> None:
    write(tmp_path / "deck_metallic.png", 0.5 + 0.05 * spectrum(64, 1.2, 1)[..., None], colour=False)
    found = check_files([known / "deck_height.png", tmp_path / "deck_metallic.png"], DEPTH)
    assert [f["map"] for f in found] == ["height", "metallic"]
    assert found[0]["odd"] == []
    assert "half metal" in found[1]["odd"][0]


def test_maps_that_are_asked_for_by_name_are_delivered(tmp_path: Path) -> None:
    from silent_loom.demo.seed import PICTURES

    photo = PICTURES / "galley_tiles.jpg"
    done = run("derive", str(photo), "--out", str(tmp_path / "set"), "--size", "64", "--maps", "base,ridge,slope")
    assert done.returncode == 0, done.stderr
    names = sorted(p.name for p in (tmp_path / "set").iterdir())
    assert names == ["galley_tiles_basecolor.png", "galley_tiles_ridge.png", "galley_tiles_slope.png", "manifest.json"]
    wrong = run("derive", str(photo), "--out", str(tmp_path / "none"), "--size", "64", "--maps", "base,gilding")
    assert wrong.returncode == 1
    assert "nothing makes 'gilding'" in wrong.stderr
    assert not (tmp_path / "none").exists()
