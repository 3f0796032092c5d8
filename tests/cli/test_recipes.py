"""Recipes, words, batches and flattening from the command line."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
from PIL import Image as Pillow

from silent_loom.core.files import read
from silent_loom.core.weave.rows.saved import shipped
from silent_loom.store.recipes import Recipes
from silent_loom.store.store import Store
from tests.support.commands import loom as run
from tests.work.test_many import photo


def base(folder: Path) -> np.ndarray:
    return read(next(folder.glob("*basecolor.png"))).samples


def test_recipes_are_listed_the_artist_s_own_first(tmp_path: Path) -> None:
    told = json.loads(run("recipes", "--json", "--data", _library(tmp_path)).stdout)
    assert [r["name"] for r in told] == ["our_roof", *shipped()]
    plain = run("recipes", "--data", _library(tmp_path)).stdout
    assert "Your own:" in plain
    assert "yellowing=0.6" in plain


def _library(folder: Path) -> Path:
    data = folder / "data"
    if not data.exists():
        store = Store(data)
        Recipes(store).save(shipped()["slate-roof"].weave, "Our roof")
        store.close()
    return data


def test_a_recipe_is_baked_with_dials_seed_and_photo(tmp_path: Path) -> None:
    def bake(out: str, *what: object) -> Path:
        done = run("bake", *what, "--size", 64, "--data", _library(tmp_path), "--out", tmp_path / out)
        assert done.returncode == 0, done.stderr
        return tmp_path / out

    usual = bake("a", "carpet")
    assert not np.array_equal(base(usual), base(bake("b", "carpet", "--set", "figure=0")))
    assert not np.array_equal(base(usual), base(bake("c", "carpet", "--seed", 4)))
    assert np.array_equal(base(usual), base(bake("d", "recipe:carpet")))
    bake("e", "our_roof", "--set", "moss=1")
    shot = photo(tmp_path / "wall.png", 3)
    made = bake("f", "photo-plaster", "--photo", shot, "--set", "relief=1", "--set", "seamless.method=fade")
    manifest = json.loads((made / "manifest.json").read_text())
    rows = json.dumps(manifest["weave"])
    assert '"method": "fade"' in rows
    assert "wall_plaster_and_render" in next(p.name for p in made.glob("*basecolor.png"))


def test_what_cannot_be_made_is_told_in_a_line(tmp_path: Path) -> None:
    shot = photo(tmp_path / "wall.png", 3)
    for arguments, words in (
        (("bake", "photo-plaster"), "wants a photo"),
        (("bake", "carpet", "--photo", shot), "takes no photo"),
        (("bake", "bricks", "--photo", shot), "takes no photo"),
        (("bake", "carpet", "--set", "wings=1"), "no such dial"),
        (("bake", "carpet", "--set", "figure=9"), "from 0 to 1"),
        (("bake", "recipe:nope"), "no recipe called"),
        (("batch", shot, "--recipe", "nope"), "no recipe called"),
        (("batch", shot, "--recipe", "carpet"), "takes no photo"),
        (("batch", tmp_path / "gone", "--recipe", "photo-stone"), "no such file"),
        (("describe", "zorbly quux"), "no surface is named"),
        (("flatten", shot), "no glTF"),
        (("flatten", tmp_path / "gone.gltf"), "no such file"),
    ):
        done = run(*arguments, "--out", tmp_path / "x", *(() if arguments[0] == "flatten" else ("--data", tmp_path / "none")))
        assert done.returncode != 0, arguments
        assert words in done.stderr, (arguments, done.stderr)
        assert len(done.stderr.strip().splitlines()) == 1
        assert not (tmp_path / "x").exists()


def test_words_are_told_and_made(tmp_path: Path) -> None:
    told = json.loads(run("describe", "wet zorbly slate", "--json", "--data", tmp_path / "none").stdout)
    assert told["not_understood"] == ["zorbly"]
    assert len(told["results"]) == 4
    done = run(
        "describe", "glossy blue tiles", "--which", 2, "--size", 64, "--out", tmp_path / "out", "--data", tmp_path / "none"
    )
    assert done.returncode == 0, done.stderr
    assert "results: 1. recipe:galley-tiles, 2. pattern:square-tiles" in done.stdout
    assert len(list((tmp_path / "out").glob("*.png"))) >= 6


def test_a_folder_goes_through_a_recipe(tmp_path: Path) -> None:
    place = tmp_path / "photos"
    place.mkdir()
    photo(place / "a.png", 1)
    (place / "b.png").write_bytes(b"broken")
    wanted = ["--recipe", "photo-concrete", "--profile", "plain", "--profile", "master", "--size", 64]
    done = run(
        "batch", place, *wanted, "--set", "seamless.method=cut", "--out", tmp_path / "out", "--json", "--data", tmp_path / "n"
    )
    assert done.returncode == 1  # one failed, and says so
    told = json.loads(done.stdout)["results"]
    assert [r["photo"] for r in told] == ["b.png", "a.png"]
    assert told[1]["out"] == ["a/plain", "a/master"]
    assert (tmp_path / "out" / "a" / "master" / "manifest.json").is_file()
    assert "1 of 2 failed" in done.stderr


def test_a_document_is_flattened(tmp_path: Path) -> None:
    codes = np.full((8, 8, 3), 128, np.uint8)
    Pillow.fromarray(codes).save(tmp_path / "p.png")
    told = {
        "asset": {"version": "2.0"},
        "materials": [
            {"name": "One", "pbrMetallicRoughness": {"baseColorTexture": {"index": 0}}},
            {"name": "Two", "extensions": {"KHR_materials_sheen": {}}},
        ],
        "textures": [{"source": 0}],
        "images": [{"uri": "p.png"}],
    }
    (tmp_path / "m.gltf").write_text(json.dumps(told))
    done = run("flatten", tmp_path / "m.gltf", "--out", tmp_path / "out", "--size", 32, "--json")
    assert done.returncode == 0, done.stderr
    found = json.loads(done.stdout)["materials"]
    assert [m["material"] for m in found] == ["One", "Two"]
    assert found[1]["left_out"] == ["sheen"]
    assert (base(tmp_path / "out" / "one") == 128).all()
    single = run("flatten", tmp_path / "m.gltf", "--out", tmp_path / "one", "--material", "Two", "--size", 32)
    assert "left out: sheen" in single.stdout
