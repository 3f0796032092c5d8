"""Imported by the process that commands of tests are forked from: all that a command would load by itself, at every start."""

from __future__ import annotations

import importlib
import pkgutil

import silent_loom.cli
import silent_loom.core
import silent_loom.work
from silent_loom.core.base.kernels import load_kernels

for package in (silent_loom.core, silent_loom.work, silent_loom.cli):
    for found in pkgutil.walk_packages(package.__path__, f"{package.__name__}."):
        importlib.import_module(found.name)
load_kernels()
