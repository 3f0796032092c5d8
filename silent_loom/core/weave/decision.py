"""What a step decided once, and keeps: paths, fields, statistics, in units of the surface."""

from __future__ import annotations

import io
import json
from dataclasses import dataclass, field
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True)
class Decision:
    """Made at the decision size, used at every size.

    Attributes
    ----------
    arrays : dict of arrays
        Whatever the step needs to do the same again at another size.
    figures : dict
        What it measured, for people: numbers, words, booleans.
    warnings : tuple of str
        What the artist should know, a sentence each.
    """

    arrays: dict[str, NDArray[Any]] = field(default_factory=dict)
    figures: dict[str, Any] = field(default_factory=dict)
    warnings: tuple[str, ...] = ()

    def to_bytes(self) -> bytes:
        stream = io.BytesIO()
        head = json.dumps({"figures": self.figures, "warnings": list(self.warnings)}).encode()
        np.savez_compressed(stream, allow_pickle=False, __head__=np.frombuffer(head, np.uint8), **self.arrays)
        return stream.getvalue()

    @staticmethod
    def from_bytes(raw: bytes) -> Decision:
        with np.load(io.BytesIO(raw), allow_pickle=False) as stored:
            head = json.loads(stored["__head__"].tobytes())
            arrays = {k: stored[k] for k in stored.files if k != "__head__"}
        return Decision(arrays, head["figures"], tuple(head["warnings"]))


NONE = Decision()


class DecisionStore(Protocol):
    """Where decisions are kept, by key."""

    def get(self, key: str) -> Decision | None: ...

    def put(self, key: str, decision: Decision) -> None: ...


class InMemory:
    """Decisions for as long as the process runs."""

    def __init__(self) -> None:
        self._kept: dict[str, Decision] = {}

    def get(self, key: str) -> Decision | None:
        return self._kept.get(key)

    def put(self, key: str, decision: Decision) -> None:
        self._kept[key] = decision
