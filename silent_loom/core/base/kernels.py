"""How kernels are compiled, kept on disk and taken from there."""

from __future__ import annotations

import hashlib
import os
import re
import sys
import tempfile
from collections.abc import Callable, Collection
from functools import cache
from pathlib import Path
from typing import Any, ParamSpec, TypeVar

import numba
from numba.core import caching, config, types
from numba.core.runtime import rtsys

P = ParamSpec("P")
R = TypeVar("R")

LOOSE = frozenset({"contract", "arcp", "nsz", "reassoc"})
"""What kernels let the compiler do with sums and products; numbers that are no numbers stay what they are."""
FINITE = LOOSE | {"nnan", "ninf"}
PART: dict[str, Any] = {"_nrt": False, "no_cfunc_wrapper": True, "no_cpython_wrapper": True}
"""Options of what is compiled only as a part of something else."""
CORE = Path(__file__).parent.parent
_IMPORTED = re.compile(r"^\s*(?:from|import) (silent_loom\.core[\w.]*)", re.M)


def kernel(*signatures: str, finite: bool = False) -> Callable[[Callable[P, R]], Callable[P, R]]:
    """Compile a serial loop: float32, lock released, kept on disk.

    Parameters
    ----------
    signatures : str
        Types of the arguments, in numba's notation, of every way in which it is called: ``"f4[:,::1], i8"``. They are what
        is compiled ahead (see `prepare`); another type is compiled when it first comes, which takes the artist's time.
    finite : bool
        The compiler may take it that nothing is infinite and nothing is no number.
    """

    def made(function: Callable[P, R]) -> Callable[P, R]:
        whole: Any = _compiled(function, no_cfunc_wrapper=True, fastmath=FINITE if finite else LOOSE)
        whole._cache = _Kept(function)
        whole.declared = signatures
        compile_now = whole.compile

        def compile_or_wait(signature: Any) -> Any:
            if waiting is not None:
                waiting(whole, signature)
            made = compile_now(signature)
            if (late := os.environ.get("SILENT_LOOM_LATE_KERNELS")) and whole.stats.cache_misses:
                with open(late, "a") as out:  # for tests: nothing may be compiled once everything was prepared
                    out.write("".join(f"{name_of(whole)} {types}\n" for types in whole.stats.cache_misses))
                whole.stats.cache_misses.clear()
            return made

        whole.compile = compile_or_wait
        _kernels.append(whole)
        result: Callable[P, R] = whole
        return result

    return made


def subkernel(function: Callable[P, R]) -> Callable[P, R]:
    """For what only other kernels call: their machine code holds it, so it is neither kept nor loaded by itself.

    It may not make arrays. In return nobody counts who holds those that are passed to it: counting is an atomic step on
    one line of memory, which two threads at the same array would hand to and fro with every sample.
    """
    return _one_form(_compiled(function, **PART))


def by_constants(function: Callable[P, R]) -> Callable[P, R]:
    """As `subkernel`, compiled anew for each constant it is called with, where that makes faster code of it."""
    return _compiled(function, **PART)


def inlined(function: Callable[P, R]) -> Callable[P, R]:
    """As `subkernel`, for small ones: always put in place, since a call that passes arrays costs more than it does."""
    return _one_form(_compiled(function, **PART, forceinline=True))


def _one_form(made: Any) -> Any:
    """Let a function be compiled once for all constants that it is called with, not once for each."""
    typed, plain = made.get_call_template, getattr(types, "unliteral")  # noqa: B009 - numba makes the name at run time
    made.get_call_template = lambda args, kws: typed([plain(a) for a in args], {k: plain(v) for k, v in kws.items()})
    return made


def finite(function: Callable[P, R]) -> Callable[P, R]:
    """As `subkernel`, where nothing is infinite and nothing is no number."""
    return _one_form(_compiled(function, **PART, fastmath=FINITE))


def _compiled(function: Callable[P, R], fastmath: frozenset[str] = LOOSE, **more: Any) -> Callable[P, R]:
    made: Callable[P, R] = numba.njit(function, nogil=True, error_model="numpy", fastmath=set(fastmath), **more)
    return made


