"""JSON that came from a file: bounded in bytes, in parts and in depth before anything is built of it."""

from __future__ import annotations

import json
from typing import Any

from silent_loom.core.base.errors import FileError

MOST_BYTES = 256 << 20
MOST_PARTS = 6_000_000
"""Commas and brackets together: a weave with a hundred thousand strokes has fewer."""
MOST_DEPTH = 200
_AGAIN = "Save it again where it came from."


def loads(body: bytes | str, called: str, *, most_bytes: int = MOST_BYTES, most_parts: int = MOST_PARTS) -> Any:
    """What a JSON text says.

    Parameters
    ----------
    body : bytes or str
    called : str
        The name of the file, for messages.
    most_bytes, most_parts : int
        Its bytes at most, and its commas and brackets at most: tiny parts take hundreds of times their text in memory.

    Raises
    ------
    FileError
        It is too large, too deep, or holds halves of characters. Nothing is built of what is too large.
    ValueError
        It is no JSON.

    >>> loads('{"a": [1, 2]}', "deck.json")
    {'a': [1, 2]}
    """
    raw = body.encode("utf-8", "replace") if isinstance(body, str) else body
    if len(raw) > most_bytes:
        size = f"{len(raw) / 1e6:.0f} MB, more than the {most_bytes / 1e6:.0f} that are taken"
        raise FileError(f"its text has {size}", called, _AGAIN)
    parts = sum(raw.count(mark) for mark in (b",", b"[", b"{"))
    if parts > most_parts:
        raise FileError(f"its text has {parts:,} parts, more than the {most_parts:,} that are taken", called, _AGAIN)
    try:
        found = json.loads(raw)
        check_depth(found)
    except RecursionError:
        raise FileError("its text is nested too deep", called, _AGAIN) from None
    if b"\\ud" in raw.lower():
        try:
            json.dumps(found, ensure_ascii=False).encode("utf-8")
        except UnicodeEncodeError:
            raise FileError("its text holds a broken character", called, _AGAIN) from None
    return found


def check_depth(value: Any) -> None:
    """Refuse what is nested deeper than anything made here.

    Raises
    ------
    RecursionError

    >>> check_depth([[1]])
    """
    todo = [(value, 0)]
    while todo:
        now, depth = todo.pop()
        inner = now.values() if isinstance(now, dict) else now if isinstance(now, list) else ()
        if inner and depth >= MOST_DEPTH:
            raise RecursionError
        todo += [(v, depth + 1) for v in inner if isinstance(v, dict | list)]
