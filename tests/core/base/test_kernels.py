"""How kernels are compiled: ahead, outside the application, and for all the types that ever come."""

from __future__ import annotations

import ast
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from silent_loom.core.base import kernels
from silent_loom.core.files.write import write
from silent_loom.core.ways import compiling, prepare


@pytest.fixture(scope="module")
def known() -> dict[str, Any]:
    return compiling.everything()


def test_every_kernel_says_for_which_types_it_is_compiled(known: dict[str, Any]) -> None:
    assert len(known) > 70
    assert [name for name, kernel in known.items() if not kernel.declared] == []
    for kernel in known.values():
        arguments = kernel.py_func.__code__.co_argcount
        assert {len(compiling.types_of(form)) for form in kernel.declared} == {arguments}


def test_kernels_that_come_first_exist() -> None:
    assert set(prepare.FIRST) <= set(compiling.forms())


def test_functions_that_a_kernel_calls_lie_in_modules_that_outdate_it(known: dict[str, Any]) -> None:
    for name, kernel in known.items():
        module = sys.modules[kernel.py_func.__module__]
        called = {v.py_func.__module__ for v in vars(module).values() if hasattr(v, "py_func")}
        imported = set(kernels._IMPORTED.findall(kernels.source(module.__name__).decode())) | {module.__name__}
        assert called <= imported, name


def test_a_changed_callee_outdates_machine_code(monkeypatch: pytest.MonkeyPatch) -> None:
    module, callee = "silent_loom.core.tiling.joining.wide", "silent_loom.core.moving.slide"
    before, other = kernels.stamp(module), kernels.stamp("silent_loom.core.screen.changes")
    real = kernels.source
    monkeypatch.setattr(kernels, "source", lambda m: real(m) + (b"# changed" if m == callee else b""))
    kernels.stamp.cache_clear()
    try:
        assert kernels.stamp(module) != before
        assert kernels.stamp("silent_loom.core.screen.changes") == other
    finally:
        kernels.stamp.cache_clear()


def test_no_kernel_assigns_an_array_to_a_slice() -> None:
    """The runtime's words for shapes that differ, which such a line brings along, take ten seconds to compile."""
    found = []
    for path in sorted(kernels.CORE.rglob("*.py")):
        for function in ast.parse(path.read_text("utf-8")).body:
            if not isinstance(function, ast.FunctionDef):
                continue
            if not any(
                word in ast.unparse(d) for d in function.decorator_list for word in ("kernel", "inlined", "finite", "by_con")
            ):
                continue
            for node in ast.walk(function):
                if isinstance(node, ast.Assign) and not isinstance(node.value, ast.Constant):
                    found += [
                        f"{path.name}: {ast.unparse(node)}"
                        for t in node.targets
                        if isinstance(t, ast.Subscript) and any(isinstance(s, ast.Slice) for s in ast.walk(t.slice))
                    ]
    assert [f for f in found if "if single else" not in f] == []


def test_waiting_ends_when_the_processes_do(monkeypatch: pytest.MonkeyPatch, known: dict[str, Any]) -> None:
    monkeypatch.setattr(prepare, "everything_is_there", lambda: False)
    monkeypatch.setattr(prepare.sys, "executable", "/nowhere/python")
    work = prepare.Preparation(workers=1)
    work.start()
    assert work.wait_for_all(20)
    work.wait(known["screen.changes._differ"], compiling.types_of(known["screen.changes._differ"].declared[0]))
    assert kernels.waiting is None


def test_a_prepared_machine_has_nothing_to_prepare() -> None:
    prepare.prepare()
    work = prepare.Preparation()
    work.start()
    assert work.ended
    assert work.state()["done"]


@pytest.mark.parametrize("kind", ["8", "16", "float", "grey"])
def test_nothing_is_compiled_any_more_by_a_command(tmp_path: Path, kind: str) -> None:
    rng = np.random.default_rng(3)
    pixels = rng.uniform(0.1, 0.6, (96, 128, 1 if kind == "grey" else 3)).astype(np.float32)
    photo = tmp_path / ("photo.exr" if kind == "float" else "photo.png")
    write(photo, pixels, fmt="openexr" if kind == "float" else "png", depth="8" if kind == "grey" else kind, colour=True)  # type: ignore[arg-type]
    late = tmp_path / "late"
    corners = "10,8,118,12,116,90,9,88"
    run = [sys.executable, "-m", "silent_loom", "derive", str(photo), "--out", str(tmp_path / "set"), "--size", "96"]
    subprocess.run(
        [*run, "--corners", corners, "--report", str(tmp_path / "r.json")],
        check=True,
        capture_output=True,
        env={**os.environ, "SILENT_LOOM_LATE_KERNELS": str(late)},
    )
    assert not late.exists(), late.read_text()