# --- where machine code is kept ---------------------------------------------------------------------------------------


@cache
def folder() -> Path:
    """Where machine code lies: beside the sources, or in the user's cache where that cannot be written."""
    own = Path(config.CACHE_DIR) if config.CACHE_DIR else CORE / "__pycache__" / "kernels"
    users = Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache") / "silent-loom" / "kernels"
    for place in (own, users):
        try:
            place.mkdir(parents=True, exist_ok=True)
            tempfile.TemporaryFile(dir=place).close()
            return place
        except OSError:
            continue
    return Path(tempfile.mkdtemp(prefix="silent-loom-"))  # for this process alone


@cache
def source(module: str) -> bytes:
    """The text of a module of the core; nothing where there is none.

    >>> source("nowhere.at.all")
    b''
    """
    path = CORE.joinpath(*module.split(".")[2:])
    path = path / "__init__.py" if path.is_dir() else path.with_suffix(".py")
    return path.read_bytes() if path.is_file() else b""


@cache
def stamp(module: str) -> str:
    """Changes with the source of a module, and of every module with kernels that the kernels in it may call.

    >>> carry, gauss = (f"silent_loom.core.moving.{m}" for m in ("carry", "gauss"))
    >>> stamp(carry) == stamp(carry), stamp(carry) == stamp(gauss)
    (True, False)
    """
    seen: dict[str, bytes] = {}
    todo = [module]
    while todo:
        one = todo.pop()
        if one in seen:
            continue
        text = source(one)
        if one != module and b"silent_loom.core.base.kernels" not in text:
            continue
        seen[one] = text
        todo += _IMPORTED.findall(text.decode())
    return hashlib.sha256(b"\0".join(seen[m] for m in sorted(seen))).hexdigest()


class _Beside(caching._CacheLocator):  # type: ignore[misc]
    """Tells numba where machine code is kept, and what makes it outdated: a changed callee, too."""

    def __init__(self, function: Any) -> None:
        self._module, self._line = function.__module__, function.__code__.co_firstlineno
        self._py_file = function.__code__.co_filename

    def get_cache_path(self) -> str:
        return str(folder())

    def ensure_cache_path(self) -> None:
        folder().mkdir(parents=True, exist_ok=True)

    def get_source_stamp(self) -> str:
        return stamp(self._module)

    def get_disambiguator(self) -> str:
        return str(self._line)

    @classmethod
    def from_function(cls, py_func: Any, py_file: str) -> _Beside:
        return cls(py_func)


class _Form(caching.CompileResultCacheImpl):  # type: ignore[misc]
    _locator_classes = [_Beside]

    def get_filename_base(self, fullname: str, abiflags: str) -> str:
        module = self.locator._module.removeprefix("silent_loom.core.")
        return f"{module}.{fullname.rpartition('.')[2]}.py{sys.version_info[0]}{sys.version_info[1]}"


class _Kept(caching.FunctionCache):  # type: ignore[misc]
    """Machine code from disk, without numba making its whole compiler ready, which takes half a second.

    What is on disk needs numba's runtime only. Where nothing fits, compiling makes the rest ready.
    """

    _impl_class = _Form

    def load_overload(self, sig: Any, target_context: Any) -> Any:
        rtsys.initialize(target_context)
        return self._load_overload(sig, target_context)


# --- what there is ----------------------------------------------------------------------------------------------------

_kernels: list[Any] = []
waiting: Callable[[Any, Any], None] | None = None
"""Asked before a kernel is compiled for the types of its arguments: may wait while another process does so. See `prepare`."""


def name_of(kernel: Any) -> str:
    """'tiling.cut._sweep'.

    >>> from silent_loom.core.moving.gauss import score_of
    >>> name_of(score_of)
    'moving.gauss.score_of'
    """
    function = kernel.py_func
    return f"{function.__module__.removeprefix('silent_loom.core.')}.{function.__name__}"


def known() -> dict[str, Any]:
    """Kernels of the modules that are loaded, by name."""
    return {name_of(k): k for k in _kernels}


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
