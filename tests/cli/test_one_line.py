"""What goes wrong is told in one line that says what, where and what to do; what an ended run left is recognised."""

from __future__ import annotations

import json
import os
import signal
import socket
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from PIL import Image as Pillow
from PIL import PngImagePlugin

from tests.support.commands import loom

LOOM = [sys.executable, "-m", "silent_loom"]


@pytest.fixture(scope="module")
def photo(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("photos") / "deck.png"
    Pillow.fromarray(np.random.default_rng(0).integers(60, 190, (96, 128, 3)).astype(np.uint8)).save(path)
    return path


def test_users_errors_are_never_called_program_faults(photo: Path, tmp_path: Path) -> None:
    thin = tmp_path / "thin.png"
    Pillow.fromarray(np.random.default_rng(0).integers(60, 190, (2000, 3, 3)).astype(np.uint8)).save(thin)
    narrow = tmp_path / "narrow.png"
    Pillow.fromarray(np.random.default_rng(0).integers(60, 190, (2000, 8, 3)).astype(np.uint8)).save(narrow)
    out = tmp_path / "out"
    for words in (
        ("derive", thin, "--out", out, "--size", "64"),
        ("derive", narrow, "--out", out, "--size", "64"),
        ("break-up", photo, "--out", out, "--cell-mm", "1e9"),
        ("break-up", photo, "--out", out, "--seed", str(2**64)),
        ("grow", photo, "--out", out, "--times", "1e9x1"),
        ("derive", photo, "--out", out, "--report", "/no/such/folder/r.json"),
        ("derive", photo, "--out", out, "--set", 'photo.source="x"'),
        ("derive", photo, "--out", "/proc/no/where"),
        ("derive", photo, "--out", photo / "below"),
    ):
        run = loom(*words)
        assert run.returncode in (1, 2), words
        assert run.stderr.startswith("error: "), words
        assert run.stderr.count("\n") == 1, run.stderr
        assert "fault of Silent Loom" not in run.stderr
        assert not out.exists(), words


def test_warnings_of_libraries_do_not_reach_the_artist(tmp_path: Path) -> None:
    """A profile that libpng complains of, past Python, straight into standard error."""
    path = tmp_path / "odd.png"
    extra = PngImagePlugin.PngInfo()
    extra.add(b"iCCP", b"broken\0\0not a profile")
    extra.add(b"gAMA", b"\0\0\0\0")
    Pillow.fromarray(np.full((16, 16, 3), 90, np.uint8)).save(path, pnginfo=extra)
    run = loom("inspect", path, "--json")
    assert run.stderr == "" or run.stderr.startswith("error: ")
    if run.returncode == 0:
        json.loads(run.stdout)


def test_what_is_no_number_is_not_printed_as_json(tmp_path: Path) -> None:
    path = tmp_path / "flat.png"
    Pillow.fromarray(np.zeros((32, 32, 3), np.uint8)).save(path)
    run = loom("inspect", path, "--json")
    json.loads(run.stdout, parse_constant=lambda word: pytest.fail(f"{word} in JSON"))


def test_a_report_is_refused_before_the_work(photo: Path, tmp_path: Path) -> None:
    run = loom("derive", photo, "--out", tmp_path / "set", "--report", tmp_path)
    assert "this is a folder" in run.stderr
    assert not (tmp_path / "set").exists()


@pytest.mark.parametrize("files", [0, 1, 3])
def test_the_same_command_works_after_a_kill(photo: Path, tmp_path: Path, files: int) -> None:
    """Ended while files are made, or between two of the renames that name them."""
    out = tmp_path / "set"
    code = (
        "import sys, os, signal; from pathlib import Path\n"
        "from silent_loom.core.delivery import placing\n"
        "from silent_loom.core.ways.derive import Wish, derive\n"
        "real, named = placing.place, []\n"
        "def place(partial, path, **how):\n"
        "    if len(named) == int(sys.argv[3]): os.kill(os.getpid(), signal.SIGKILL)\n"
        "    real(partial, path, **how); named.append(path)\n"
        "placing.place = place\n"
        "derive(Path(sys.argv[1]), Path(sys.argv[2]), wish=Wish(size=64))\n"
    )
    run = subprocess.run([sys.executable, "-c", code, str(photo), str(out), str(files)], capture_output=True, check=False)
    assert run.returncode == -signal.SIGKILL
    assert len([p for p in out.iterdir() if not p.name.startswith(".")]) == files
    again = loom("derive", photo, "--out", out, "--size", "64")
    assert again.returncode == 0, again.stderr
    manifest = json.loads((out / "manifest.json").read_text("utf-8"))
    assert sorted(p.name for p in out.iterdir()) == sorted([f["file"] for f in manifest["files"]] + ["manifest.json"])


def test_a_file_of_the_artist_s_is_never_taken_for_a_leftover(photo: Path, tmp_path: Path) -> None:
    out = tmp_path / "set"
    (out / ".part-old").mkdir(parents=True)
    (out / "deck_height.png").write_bytes(b"mine")
    listed = {"files": [{"file": "deck_height.png", "sha256": "0" * 64}]}
    (out / ".part-old" / "manifest.json").write_text(json.dumps(listed), "utf-8")
    for force in ((), ("--force",)):
        assert loom("derive", photo, "--out", out, "--size", "64", *force).returncode == 1
        assert (out / "deck_height.png").read_bytes() == b"mine"


def test_a_taken_port_goes_to_the_next_and_a_taken_folder_is_refused(tmp_path: Path) -> None:
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = taken.getsockname()[1]
        words = ["serve", "--data", str(tmp_path / "data"), "--port", str(port)]
        first = subprocess.Popen([*LOOM, *words], stdout=subprocess.PIPE, text=True, env={**os.environ})
        try:
            assert first.stdout is not None
            said = first.stdout.readline()
            assert f"Port {port} is taken" in said
            address = first.stdout.readline().split()[3]
            second = loom("serve", "--data", tmp_path / "data", "--port", "0")
            assert second.returncode == 1
            assert address in second.stderr
        finally:
            first.terminate()
            first.wait(20)
