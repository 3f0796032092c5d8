"""Files of the program that could not be loaded: each in one sentence, while everything else works."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

_told: dict[str, str] = {}


@contextmanager
def passed_over(file: str) -> Iterator[None]:
    """Load one file; whatever goes wrong with it is noted under its name, and does not reach the others.

    >>> with passed_over("core/steps/coast/moss.py"):
    ...     raise SyntaxError("invalid syntax")
    >>> troubles().pop()
    'core/steps/coast/moss.py cannot be loaded and is left out: invalid syntax'
    """
    try:
        yield
    except Exception as error:  # anything at all: it is somebody else's code
        lines = str(error).strip().splitlines()
        more = next((line.strip() for line in lines[1:] if line.strip() and "For further information" not in line), "")
        words = f"{lines[0]}{f' ({more})' if more else ''}" if lines else type(error).__name__
        note(f"{file} cannot be loaded and is left out: {words}"[:400])


def note(words: str) -> None:
    """Tell of a file, once."""
    _told.setdefault(words, words)


def troubles() -> list[str]:
    """A sentence a file that could not be loaded, so far.

    >>> isinstance(troubles(), list)
    True
    """
    return list(_told.values())
