"""What a proof names: sets that prove themselves by their manifest alone, and files that somebody saved again in another way."""

from __future__ import annotations

import json
import shutil
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image as Pillow

from silent_loom.core.files import read, write
from silent_loom.core.files.png import chunk
from tests.support.commands import loom as run


@pytest.fixture(scope="module")
def baked(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("proof") / "gravel"
    done = run("bake", "gravel", "--profile", "plain", "--size", 128, "--out", folder)
    assert done.returncode == 0, done.stderr
    return folder


@pytest.fixture
def copy(baked: Path, tmp_path: Path) -> Path:
    return Path(shutil.copytree(baked, tmp_path / "gravel"))


def proof(folder: Path, *words: object) -> tuple[int, dict[str, Any], dict[str, dict[str, Any]]]:
    done = run("proof", folder, *words, "--json")
    told = json.loads(done.stdout) if done.stdout else {"error": done.stderr}
    return done.returncode, told, {m["map"]: m for m in told.get("maps", [])}


def test_a_pattern_a_recipe_and_a_photo_prove_themselves(baked: Path, tmp_path: Path) -> None:
    code, told, maps = proof(baked)
    assert (code, told["same"]) == (0, True), told
    assert {"base", "normal", "height"} <= set(maps)
    assert run("bake", "lime-plaster", "--size", 64, "--out", tmp_path / "plaster").returncode == 0
    assert proof(tmp_path / "plaster")[0] == 0
    rng = np.random.default_rng(4)
    (tmp_path / "in").mkdir()
    photo = tmp_path / "in" / "quay.png"
    write(photo, rng.random((48, 64, 3)).astype(np.float32), colour=True)
    assert run("derive", photo, "--size", 64, "--out", tmp_path / "set").returncode == 0
    code, told, _ = proof(tmp_path / "set")
    assert (code, "quay.png" in told["error"], "--photo" in told["error"]) == (1, True, True)
    assert proof(tmp_path / "set", "--photo", photo)[0] == 0
    shutil.copy(photo, tmp_path / "set" / "quay.png")
    assert proof(tmp_path / "set")[0] == 0
    recipe = run("bake", "photo-concrete", "--photo", photo, "--size", 64, "--out", tmp_path / "concrete")
    assert recipe.returncode == 0, recipe.stderr
    assert proof(tmp_path / "concrete", "--photo", photo)[0] == 0


def test_a_delivery_by_a_profile_of_ones_own_holds_the_profile(tmp_path: Path) -> None:
    mine = tmp_path / "mine.json"
    mine.write_text(
        json.dumps({"name": "mine", "title": "Mine", "files": [{"suffix": "m", "channels": ["cavity", "roughness"]}]})
    )
    assert run("bake", "gravel", "--profile", mine, "--size", 64, "--out", tmp_path / "set").returncode == 0
    mine.unlink()
    code, told, maps = proof(tmp_path / "set")
    assert (code, set(maps)) == (0, {"cavity", "roughness"}), told


def test_a_wrong_colour_tag_is_named_though_every_sample_is_right(copy: Path) -> None:
    path = copy / "gravel_normal.png"
    body = path.read_bytes()
    at = body.index(b"IDAT") - 4
    path.write_bytes(body[:at] + chunk(b"sRGB", b"\0") + body[at:])
    code, told, maps = proof(copy)
    assert (code, told["same"]) == (1, False)
    assert "tagged as colour" in maps["normal"]["mistake"]
    assert maps["normal"]["difference"]["max_code"] < 1
    assert maps["height"]["mistake"] == ""


@pytest.mark.parametrize("renamed", [False, True])
def test_a_picture_saved_again_as_jpeg_is_named(copy: Path, renamed: bool) -> None:
    path = copy / "gravel_roughness.png"
    picture = Pillow.fromarray(read(path).samples[..., 0])
    path.unlink()
    picture.save(path.with_suffix(".jpg"), quality=40)
    if renamed:
        path.with_suffix(".jpg").rename(path)
    code, _, maps = proof(copy)
    assert code == 1
    assert "saved again as JPEG" in maps["roughness"]["mistake"]


def test_a_png_that_went_through_jpeg_is_told_by_its_blocks(copy: Path, tmp_path: Path) -> None:
    path = copy / "gravel_basecolor.png"
    picture = Pillow.fromarray(read(path).samples)
    picture.save(tmp_path / "between.jpg", quality=40)
    Pillow.open(tmp_path / "between.jpg").save(path)
    code, _, maps = proof(copy)
    assert (code, "blocks of 8" in maps["base"]["mistake"]) == (1, True), maps["base"]


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda h: h[::-1], "upside down"),
        (lambda h: h[:, ::-1], "mirrored"),
        (lambda h: 1 - h, "inverted"),
        (lambda h: (h.max() - h) / (h.max() - h.min()), "inverted"),
        (lambda h: (h - h.min()) / (h.max() - h.min()), "its range is another one"),
        (lambda h: np.rot90(h), "turned by"),
    ],
)
def test_heights_that_were_turned_over_or_stretched_are_named(copy: Path, change: Any, words: str) -> None:
    path = copy / "gravel_height.png"
    h = read(path).data()
    path.unlink()
    write(path, np.ascontiguousarray(change(h), np.float32), depth="16", colour=False)
    code, _, maps = proof(copy)
    assert (code, words in maps["height"]["mistake"]) == (1, True), maps["height"]


def test_half_the_size_and_half_the_bits_are_named(copy: Path) -> None:
    path = copy / "gravel_occlusion.png"
    small = read(path).data()[::2, ::2]
    path.unlink()
    write(path, np.ascontiguousarray(small), colour=False)
    deep = copy / "gravel_height.png"
    h = read(deep).data()
    deep.unlink()
    write(deep, h, depth="8", colour=False)
    code, _, maps = proof(copy)
    assert code == 1
    assert "scaled from 128 × 128 to 64 × 64" in maps["occlusion"]["mistake"]


def test_without_a_manifest_the_depth_is_that_of_what_was_meant(baked: Path, copy: Path) -> None:
    (copy / "manifest.json").unlink()
    code, told, maps = proof(copy, "--profile", "plain", "--against", baked)
    assert (code, maps["height"]["same"]) == (0, True), told
    code, _, maps = proof(copy, "--profile", "plain", "--against", "pattern:gravel")
    assert (code, maps["height"]["same"]) == (0, True)
    code, _, maps = proof(copy, "--profile", "plain", "--against", baked, "--depth-mm", 1000)
    assert (code, maps["height"]["same"]) == (1, False)


def test_a_palette_costs_what_was_noted_when_it_was_written_and_no_more(tmp_path: Path) -> None:
    assert run("bake", "gravel", "--profile", "palette", "--size", 128, "--out", tmp_path / "set").returncode == 0
    code, told, maps = proof(tmp_path / "set")
    assert code == 0, told
    assert maps["base"]["explained"].startswith("a palette of")
    manifest = json.loads((tmp_path / "set" / "manifest.json").read_text())
    entry = next(f for f in manifest["files"] if f.get("palette"))
    assert entry["loss_codes"] > 0
    path = tmp_path / "set" / entry["file"]
    worse = np.clip(read(path).samples.astype(np.int32) + 12, 0, 255).astype(np.uint8)
    path.unlink()
    Pillow.fromarray(worse.squeeze()).save(path)
    assert proof(tmp_path / "set")[0] == 1
