"""The examples of docs/extending.md, each written into a copy of the package, loaded, used, and gone with it."""

from __future__ import annotations

import json
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from silent_loom.core.base import kernels

ROOT = Path(__file__).parent.parent
BLOCK = re.compile(r"```(python|json|js)\n(?:#|//) (\S+)\n(.*?)```", re.S)
EXAMPLES = {file: body for _, file, body in BLOCK.findall((ROOT / "docs" / "extending.md").read_text("utf-8"))}


@pytest.fixture(scope="module")
def package(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A copy of the package without what only a browser loads."""
    folder = tmp_path_factory.mktemp("extended")
    away = shutil.ignore_patterns("vendor", "__pycache__", "pictures", "*.png")
    shutil.copytree(ROOT / "silent_loom", folder / "silent_loom", ignore=away)
    # The machine code goes along: a copy that compiled its own would count as kernels compiled late
    shutil.copytree(kernels.folder(), folder / "silent_loom" / "core" / "__pycache__" / "kernels")
    return folder


def put(package: Path, *files: str) -> None:
    for file in files:
        path = package / "silent_loom" / file if "/" in file else package / file
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(EXAMPLES[file], "utf-8")


def run(package: Path, code: str) -> str:
    done = subprocess.run([sys.executable, "-c", code], cwd=package, capture_output=True, text=True, timeout=240)
    assert done.returncode == 0, done.stderr[-2000:]
    return done.stdout


def command(package: Path, *words: str) -> subprocess.CompletedProcess[str]:
    told = [sys.executable, "-m", "silent_loom", *words]
    return subprocess.run(told, cwd=package, capture_output=True, text=True, timeout=240)


def test_there_is_an_example_of_each() -> None:
    assert set(EXAMPLES) == {
        "core/steps/coast/__init__.py",
        "core/steps/coast/moss.py",
        "core/recipes/surfaces/90_coast.json",
        "core/report/checks/all_bright.py",
        "core/delivery/profiles/quay.json",
        "counting.py",
        "web/static/js/bench/table/plain.js",
    }
    headings = re.findall(r"^## (.*)$", (ROOT / "docs" / "extending.md").read_text("utf-8"), re.M)
    assert len(headings) == len(set(headings)), "no section stands there twice"


def test_a_step_in_a_new_folder_with_a_thread_of_its_own(package: Path) -> None:
    put(package, "core/steps/coast/__init__.py", "core/steps/coast/moss.py")
    told = run(
        package,
        "from silent_loom.core.weave import registry\n"
        "from silent_loom.core.weave.answers.evaluate import Evaluator\n"
        "from silent_loom.core.weave.rows.model import StepEntry, Weave\n"
        "from silent_loom.core.base.troubles import troubles\n"
        "weave = Weave(steps=(StepEntry(step='blank'), StepEntry(step='moss', settings={'amount': 1.5})))\n"
        "e = Evaluator(None)\n"
        "print(registry.family('moss'), registry.families()['coast'], e.ask(weave, 'moss', 16).pixels.max(),"
        " e.plan(weave).spec('moss').high, troubles())",
    )
    assert told.split("\n")[0] == "coast Coast 1.5 2.0 []"


def test_a_recipe_and_a_profile(package: Path, tmp_path: Path) -> None:
    put(package, "core/recipes/surfaces/90_coast.json", "core/delivery/profiles/quay.json")
    done = command(package, "bake", "wet-quay", "--profile", "quay", "--size", "64", "--out", str(tmp_path / "set"))
    assert done.returncode == 0, done.stderr
    manifest = json.loads((tmp_path / "set" / "manifest.json").read_text("utf-8"))
    assert [f["file"] for f in manifest["files"] if f.get("channels")] == ["wet_quay_colour.png", "wet_quay_masks.png"]


def test_a_check(package: Path) -> None:
    put(package, "core/report/checks/all_bright.py")
    told = run(
        package,
        "import numpy as np\n"
        "from silent_loom.core.base.images import Image, Kind\n"
        "from silent_loom.core.report.check import checked\n"
        "from silent_loom.core.weave.threads import spec\n"
        "print(checked(Image(np.full((8, 8, 1), 0.99, np.float32), Kind.DATA), spec('roughness')))",
    )
    assert "nothing shines" in told


def test_a_job(package: Path) -> None:
    put(package, "counting.py")
    told = run(
        package,
        "import time\nfrom counting import job, jobs\n"
        "for _ in range(200):\n    time.sleep(0.02)\n    if job.state == 'done': break\n"
        "print(job.state, job.result, [w[9:] for w in job.log])\njobs.close()",
    )
    assert told.startswith("done {'stones': 3} ['stone 0', 'stone 1', 'stone 2']")


def test_a_view(package: Path) -> None:
    put(package, "web/static/js/bench/table/plain.js")
    view = package / "silent_loom/web/static/js/bench/table/plain.js"
    node = shutil.which("node")
    assert node, "Node comes with npm, which the tests need anyway"
    code = (
        f"const {{ PlainView }} = await import({json.dumps(view.as_uri())});"
        "const said = []; const pane = { say: (w) => said.push(w), computing: (on) => said.push(on) };"
        "globalThis.fetch = async () => { throw new Error('nobody is there'); };"
        "const view = new PlainView(pane, { path: '/api/materials/m', question: () => ({}), draft: null }, {});"
        "view.ask(); await new Promise((r) => setTimeout(r, 50)); console.log(JSON.stringify(said));"
    )
    done = subprocess.run([node, "--input-type=module", "-e", code], capture_output=True, text=True, timeout=60)
    assert done.returncode == 0, done.stderr
    said = json.loads(done.stdout)
    assert said[0] is True, "it says that it computes"
    assert said[-1] is False
    assert len(said) == 3, "and what went wrong"


BROKEN = {
    "core/steps/bare/shoal.py": ("x = 1\n", "core/steps/bare is left out: it has no __init__.py"),
    "core/steps/tone/broken.py": ("def (:\n", "core/steps/tone/broken.py cannot be loaded and is left out: invalid syntax"),
    "core/recipes/surfaces/99_torn.json": ("{", "recipes/surfaces/99_torn.json cannot be loaded and is left out"),
    "core/recipes/patterns/99_torn.json": ('{"family": "T", "patterns": [{"name": 3}]}', "recipes/patterns/99_torn.json cannot"),
    "core/delivery/profiles/torn.json": ('{"name": "torn"}', "delivery/profiles/torn.json cannot be loaded and is left out"),
    "core/report/checks/torn.py": ("PLACE = 1\n", "report/checks/torn.py cannot be loaded and is left out"),
}


def test_what_cannot_be_loaded_is_one_sentence_and_the_others_still_work(package: Path, tmp_path: Path) -> None:
    for file, (body, _) in BROKEN.items():
        path = package / "silent_loom" / file
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(body, "utf-8")
    try:
        told = run(
            package,
            "from silent_loom.core.base.troubles import troubles\n"
            "from silent_loom.core.delivery.shelf import profiles\n"
            "from silent_loom.core.report.check import kinds\n"
            "from silent_loom.core.weave import registry\n"
            "from silent_loom.core.weave.rows.beginnings import beginnings\n"
            "from silent_loom.core.weave.rows.saved import shipped\n"
            "print(len(registry.steps()) > 60, len(profiles()) > 8, len(kinds()) > 8, len(beginnings()) >= 80, len(shipped()) >= 27)\n"
            "print(*troubles(), sep='\\n')",
        )
        assert told.startswith("True True True True True\n")
        lines = told.splitlines()[1:]
        for _, words in BROKEN.values():
            assert [line for line in lines if words in line], (words, lines)
        assert len(lines) == len(BROKEN)
        done = command(package, "patterns")
        assert done.returncode == 0
        assert "note: recipes/patterns/99_torn.json cannot be loaded" in done.stderr
    finally:
        for file in BROKEN:
            (package / "silent_loom" / file).unlink()
