"""Compile kernels ahead, one after another as they are named; what `prepare` starts in processes of their own."""

from __future__ import annotations

import importlib
import pkgutil
import sys
import time
from typing import Any

from numba.core import sigutils

import silent_loom.core as core
from silent_loom.core.base import kernels


def everything() -> dict[str, Any]:
    """Every kernel of the core, by name; loads every module that holds some."""
    for info in pkgutil.walk_packages(core.__path__, f"{core.__name__}."):
        if b"silent_loom.core.base.kernels" in kernels.source(info.name):
            importlib.import_module(info.name)
    return kernels.known()


def types_of(declared: str) -> tuple[Any, ...]:
    """The argument types of a declared signature.

    >>> types_of("f4[:,::1], i8")
    (Array(float32, 2, 'C', False, aligned=True), int64)
    """
    args, _ = sigutils.normalize_signature(f"void({declared})")
    return tuple(args)


def forms() -> dict[str, tuple[Any, str]]:
    """Every declared form of every kernel, as ``name:0``, ``name:1`` …: the kernel and the types of its arguments.

    >>> all(name.split(":")[1].isdigit() for name in forms())
    True
    """
    return {f"{name}:{i}": (kernel, form) for name, kernel in everything().items() for i, form in enumerate(kernel.declared)}


def main() -> None:
    """Read names of forms from standard input, a line each; answer each with 'done' or what went wrong, and the seconds.

    Machine code is on disk when 'done' is said.
    """
    known = forms()
    print(" ".join(known), flush=True)
    for line in sys.stdin:
        name, started = line.strip(), time.perf_counter()
        try:
            kernel, form = known[name]
            kernel.compile(types_of(form))
            said = "done"
        except Exception as error:  # told to who asked; the kernel is compiled when it is first called
            said = f"{type(error).__name__}: {' '.join(str(error).split())[:200]}"
        print(f"{name}\t{said}\t{time.perf_counter() - started:.3f}", flush=True)


if __name__ == "__main__":
    main()
