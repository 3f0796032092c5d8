"""Modules that are loaded when first used: those of scipy take longer to load than a small answer takes to compute."""

from __future__ import annotations

from importlib import import_module
from types import ModuleType
from typing import Any


class _Later:
    def __init__(self, name: str) -> None:
        self._name = name
        self._module: ModuleType | None = None

    def __getattr__(self, name: str) -> Any:
        if self._module is None:
            self._module = import_module(self._name)
        return getattr(self._module, name)


def later(name: str) -> Any:
    """A module by its full name, loaded at the first look at something in it; an ImportError comes then."""
    return _Later(name)
