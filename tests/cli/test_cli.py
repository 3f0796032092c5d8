"""The command line, as its own process."""

from __future__ import annotations

import json
import os
import shlex
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from PIL import Image as Pillow

from silent_loom.core.files import read
from tests.conftest import codes_of
from tests.conftest import spectrum as noise_of
from tests.support.commands import loom as run

KEYS = {
    "seam_x_before", "seam_y_before", "seam_x_after", "seam_y_after", "contrast_x_after", "contrast_y_after", "evenness_before", "evenness_after",
    "depth_mm", "extent_mm", "repeat_mm_x", "repeat_mm_y", "size", "seconds",
}  # fmt: skip


@pytest.fixture(scope="module")
def photo(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("p") / "Deck plank 01.png"
    big = np.repeat(np.repeat(noise_of(128, 1.2, 1), 4, 0), 5, 1)
    Pillow.fromarray(codes_of(big[:400, :600])).save(path)
    return path


def test_derive_writes_the_set_and_the_report(photo: Path, tmp_path: Path) -> None:
    out, report = tmp_path / "out", tmp_path / "r.json"
    done = run("derive", photo, "--out", out, "--size", 256, "--extent-mm", 1200, "--depth-mm", 6, "--report", report)
    assert done.returncode == 0, done.stderr
    made = json.loads(report.read_text())
    assert set(made) >= KEYS
    assert (made["depth_mm"], made["extent_mm"], made["size"]) == (6, 1200, [256, 171])
    assert made["repeat_mm_x"] == pytest.approx(960)
    assert made["repeat_mm_y"] == pytest.approx(640)
    assert max(made["seam_x_after"], made["seam_y_after"]) <= 1
    assert {"straighten", "seamless", "occlusion", "write", "total"} <= set(made["seconds"])
    names = {f"deck_plank_01_{m}.png" for m in ("basecolor", "normal", "height", "roughness", "metallic", "occlusion")}
    assert {p.name for p in out.iterdir()} == names | {"manifest.json"}
    for name in names:
        picture = read(out / name)
        assert (picture.width, picture.height) == (256, 171)
    assert "\n" not in done.stdout.strip()


def test_settings_square_and_none(photo: Path, tmp_path: Path) -> None:
    done = run(
        "derive",
        photo,
        "--out",
        tmp_path / "a",
        "--size",
        128,
        "--square",
        "--seamless",
        "none",
        "--set",
        "metallic.value=1",
        "--set",
        "tone.saturation=-100",
        "--name",
        "Mid Deck",
    )
    assert done.returncode == 0, done.stderr
    base = read(tmp_path / "a" / "mid_deck_basecolor.png")
    assert (base.width, base.height) == (128, 128)
    assert np.ptp(base.samples.astype(int), axis=2).max() <= 1
    assert (read(tmp_path / "a" / "mid_deck_metallic.png").data() == 1).all()
    manifest = json.loads((tmp_path / "a" / "manifest.json").read_text())
    assert manifest["repeat_mm"] == pytest.approx([1000 * 400 / 600] * 2)


def test_corners_are_texel_centres(photo: Path, tmp_path: Path) -> None:
    done = run(
        "derive",
        photo,
        "--out",
        tmp_path / "a",
        "--size",
        128,
        "--seamless",
        "none",
        "--set",
        "light.amount=0",
        "--corners",
        "99.5,49.5,355.5,49.5,355.5,305.5,99.5,305.5",
    )
    assert done.returncode == 0, done.stderr
    got = read(tmp_path / "a" / "deck_plank_01_basecolor.png").colour()
    from silent_loom.core.moving.resample import reduce_area

    want = reduce_area(np.ascontiguousarray(read(photo).colour()[50:306, 100:356]), 128, 128)
    inner = np.s_[2:-2, 2:-2]
    assert np.abs(got - want)[inner].mean() < 0.006


@pytest.mark.parametrize(
    ("args", "words"),
    [
        (["derive", "nowhere.png", "--out", "{out}"], "no such file"),
        (["derive", "{photo}", "--out", "{full}"], "not empty"),
        (["derive", "{photo}", "--out", "{out}", "--corners", "1,2,3"], "eight numbers"),
        (["derive", "{photo}", "--out", "{out}", "--corners", "10,10,200,200,200,10,10,200"], "clockwise"),
        (["derive", "{photo}", "--out", "{out}", "--set", "height.depth_mm=-4"], "height.depth_mm"),
        (["derive", "{photo}", "--out", "{out}", "--set", "hight.depth_mm=4"], "no step called"),
        (["derive", "{photo}", "--out", "{out}", "--set", "nonsense"], "STEP.SETTING=VALUE"),
        (["derive", "{photo}", "--out", "{out}", "--profile", "nobody"], "no profile"),
        (["derive", "{photo}", "--out", "{out}", "--size", "3"], "--size"),
        (["derive", "{photo}", "--out", "{out}", "--extent-mm", "-5"], "width_mm"),
        (["derive", "{photo}"], "--out"),
        (["inspect", "{text}"], "not a PNG"),
        (["serve", "--port", "99999"], "--port"),
    ],
)
def test_errors_are_one_line_on_standard_error(photo: Path, tmp_path: Path, args: list[str], words: str) -> None:
    full = tmp_path / "full"
    full.mkdir()
    (full / "mine.txt").write_text("mine")
    text = tmp_path / "text.png"
    text.write_text("only words, no picture")
    places = {"photo": photo, "out": tmp_path / "out", "full": full, "text": text}
    done = run(*[a.format(**places) for a in args])
    assert done.returncode != 0
    assert done.stdout == ""
    lines = done.stderr.strip().splitlines()
    assert len(lines) == 1, done.stderr
    assert words in lines[0]
    assert lines[0].startswith("error: ")
    assert not (tmp_path / "out").exists()
    assert [p.name for p in full.iterdir()] == ["mine.txt"]


def test_inspect_prints_the_promised_keys(photo: Path) -> None:
    done = run("inspect", photo, "--json")
    assert done.returncode == 0, done.stderr
    facts = json.loads(done.stdout)
    assert {
        "width",
        "height",
        "bits",
        "channels",
        "kind",
        "kind_confidence",
        "evenness",
        "sharpness",
        "seam_x",
        "seam_y",
        "repetition",
    } <= set(facts)
    assert (facts["width"], facts["height"], facts["bits"], facts["channels"], facts["kind"]) == (600, 400, 8, 3, "colour")
    assert facts["seam_x"] > 3
    assert run("inspect", photo).returncode == 0


def test_inspect_tells_kinds_apart(tmp_path: Path) -> None:
    from silent_loom.core.base.images import Image, Kind
    from silent_loom.core.files import write
    from silent_loom.core.opening.inspection import inspect
    from silent_loom.core.steps.maps.normal import from_height

    plane = noise_of(128, 1.4, 3)
    normal = from_height(Image(plane[..., None] * 2, Kind.DATA, (128, 128), True))
    for name, samples, colour, kind in (
        ("n.png", normal.pixels * 0.5 + 0.5, False, "normal"),
        ("h.png", np.clip(plane[..., None] * 0.15 + 0.5, 0, 1), False, "data"),
        ("i.png", (np.random.default_rng(0).random((8, 8, 3)).repeat(16, 0).repeat(16, 1)).astype(np.float32), False, "id"),
    ):
        write(tmp_path / name, samples.astype(np.float32), colour=colour)
        facts = inspect(read(tmp_path / name))
        assert facts["kind"] == kind, name
        assert facts["kind_confidence"] > 0.5
        json.dumps(facts)


def test_force_keeps_what_is_mine(photo: Path, tmp_path: Path) -> None:
    out = tmp_path / "o"
    assert run("derive", photo, "--out", out, "--size", 64).returncode == 0
    (out / "mine.txt").write_text("mine")
    assert run("derive", photo, "--out", out, "--size", 64).returncode == 1
    assert run("derive", photo, "--out", out, "--size", 96, "--force").returncode == 0
    assert read(out / "deck_plank_01_height.png").width == 96
    assert (out / "mine.txt").read_text() == "mine"


@pytest.mark.skipif(not Path("/dev/full").exists(), reason="a device that is always full")
def test_what_cannot_be_written_to_standard_output_is_no_fault_of_ours(photo: Path) -> None:
    command = [sys.executable, "-m", "silent_loom", "inspect", str(photo)]
    for more in ([], ["--json"]):
        with open("/dev/full", "w") as full:
            told = subprocess.run([*command, *more], stdout=full, stderr=subprocess.PIPE, text=True)
        assert told.returncode == 1
        assert told.stderr.startswith("error: standard output cannot be written (No space left")
        assert told.stderr.count("\n") == 1
        read, write = os.pipe()
        os.close(read)  # nobody will ever read
        quiet = subprocess.run([*command, *more], stdout=write, stderr=subprocess.PIPE, text=True)
        os.close(write)
        assert (quiet.returncode, quiet.stderr) == (1, "")
    closed = subprocess.run(f"{shlex.join(command)} >&-", shell=True, stderr=subprocess.PIPE, text=True)
    assert (closed.returncode, closed.stderr) == (0, "")
