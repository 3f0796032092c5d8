"""Memory that was used once and is not needed now, given back to the machine."""

from __future__ import annotations

import ctypes
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from typing import Any

_MMAP_THRESHOLD = -3
"""Number of the setting in mallopt(3) of the GNU C library: blocks from this size on are mapped one by one."""
_LARGE, _USUAL = 8 << 20, 32 << 20
"""Bytes: a map of 1448 texels square and larger; and what the library comes to by itself after a few large blocks."""


@cache
def _library() -> Any:
    """The C library, where it is the GNU one; another decides for itself."""
    try:
        found = ctypes.CDLL(None)
        return found if hasattr(found, "malloc_trim") and hasattr(found, "mallopt") else None
    except (OSError, TypeError):
        return None


@contextmanager
def large_apart() -> Iterator[None]:
    """While the block runs, large arrays are mapped one by one, and go back to the machine as soon as they are let go of.

    Otherwise they come to lie among small ones, and leave gaps that the next large task cannot use: ten sheets one after the
    other take a third more memory than one. It costs a few per cent of time.
    """
    library = _library()
    if library is not None:
        library.mallopt(_MMAP_THRESHOLD, _LARGE)
    try:
        yield
    finally:
        if library is not None:
            library.mallopt(_MMAP_THRESHOLD, _USUAL)
            library.malloc_trim(0)
