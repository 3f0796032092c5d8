"""Long parts of a weave, as strokes are, kept once for all the states that hold them.

A state is kept as the text of its weave. A hand that lays five hundred strokes makes five hundred states, and each of them
holds every stroke before it; kept whole they would take the square of the room.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable
from typing import Any

from silent_loom.core.weave.rows.model import Weave
from silent_loom.core.weave.rows.upgrade import parsed

MARK = "$piece"
PACKED = "pieces:"
"""What a text with pieces taken out begins with."""
LONG = 240
"""Characters from which a piece is kept apart."""


def packed(weave: Weave) -> tuple[str, dict[str, str]]:
    """The text of a weave with the long members of its lists taken out, and those by their SHA-256.

    Pieces never nest. A weave that uses their mark itself is left whole.
    """
    whole = weave.model_dump_json()
    if len(whole) < 2 * LONG or MARK in whole:
        return whole, {}
    pieces: dict[str, str] = {}
    body = json.loads(whole)
    todo = list(body["steps"])
    while todo:
        row = todo.pop()
        if "rows" in row:  # a group, whose rows come after it
            todo += row["rows"]
        else:
            row["settings"] = _taken(row["settings"], pieces)
    return (PACKED + json.dumps(body, separators=(",", ":")), pieces) if pieces else (whole, {})


def _taken(value: Any, pieces: dict[str, str]) -> Any:
    """A value with the long members of its innermost lists taken out."""
    if isinstance(value, dict):
        return {k: _taken(v, pieces) for k, v in value.items()}
    if not _of_members(value):
        return value
    out = []
    for member in value:
        before = len(pieces)
        inner = _taken(member, pieces)
        text = json.dumps(inner, separators=(",", ":")) if isinstance(inner, dict) else ""
        if len(pieces) == before and len(text) >= LONG and MARK not in text:
            digest = hashlib.sha256(text.encode()).hexdigest()
            pieces[digest] = text
            inner = {MARK: digest}
        out.append(inner)
    return out


def unpacked(text: str, fetch: Callable[[set[str]], dict[str, str]]) -> Weave:
    """The weave that a text is of, in the form of today; ``fetch`` gives pieces by their SHA-256."""
    if not text.startswith(PACKED):
        return parsed(text)
    body = json.loads(text[len(PACKED) :])
    wanted: set[str] = set()
    _walk(body, lambda digest: wanted.add(digest))
    found = {digest: json.loads(piece) for digest, piece in fetch(wanted).items()}
    return parsed(json.dumps(_walk(body, found.__getitem__)))


def _walk(value: Any, put: Callable[[str], Any]) -> Any:
    if _of_members(value):
        return [_walk(v, put) for v in value]
    if isinstance(value, dict):
        return put(value[MARK]) if set(value) == {MARK} else {k: _walk(v, put) for k, v in value.items()}
    return value


def _of_members(value: Any) -> bool:
    """True for a list of things with names; lists of numbers, as the points of a stroke, are not looked through."""
    return isinstance(value, list) and any(isinstance(v, dict) for v in value[:1])
