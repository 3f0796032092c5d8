"""The examples in docstrings, run to the last digit, and that whatever computes has one."""

from __future__ import annotations

import ast
import doctest
import importlib
import pkgutil
import re
from collections.abc import Iterator
from pathlib import Path

import pytest

import silent_loom.core as core

MODULES = [info.name for info in pkgutil.walk_packages(core.__path__, "silent_loom.core.") if not info.ispkg]
_FINDER = doctest.DocTestFinder(exclude_empty=True)

# Functions of these take or give a folder, a file or a whole material: three lines cannot show them, their own tests do
WHOLES = re.compile(r"\b(Path|Evaluator|Make|Callable|Future|Iterator|AbstractContextManager|Cache|GltfFile|Making)\b")
OF_THE_MACHINE = {
    "base.askers.present",
    "base.kernels.known",
    "delivery.baking.forecast.memory_there",
    "ways.compiling.everything",
    "ways.prepare.everything_is_there",
}
"""What they give differs from one machine, or one moment, to the next."""
OF_A_STEP = {"weave.answers.carrying.carried"}
"""Shown by the tests of the steps that the engine gives to it."""


def examples(name: str) -> list[doctest.DocTest]:
    return [t for t in _FINDER.find(importlib.import_module(name)) if t.examples]


def computing() -> Iterator[tuple[str, bool]]:
    """Every public function of the core that computes something, and whether its docstring shows an example."""
    root = Path(core.__path__[0])
    for path in sorted(root.rglob("*.py")):
        for node in ast.parse(path.read_text(encoding="utf-8")).body:
            if not isinstance(node, ast.FunctionDef) or node.name.startswith("_") or node.returns is None:
                continue  # what is compiled has no types; the functions that call it show what it does
            every = (*node.args.posonlyargs, *node.args.args, *node.args.kwonlyargs)
            types = [ast.unparse(a.annotation) for a in every if a.annotation is not None] + [ast.unparse(node.returns)]
            settings = types[-1] == "Any"  # a field of a step's settings, told by its documentation
            if types[-1] == "None" or settings or any(WHOLES.search(t) for t in types):
                continue
            name = ".".join((*path.relative_to(root).with_suffix("").parts, node.name))
            yield name, ">>>" in (ast.get_docstring(node) or "")


@pytest.mark.parametrize("name", [n for n in MODULES if examples(n)])
def test_examples_give_what_they_say(name: str) -> None:
    runner = doctest.DocTestRunner(verbose=False)
    for test in examples(name):
        assert runner.run(test).failed == 0, test.name


def test_whatever_computes_shows_an_example() -> None:
    found = dict(computing())
    assert sum(found.values()) > 450
    without = {name for name, shown in found.items() if not shown}
    assert without <= OF_THE_MACHINE | OF_A_STEP, sorted(without - OF_THE_MACHINE - OF_A_STEP)
