"""How kernels are compiled, kept on disk and taken from there."""

from __future__ import annotations

from collections.abc import Callable, Collection
from typing import Any, ParamSpec, TypeVar

import numba
from numba.core import caching
from numba.core.runtime import rtsys

P = ParamSpec("P")
R = TypeVar("R")

LOOSE = frozenset({"contract", "arcp", "nsz", "reassoc"})
"""What kernels let the compiler do with sums and products; numbers that are no numbers stay what they are."""


def compiled(function: Callable[P, R], **more: Any) -> Callable[P, R]:
    """How every kernel is compiled: lock released, kept on disk; ``more`` are further options of numba's."""
    made: Callable[P, R] = numba.njit(nogil=True, cache=True, error_model="numpy", **{"fastmath": set(LOOSE), **more})(function)
    return made


def kernel(function: Callable[P, R]) -> Callable[P, R]:
    """Compile a serial loop: float32, lock released, kept on disk."""
    return light(compiled(function))


def subkernel(function: Callable[P, R]) -> Callable[P, R]:
    """As `kernel`, for what only other kernels call: their machine code holds it, so it is never loaded by itself.

    It may not make arrays. In return nobody counts who holds those that are passed to it: counting is an atomic step on
    one line of memory, which two threads at the same array would hand to and fro with every sample.
    """
    return compiled(function, _nrt=False)


def inlined(function: Callable[P, R]) -> Callable[P, R]:
    """As `subkernel`, for small ones: always put in place, since a call that passes arrays costs more than it does."""
    return compiled(function, _nrt=False, forceinline=True)


def light(compiled: Any) -> Any:
    """Let a compiled function come from disk without numba making its whole compiler ready, which takes half a second.

    What is on disk is machine code that needs numba's runtime only. Where nothing fits, compiling makes the rest ready.
    """
    kept = getattr(compiled, "_cache", None)
    if isinstance(kept, caching.FunctionCache):

        def load_overload(signature: Any, context: Any) -> Any:
            rtsys.initialize(context)
            return kept._load_overload(signature, context)

        kept.load_overload = load_overload
        _kernels.append(compiled)
    return compiled


_kernels: list[Any] = []


def load_kernels(apart_from: Collection[str] = ()) -> None:
    """Take kernels that are on disk into memory, for all types they were compiled for.

    Parameters
    ----------
    apart_from : collection of str
        Modules whose kernels will hardly be called; by the last part of their name.

    Notes
    -----

    Loading leaves the interpreter to others most of the time, so a thread that does this gets done beside decoding a photo
    what would otherwise happen bit by bit when each kernel is first called.
    """
    for compiled in list(_kernels):
        if compiled.py_func.__module__.rpartition(".")[2] in apart_from:
            continue
        try:
            for key in list(compiled._cache._cache_file._load_index()):
                compiled.compile(key[0])
        except Exception:  # only ever a matter of speed; whatever is wrong shows when the kernel is called
            continue
