"""The examples in docstrings, run to the last digit."""

from __future__ import annotations

import doctest
import importlib
import pkgutil

import pytest

import silent_loom.core as core

MODULES = [info.name for info in pkgutil.walk_packages(core.__path__, "silent_loom.core.") if not info.ispkg]
_FINDER = doctest.DocTestFinder(exclude_empty=True)


def examples(name: str) -> list[doctest.DocTest]:
    return [t for t in _FINDER.find(importlib.import_module(name)) if t.examples]


@pytest.mark.parametrize("name", [n for n in MODULES if examples(n)])
def test_examples_give_what_they_say(name: str) -> None:
    runner = doctest.DocTestRunner(verbose=False)
    for test in examples(name):
        assert runner.run(test).failed == 0, test.name


def test_there_are_examples() -> None:
    assert sum(len(examples(n)) for n in MODULES) >= 30
