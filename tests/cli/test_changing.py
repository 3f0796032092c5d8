"""A material of the library changed from the command line."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from silent_loom.core.weave.rows.beginnings import woven_from
from silent_loom.store.store import Store
from tests.support.commands import loom as run


@pytest.fixture
def library(tmp_path: Path) -> Path:
    store = Store(tmp_path / "library")
    store.create("Quay gravel", woven_from("gravel"), "Begun")
    store.close()
    return tmp_path / "library"


def test_changes_from_a_file_or_the_line_become_entries_of_the_history(library: Path, tmp_path: Path) -> None:
    (tmp_path / "rows.json").write_text(
        json.dumps(
            [
                {"kind": "settings", "step_id": "normal", "settings": {"strength": 1.5}},
                {"kind": "switch", "step_id": "normal", "on": False},
            ]
        )
    )
    done = run("change", "Quay gravel", tmp_path / "rows.json", "--data", library)
    assert (done.returncode, done.stdout.splitlines()) == (0, ["Normal: strength 1.5", "Normal switched off"])
    again = run("change", "Quay gravel", '{"kind": "switch", "step_id": "normal", "on": false}', "--data", library)
    assert again.stdout.startswith("Nothing changed")
    told = run("change", "Quay gravel", '{"kind": "note", "step_id": "normal", "note": "x"}', "--data", library, "--json")
    assert json.loads(told.stdout)["entries"] == ["Normal: noted"]


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ('{"kind": "sew"}', "this is no change"),
        ("{", "this is no JSON"),
        ("nothing.json", "there is no such file"),
        ('{"kind": "remove", "step_id": "sails"}', "no row"),
    ],
)
def test_what_is_wrong_is_said_in_a_line(library: Path, changes: str, words: str) -> None:
    done = run("change", "Quay gravel", changes, "--data", library)
    assert (done.returncode, len(done.stderr.strip().splitlines())) == (1, 1)
    assert words in done.stderr
