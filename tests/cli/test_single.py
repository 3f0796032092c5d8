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
from silent_loom.core.weave import registry
from tests.conftest import spectrum
from tests.support.commands import loom as run

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


def test_every_kind_is_made_by_its_plainest_call(known: Path, tmp_path: Path) -> None:
    """Out of the map that it is usually made of; whatever the registry says can be made."""
    write(tmp_path / "deck_base.png", np.random.default_rng(1).random((N, N, 3)).astype(np.float32), colour=True)
    sources = (tmp_path / "deck_base.png", known / "deck_height.png", known / "deck_normal.png")
    fresh = [s for s in registry.steps().values() if registry.maker(s.name) == s.name]
    kinds = {t for s in fresh for t in s.writes(s.Settings())} | {t for s in registry.steps().values() for t in s.asked}
    assert kinds >= {"metallic", "specular", "normal", "cavity", "slope", "emission", "wear"}
    for kind in sorted(kinds - {"base"}):
        made, errors = 0, []
        for source in sources:
            try:
                told = one_map(kind, source, tmp_path / f"{kind}.png", extent_mm=MM, depth_mm=DEPTH, force=True)
                made += 1
                assert told["size"] == [N, N]
            except LoomError as error:
                errors.append(str(error))
        assert made, f"{kind}: {errors}"


def test_a_detail_normal_is_laid_on_whole(known: Path, tmp_path: Path) -> None:
    flat = np.zeros((N, N, 3), np.float32)
    flat[:] = (0.5, 0.5, 1)
    write(tmp_path / "flat_normal.png", flat, depth="16", colour=False)
    one_map("combined", tmp_path / "flat_normal.png", tmp_path / "c.png", other=known / "deck_normal.png")
    assert np.abs(samples(tmp_path / "c.png") - samples(known / "deck_normal.png")).max() < 1e-3


def test_what_cannot_be_made_is_said(known: Path, tmp_path: Path) -> None:
    height, normal = known / "deck_height.png", known / "deck_normal.png"
    for kind, source, more, words in (
        ("gilding", height, {}, "no step makes 'gilding'"),
        ("normal", normal, {}, "looks like a normal map, and height is wanted"),
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


@pytest.mark.parametrize("kind", ["occlusion", "curvature", "cavity", "thickness", "bent_normal"])
def test_every_map_of_a_height_is_made_from_it_alone(known: Path, tmp_path: Path, kind: str) -> None:
    out = tmp_path / f"deck_{kind}.png"
    made = one_map(kind, known / "deck_height.png", out, extent_mm=MM, depth_mm=DEPTH)
    assert made["size"] == [N, N]
    assert samples(out).std() > 0.002


def test_elements_take_a_picture_as_well_and_pictures_give_heights_and_cut_outs(known: Path, tmp_path: Path) -> None:
    picture = tmp_path / "deck_basecolor.png"
    codes = np.repeat(np.clip(0.5 + 0.15 * spectrum(N, 1.4, 8), 0, 1)[..., None], 3, 2).astype(np.float32)
    codes[:, : N // 4] = 1
    write(picture, codes * np.float32([1, 0.9, 0.8]), colour=True)
    one_map("id", known / "deck_height.png", tmp_path / "id.png", other=picture, extent_mm=MM, depth_mm=DEPTH)
    tiles = tmp_path / "tiles_height.png"
    x = np.mgrid[0:N, 0:N][1]
    write(tiles, np.where((x % 32 < 3) | (x.T % 32 < 3), 0.2, 0.7).astype(np.float32)[..., None], colour=False)
    one_map("id", tiles, tmp_path / "tiles_id.png", extent_mm=MM, settings={"size_mm": 25})
    colours = np.unique(samples(tmp_path / "tiles_id.png").reshape(-1, 3), axis=0)
    assert 14 <= len(colours) <= 20, "sixteen tiles, a colour each"
    one_map("height", picture, tmp_path / "h.png", extent_mm=MM)
    one_map("opacity", picture, tmp_path / "o.png", extent_mm=MM, settings={"key": [1.0, 0.95, 0.9], "tolerance": 6.0})
    cut = samples(tmp_path / "o.png")[..., 0]
    assert cut[:, : N // 4 - 2].max() < 0.1
    assert cut[:, N // 2 :].mean() > 0.9


def test_the_light_and_every_map_on_the_command_line(tmp_path: Path) -> None:
    from silent_loom.demo.seed import PICTURES

    photo, maps = (
        PICTURES / "galley_tiles.jpg",
        "base,height,normal,roughness,metallic,occlusion,specular,opacity,emission,curvature,thickness,id",
    )
    done = run("derive", photo, "--out", tmp_path / "lit", "--size", 96, "--maps", maps, "--light-from", 120, "--depth-mm", 4)
    assert done.returncode == 0, done.stderr
    assert len(list((tmp_path / "lit").iterdir())) == len(maps.split(",")) + 1
    run("derive", photo, "--out", tmp_path / "plain", "--size", 96, "--maps", "height", "--depth-mm", 4)
    lit, plain = (samples(tmp_path / k / "galley_tiles_height.png") for k in ("lit", "plain"))
    assert np.abs(lit - plain).max() > 0.02, "shading was read, too"
    wrong = run("derive", photo, "--out", tmp_path / "x", "--light-from", 4000)
    assert wrong.returncode != 0
    assert "0 from the right" in wrong.stderr


def test_files_that_say_the_wrong_thing_are_found_out(tmp_path: Path) -> None:
    short = np.full((64, 64, 3), 0.5, np.float32)
    short[..., 2] = 0.7
    write(tmp_path / "deck_normal.png", short + 0.02 * spectrum(64, 1.2, 1)[..., None], colour=False)
    steps = np.rint((0.5 + 0.1 * spectrum(64, 1.5, 2)) * 12)[..., None] / 12
    write(tmp_path / "deck_height.png", steps.astype(np.float32), colour=False)
    write(tmp_path / "deck_roughness.png", 0.5 + 0.1 * spectrum(64, 1.2, 3)[..., None], colour=True)
    told = {f["map"]: " ".join(f["odd"]) for f in check_files(sorted(tmp_path.iterdir()))}
    assert "unit length" in told["normal"]
    assert "terraced" in told["height"]
    assert "sRGB" in told["roughness"]
