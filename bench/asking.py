"""What benches ask of a running application, and the copies of its demo materials that they measure on."""

from __future__ import annotations

import json
import urllib.request
from typing import Any


def sent(address: str, body: dict[str, Any] | None = None) -> bytes:
    """The bytes of an answer: to a question with a body, or to a plain address."""
    request = urllib.request.Request(address, None if body is None else json.dumps(body).encode())
    request.add_header("content-type", "application/json")
    request.add_header("origin", address.split("/api")[0])
    with urllib.request.urlopen(request) as answer:
        return bytes(answer.read())


def asked(address: str, body: dict[str, Any] | None = None) -> Any:
    """An answer read as JSON; as bytes where it is a picture."""
    raw = sent(address, body)
    return json.loads(raw) if raw[:1] in b"{[" else raw


def demo(address: str, word: str) -> str:
    """Id of the demo's own material with a word in its name: copies have longer names, or came later."""
    found = [m for m in asked(f"{address}/api/materials")["materials"] if word in m["name"]]
    shortest = min(len(m["name"]) for m in found)
    return str([m for m in found if len(m["name"]) == shortest][-1]["id"])


def copied(address: str, word: str) -> Any:
    """A copy of it, to be changed at will: its id and head."""
    return asked(f"{address}/api/materials/{demo(address, word)}/duplicate", {})
