"""Patterns from the command line."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np

from silent_loom.core.files import read
from silent_loom.core.weave.rows.beginnings import beginnings
from tests.support.commands import loom as run


def test_patterns_are_listed() -> None:
    told = json.loads(run("patterns", "--json").stdout)
    assert [p["name"] for p in told] == list(beginnings())
    assert {"across_mm", "seed"} <= set(told[0]["takes"])
    plain = run("patterns").stdout
    assert all(f"  {name}: " in plain for name in beginnings())


def test_a_pattern_is_baked_with_other_settings(tmp_path: Path) -> None:
    empty = tmp_path / "none"

    def bake(out: str, *more: object) -> Path:
        done = run("bake", "wicker", "--data", empty, "--size", 96, "--out", tmp_path / out, "--json", *more)
        assert done.returncode == 0, done.stderr
        manifest = json.loads(done.stdout)
        assert manifest["size"] == [96, 96]
        assert manifest["weave"]["steps"]
        return tmp_path / out

    usual, again = bake("a"), bake("b")
    other = bake("c", "--seed", 5)
    coarse = bake("d", "--set", "warp_mm=80", "--set", "normal.strength=2")
    files = sorted(f.name for f in usual.glob("*.png"))
    assert any("height" in f for f in files)
    base = next(f for f in files if "base" in f)
    pictures = [read(folder / base).samples for folder in (usual, again, other, coarse)]
    assert np.array_equal(pictures[0], pictures[1])
    assert not np.array_equal(pictures[0], pictures[2])
    assert not np.array_equal(pictures[0], pictures[3])
    proof = run("proof", usual, "--against", again)
    assert proof.returncode == 0, proof.stderr


def test_what_cannot_be_baked_is_told_in_a_line(tmp_path: Path) -> None:
    for arguments, words in (
        (("wikker",), "no"),
        (("wicker", "--set", "nope=1"), "no such setting"),
        (("wicker", "--set", "warp_mm"), "SETTING=VALUE"),
        (("wicker", "--set", "draft=sideways"), "draft"),
        (("pattern:brickz",), "no pattern called"),
    ):
        done = run("bake", *arguments, "--data", tmp_path / "none", "--size", 32, "--out", tmp_path / "x")
        assert done.returncode != 0
        assert words in done.stderr, done.stderr
        assert len(done.stderr.strip().splitlines()) == 1
        assert not (tmp_path / "x").exists()
