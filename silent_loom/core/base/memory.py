"""Memory that was used once and is not needed now, given back to the machine."""

from __future__ import annotations

import ctypes
from collections.abc import Callable
from functools import cache


@cache
def _trim() -> Callable[[int], int] | None:
    try:
        return ctypes.CDLL(None).malloc_trim
    except (OSError, AttributeError, TypeError):  # another C library: it decides for itself
        return None


def give_back() -> None:
    """Between two large tasks: large arrays of the first leave gaps that the next cannot use, and the process would grow."""
    trim = _trim()
    if trim is not None:
        trim(0)
