"""`seamless` and `break-up` on finished maps, and what `inspect` says of them."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.files import read, write
from silent_loom.core.steps.maps.normal import from_height
from silent_loom.core.ways.sets import seamless_files
from tests.conftest import spectrum
from tests.support import varied
from tests.support.commands import loom as run
from tests.support.plates import plates
from tests.support.walls import courses, sheet


@pytest.fixture(scope="module")
def maps(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    """A set that does not repeat: colour with opacity, 16-bit height, normal with green down, and a mask."""
    folder = tmp_path_factory.mktemp("maps")
    light = varied.cobbles(np.random.default_rng(3))[:384, :512]
    plane = np.ascontiguousarray(light.mean(2))
    height = Image(plane[..., None] * 30, Kind.DATA, (512.0, 384.0), False)
    normal = from_height(height).pixels * np.array([1, -1, 1], np.float32)
    alpha = (plane > 0.2).astype(np.float32)[..., None]
    out = {n: folder / f"quay_{n}.png" for n in ("basecolor", "height", "normal", "roughness")}
    write(out["basecolor"], np.concatenate([light, alpha], 2).astype(np.float32), colour=True)
    write(out["height"], plane[..., None], depth="16", colour=False)
    write(out["normal"], normal * 0.5 + 0.5, colour=False)
    write(out["roughness"], np.clip(1 - plane[..., None], 0, 1), colour=False)
    return out


def angle_of(a: Floats, b: Floats) -> Floats:
    return np.degrees(np.arccos(np.clip((a * b).sum(2) / np.linalg.norm(a, axis=2) / np.linalg.norm(b, axis=2), -1, 1)))


@pytest.mark.parametrize("method", ["cut", "fade", "gradient", "mirror"])
def test_several_maps_are_moved_alike(maps: dict[str, Path], tmp_path: Path, method: str) -> None:
    report = tmp_path / "r.json"
    done = run("seamless", *maps.values(), "--out", tmp_path / "o", "--method", method, "--overlap", 0.25, "--report", report)
    assert done.returncode == 0, done.stderr
    made = json.loads(report.read_text())
    assert made["method"] == method
    assert {p.name for p in (tmp_path / "o").iterdir()} == {p.name for p in maps.values()} | {"manifest.json"}
    pictures = {n: read(tmp_path / "o" / p.name) for n, p in maps.items()}
    size = (1024, 768) if method == "mirror" else (384, 288)
    assert all(abs(p.width - size[0]) <= 1 and abs(p.height - size[1]) <= 1 for p in pictures.values())
    assert pictures["height"].bits == 16
    assert pictures["basecolor"].alpha is not None
    colour = pictures["basecolor"].colour().mean(2)
    height = pictures["height"].data()[..., 0]
    inner = np.s_[90:200, 120:260] if method != "mirror" else np.s_[40:340, 40:480]
    assert np.abs(colour - height)[inner].mean() < 0.02, "height lies where the colour lies"
    n = pictures["normal"].data() * 2 - 1
    assert np.abs(np.linalg.norm(n, axis=2) - 1).mean() < 0.02, "normals have unit length"
    if method != "mirror":
        assert max(made["seam_x_after"], made["seam_y_after"]) <= 1.1
        want = from_height(Image(np.ascontiguousarray(height[..., None]) * 30, Kind.DATA, (float(size[0]), float(size[1])), True))
        down = n * np.array([1, -1, 1], np.float32)
        # A gradient takes broad slopes out of heights and of normals each by itself; the others move both alike
        likeness = [float(np.median(angle_of(side, want.pixels))) for side in (down, n)]
        assert likeness[0] < (0.4 * likeness[1] if method == "gradient" else 1), "and green points down as it did"


def test_suggested_says_why(maps: dict[str, Path], tmp_path: Path) -> None:
    report = tmp_path / "r.json"
    done = run("seamless", maps["basecolor"], "--out", tmp_path / "o", "--report", report)
    assert done.returncode == 0, done.stderr
    made = json.loads(report.read_text())
    assert made["method"] in ("cut", "fade", "gradient", "motif")
    assert made["why"]
    assert "\n1 file of " in done.stdout
    assert max(made["seam_x_after"], made["seam_y_after"]) <= 1.0
    manifest = json.loads((tmp_path / "o" / "manifest.json").read_text())
    assert manifest["files"][0]["file"] == "quay_basecolor.png"


def test_the_overlap_is_fitted_when_asked(tmp_path: Path) -> None:
    photo = tmp_path / "wall.png"
    write(photo, sheet(courses(700, 600, 566.0, 4)).pixels, colour=True)
    reports = {}
    for name, more in (("asked", []), ("fitted", ["--fit-overlap"])):
        report = tmp_path / f"{name}.json"
        done = run("seamless", photo, "--out", tmp_path / name, "--method", "cut", "--report", report, *more)
        assert done.returncode == 0, done.stderr
        reports[name] = json.loads(report.read_text())
    assert reports["asked"]["overlap"] == [0.2, 0.2]
    assert reports["fitted"]["overlap"][1] != 0.2
    assert max(reports["fitted"]["seam_x_after"], reports["fitted"]["seam_y_after"]) <= 1.0


def test_ends_are_bent_unless_told_otherwise(tmp_path: Path) -> None:
    tone, _ = plates(480, 640, 100, 1)
    photo = tmp_path / "plates.png"
    write(photo, np.repeat(tone[..., None], 3, 2), colour=True)
    bent = {}
    for name, more in (("bent", []), ("straight", ["--no-bend"])):
        report = tmp_path / f"{name}.json"
        done = run("seamless", photo, "--out", tmp_path / name, "--method", "cut", "--overlap", 0.25, "--report", report, *more)
        assert done.returncode == 0, done.stderr
        bent[name] = json.loads(report.read_text())["bent"]
    assert bent["bent"]
    assert bent["straight"] == []


def test_motif_keeps_whole_repeats(tmp_path: Path) -> None:
    photo = tmp_path / "tiles.png"
    write(photo, varied.tiles(np.random.default_rng(3), 97.3, 81.2).astype(np.float32), colour=True)
    report = tmp_path / "r.json"
    assert run("seamless", photo, "--out", tmp_path / "o", "--method", "motif", "--report", report).returncode == 0
    made = json.loads(report.read_text())
    w, h = made["size"]
    assert w / made["repeats"][0] == pytest.approx(97.3, rel=0.01)
    assert h / made["repeats"][1] == pytest.approx(81.2, rel=0.01)
    gravel = tmp_path / "gravel.png"
    write(gravel, varied.gravel(np.random.default_rng(3)).astype(np.float32), colour=True)
    done = run("seamless", gravel, "--out", tmp_path / "g", "--method", "motif")
    assert done.returncode == 1
    assert "no regular motif" in done.stderr
    assert not (tmp_path / "g").exists()


@pytest.fixture(scope="module")
def tile(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    """Two maps that repeat already."""
    folder = tmp_path_factory.mktemp("tile")
    plane = spectrum(128, 1.8, 5, keep=0.15)
    height = Image(plane[..., None] * 3, Kind.DATA, (1000.0, 1000.0), True)
    out = {"height": folder / "moss_height.png", "odd": folder / "moss_slopes.png"}
    write(out["height"], plane[..., None] * 0.12 + 0.5, depth="16", colour=False)
    write(out["odd"], from_height(height).pixels * 0.5 + 0.5, depth="16", colour=False)
    return out


def test_break_up_makes_a_larger_sheet_the_same_every_time(tile: dict[str, Path], tmp_path: Path) -> None:
    args = ("--repeat", "3x2", "--seed", 5, "--turn-deg", 180, "--normal", tile["odd"])
    assert run("break-up", tile["height"], "--out", tmp_path / "a", *args).returncode == 0
    assert run("break-up", tile["height"], "--out", tmp_path / "b", *args).returncode == 0
    a, b = (read(tmp_path / d / "moss_height.png") for d in "ab")
    assert (a.width, a.height) == (384, 256)
    assert np.array_equal(a.samples, b.samples)
    was = read(tile["height"]).data()
    assert a.data().std() == pytest.approx(float(was.std()), rel=0.1)
    assert not np.array_equal(a.samples[:128, :128], a.samples[:128, 128:256]), "the tiles differ"
    n = read(tmp_path / "a" / "moss_slopes.png").data() * 2 - 1
    height = Image((np.ascontiguousarray(a.data()) - 0.5) / 0.12 * 3, Kind.DATA, (3000.0, 2000.0), True)
    assert np.median(angle_of(n, from_height(height).pixels)) < 2
    assert run("break-up", tile["height"], "--out", tmp_path / "c", "--repeat", "3x2", "--seed", 6).returncode == 0
    assert not np.array_equal(read(tmp_path / "c" / "moss_height.png").samples, a.samples)


@pytest.mark.parametrize(
    ("args", "words"),
    [
        (["seamless", "nowhere.png", "--out", "{out}"], "no such file"),
        (["seamless", "{height}", "--out", "{out}", "--overlap", "0.9"], "--overlap"),
        (["seamless", "{height}", "--out", "{out}", "--method", "sew"], "--method"),
        (["seamless", "{height}", "{height}", "--out", "{out}"], "same name"),
        (["seamless", "{height}", "{wide}", "--out", "{out}"], "proportions"),
        (["seamless", "{height}", "--out", "{full}"], "not empty"),
        (["seamless", "{height}", "--normal", "{height}", "--out", "{out}"], "three channels"),
        (["seamless", "{text}", "--out", "{out}"], "not a PNG"),
        (["seamless", "--out", "{out}"], "files"),
        (["break-up", "{height}", "--out", "{out}", "--repeat", "many"], "--repeat"),
        (["break-up", "{height}", "--out", "{out}", "--repeat", "0x4"], "--repeat"),
        (["break-up", "{big}", "--out", "{out}", "--repeat", "64x64"], "larger sheet"),
        (["break-up", "{height}", "--out", "{out}", "--cells", "stars"], "cells"),
        (["break-up", "{height}", "--out", "{full}"], "not empty"),
    ],
)
def test_errors_are_one_line_and_write_nothing(tile: dict[str, Path], tmp_path: Path, args: list[str], words: str) -> None:
    full, text, wide = tmp_path / "full", tmp_path / "text.png", tmp_path / "wide.png"
    full.mkdir()
    (full / "mine.txt").write_text("mine")
    text.write_text("words")
    write(wide, np.full((32, 96, 1), 0.5, np.float32), colour=False)
    big = tmp_path / "big.png"
    if "{big}" in args:
        write(big, np.full((2048, 2048, 1), 0.5, np.float32), colour=False)
    places = {"big": big, "height": tile["height"], "out": tmp_path / "out", "full": full, "text": text, "wide": wide}
    done = run(*[a.format(**places) for a in args])
    assert done.returncode != 0
    assert done.stdout == ""
    lines = done.stderr.strip().splitlines()
    assert len(lines) == 1, done.stderr
    assert lines[0].startswith("error: ")
    assert words in lines[0]
    assert not (tmp_path / "out").exists()
    assert [p.name for p in full.iterdir()] == ["mine.txt"]


@pytest.mark.parametrize("command", ["seamless", "break-up", "grow"])
def test_too_few_pixels_are_refused_in_one_line(tmp_path: Path, command: str) -> None:
    write(tmp_path / "dot.png", np.full((1, 3, 3), 0.5, np.float32), colour=True)
    done = run(command, str(tmp_path / "dot.png"), "--out", str(tmp_path / "o"))
    assert done.returncode == 1
    assert done.stderr.strip().splitlines() == ["error: dot.png: 3 × 1 pixels are too few to be a surface. At least 4 each way."]
    assert not (tmp_path / "o").exists()


def test_force_replaces_its_own_files_alone(tile: dict[str, Path], tmp_path: Path) -> None:
    out = tmp_path / "o"
    assert run("break-up", tile["height"], "--out", out, "--repeat", "2x2").returncode == 0
    (out / "mine.txt").write_text("mine")
    assert run("break-up", tile["height"], "--out", out, "--repeat", "2x2").returncode == 1
    assert run("break-up", tile["height"], "--out", out, "--repeat", "2x3", "--force").returncode == 0
    assert read(out / "moss_height.png").height == 384
    assert (out / "mine.txt").read_text() == "mine"
    (out / "moss_height.png").write_bytes(b"painted over by hand")
    done = run("break-up", tile["height"], "--out", out, "--repeat", "2x2", "--force")
    assert done.returncode == 1
    assert (out / "moss_height.png").read_bytes() == b"painted over by hand"


def test_inspect_tells_green_packing_and_the_photo(maps: dict[str, Path], tmp_path: Path) -> None:
    facts = json.loads(run("inspect", maps["normal"], "--json").stdout)
    assert facts["kind"] == "normal"
    assert facts["green"] == "down"
    assert facts["green_confidence"] > 0.6
    packed = tmp_path / "quay_orm.png"
    planes = [read(maps[n]).data()[..., 0] for n in ("height", "roughness")]
    write(
        packed, np.stack([planes[0], spectrum(512, 1, 3)[:384] * 0.1 + 0.5, planes[1] > 0.6], -1).astype(np.float32), colour=False
    )
    facts = json.loads(run("inspect", packed, "--json").stdout)
    assert facts["packed"] is True
    assert len(facts["looks_like"]) == 3
    facts = json.loads(run("inspect", maps["basecolor"], "--json").stdout)
    assert facts["packed"] is False
    codes = {f["code"] for f in facts["photo_report"]["findings"]}
    assert {"sharpness", "light"} <= codes


def test_derive_takes_other_methods(maps: dict[str, Path], tmp_path: Path) -> None:
    for method in ("gradient", "suggested"):
        report = tmp_path / f"{method}.json"
        done = run(
            "derive", maps["basecolor"], "--out", tmp_path / method, "--size", 256, "--seamless", method, "--report", report
        )
        assert done.returncode == 0, done.stderr
        made = json.loads(report.read_text())
        assert max(made["seam_x_after"], made["seam_y_after"]) <= 1.0
        assert read(tmp_path / method / "quay_basecolor_height.png").width == 256


def test_derive_reads_relief_from_light_where_it_is_asked_to(maps: dict[str, Path], tmp_path: Path) -> None:
    heights = []
    for how in (("brightness",), ("light", "--light-from", 0), ("light", "--light-from", 180)):
        out = tmp_path / f"o{len(heights)}"
        done = run("derive", maps["basecolor"], "--out", out, "--size", 128, "--maps", "height", "--relief", *how)
        assert done.returncode == 0, done.stderr
        heights.append(read(out / "quay_basecolor_height.png").samples.astype(float).ravel())
    assert np.corrcoef(heights[0], heights[1])[0, 1] < 0.95
    assert np.corrcoef(heights[1], heights[2])[0, 1] < 0.5, "light from the other side turns the relief inside out"
    done = run("derive", maps["basecolor"], "--out", tmp_path / "no", "--relief", "moonlight")
    assert done.returncode != 0
    assert "moonlight" in done.stderr


def test_derive_keeps_whole_repeats(maps: dict[str, Path], tmp_path: Path) -> None:
    photo, report = tmp_path / "quay.png", tmp_path / "r.json"
    write(photo, next(p for p in varied.photos() if p.name == "dots").image.pixels, colour=True)
    done = run("derive", photo, "--out", tmp_path / "o", "--size", 256, "--repeats", "--extent-mm", 800, "--report", report)
    assert done.returncode == 0, done.stderr
    assert json.loads(report.read_text())["repeats"][0] >= 3
    refused = run("derive", maps["basecolor"], "--out", tmp_path / "p", "--size", 256, "--repeats")
    assert refused.returncode == 1
    assert "no regular motif" in refused.stderr
    assert not (tmp_path / "p").exists()


def test_grow_makes_a_larger_sheet_of_all_maps(maps: dict[str, Path], tmp_path: Path) -> None:
    report = tmp_path / "r.json"
    done = run("grow", *maps.values(), "--out", tmp_path / "o", "--times", "1.5x2", "--report", report)
    assert done.returncode == 0, done.stderr
    made = json.loads(report.read_text())
    assert made["size"] == [768, 768]
    assert made["pieces"] > 10
    assert max(made["seam_x_after"], made["seam_y_after"]) <= 1.2
    colour = read(tmp_path / "o" / maps["basecolor"].name).colour().mean(2)
    height = read(tmp_path / "o" / maps["height"].name).data()[..., 0]
    assert np.corrcoef(colour.ravel(), height.ravel())[0, 1] > 0.98
    wrong = run("grow", maps["height"], "--out", tmp_path / "w", "--times", "many")
    assert wrong.returncode == 1
    assert "--times many" in wrong.stderr
    assert not (tmp_path / "w").exists()


def test_packed_maps_do_not_tint_each_other_and_labels_stay_themselves(tmp_path: Path) -> None:
    """Blended as one colour, a channel would be pulled by the light of its neighbours; labels would become new ones."""
    n = 96
    rng = np.random.default_rng(4)
    packed = rng.uniform(0.1, 0.9, (n, n, 3)).astype(np.float32)
    packed[..., 2] = 0.0  # a constant channel stays what it is, wherever the others are blended
    write(tmp_path / "deck_basecolor.png", rng.uniform(0.2, 0.6, (n, n, 3)).astype(np.float32), colour=True)
    write(tmp_path / "deck_orm.png", packed, colour=False)
    colours = rng.uniform(0, 1, (7, 3)).astype(np.float32)
    labels = colours[(np.mgrid[0:n, 0:n].sum(0) // 12) % 7]
    write(tmp_path / "deck_id.png", labels, colour=False)
    files = [tmp_path / f"deck_{k}.png" for k in ("basecolor", "orm", "id")]
    made = seamless_files(files, tmp_path / "out", method="fade")
    assert len(made["files"]) == 3
    orm = read(tmp_path / "out" / "deck_orm.png").data()
    assert (orm[..., 2] == 0).all()
    before = {tuple(c) for c in read(files[2]).samples.reshape(-1, 3).tolist()}
    after = {tuple(c) for c in read(tmp_path / "out" / "deck_id.png").samples.reshape(-1, 3).tolist()}
    assert after <= before
