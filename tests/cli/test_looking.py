"""Differences, values and charts from the command line."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

from silent_loom.core.base.errors import LoomError
from silent_loom.core.files import read, write
from silent_loom.core.ways.looking import compare_files, draw_chart, read_values
from silent_loom.demo.seed import PICTURES
from tests.support.commands import loom as run


@pytest.fixture(scope="module")
def sets(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Path]:
    """Two sets of two maps that differ by a known amount, and a map that only one of them has."""
    folders = [tmp_path_factory.mktemp(n) for n in ("one", "other")]
    rng = np.random.default_rng(1)
    base, rough = rng.integers(40, 200, (32, 48, 3)).astype(np.float32), rng.integers(0, 250, (32, 48, 1)).astype(np.float32)
    for n, folder in enumerate(folders):
        write(folder / f"deck{n}_basecolor.png", base / 255, colour=False)
        write(folder / f"deck{n}_roughness.png", (rough + 3 * n) / 255, colour=False)
    write(folders[1] / "deck1_height.png", rough / 255, colour=False)
    return folders[0], folders[1]


def test_sets_are_paired_by_their_maps(sets: tuple[Path, Path], tmp_path: Path) -> None:
    found = compare_files(*sets, pictures=tmp_path / "seen")
    by_map = {m["map"]: m for m in found["maps"]}
    assert by_map["base"]["max"] == 0
    assert by_map["base"]["psnr"] is None
    assert by_map["roughness"]["max_code"] == pytest.approx(3, abs=1e-4)
    assert by_map["roughness"]["rmse"] == pytest.approx(3 / 255, abs=1e-6)
    assert [Path(p).name for p in found["alone"]] == ["deck1_height.png"]
    assert read(tmp_path / "seen" / "deck0_basecolor_difference.png").samples.max() == 0


def test_what_cannot_be_compared_says_so(sets: tuple[Path, Path], tmp_path: Path) -> None:
    write(tmp_path / "small_roughness.png", np.zeros((4, 4, 1), np.float32), colour=False)
    for one, other in (
        (sets[0], tmp_path / "nowhere"),
        (sets[0], sets[0] / "deck0_roughness.png"),
        (sets[0] / "deck0_roughness.png", tmp_path / "small_roughness.png"),
    ):
        with pytest.raises(LoomError) as told:
            compare_files(one, other)
        assert told.value.todo


def test_the_command_says_what_differs_by_its_exit_code(sets: tuple[Path, Path]) -> None:
    same = run("compare", str(sets[0]), str(sets[0]))
    assert same.returncode == 0
    assert "equal" in same.stdout
    apart = run("compare", str(sets[0] / "deck0_roughness.png"), str(sets[1] / "deck1_roughness.png"), "--json")
    assert apart.returncode == 1
    assert json.loads(apart.stdout)["maps"][0]["max_code"] == pytest.approx(3, abs=1e-4)


def test_values_of_a_map(sets: tuple[Path, Path]) -> None:
    found = read_values(sets[0] / "deck0_basecolor.png")
    codes = read(sets[0] / "deck0_basecolor.png").samples
    assert [c["high"] for c in found["channels"]] == codes.max((0, 1)).tolist()
    assert found["channels"][0]["mean"] == pytest.approx(codes[..., 0].mean(), abs=0.01)
    height = read_values(sets[1] / "deck1_height.png", depth_mm=4.0)
    assert -2 <= height["channels"][0]["low"] < height["channels"][0]["high"] <= 2
    said = run("values", str(sets[0] / "deck0_roughness.png"))
    assert said.returncode == 0
    assert "roughness" in said.stdout
    assert "different values" in said.stdout


def test_a_chart_is_drawn_and_put_through_a_weave(tmp_path: Path) -> None:
    assert draw_chart("gradient", tmp_path / "ramp.png", 256) == (256, 256)
    assert read(tmp_path / "ramp.png").bits == 16
    with pytest.raises(LoomError, match="a file of this name"):
        draw_chart("gradient", tmp_path / "ramp.png", 256)
    from silent_loom.core.weave.rows.model import SourceRef
    from silent_loom.core.weave.rows.recipes import starting_weave

    weave = starting_weave("a" * 64, SourceRef(name="photo.jpg", format="jpeg", width=8, height=8, bytes=1))
    path = tmp_path / "weave.json"
    path.write_text(weave.model_dump_json())
    photo = PICTURES / "sailcloth.jpg"
    size = draw_chart("checker", tmp_path / "through.png", 256, through=path, photo=photo)
    made = read(tmp_path / "through.png")
    assert (made.width, made.height) == size
    assert made.samples.std() > 40
    with pytest.raises(LoomError, match="photo"):
        draw_chart("checker", tmp_path / "more.png", 256, through=path)
