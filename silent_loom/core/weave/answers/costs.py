"""What steps cost: seconds and bytes by row, the latest time each ran."""

from __future__ import annotations

import threading
from dataclasses import dataclass, field

MOST_TOLD = 5000
"""Costs and computations that are remembered: a server may run for weeks."""


@dataclass
class Costs:
    """Seconds spent in each step, by id of its row, the latest time it ran, and bytes of what it made then."""

    seconds: dict[str, float] = field(default_factory=dict)
    sizes: dict[str, int] = field(default_factory=dict)
    _alone: threading.Lock = field(default_factory=threading.Lock, repr=False, compare=False)

    def put(self, key: str, seconds: float, size: int = 0) -> None:
        with self._alone:
            for kept, value in ((self.seconds, seconds), (self.sizes, size)):
                kept.pop(key, None)
                kept[key] = value  # type: ignore[assignment]
                if len(kept) > MOST_TOLD:
                    kept.pop(next(iter(kept)))

    def told(self) -> list[tuple[str, float]]:
        """What is known now; another computation may add to it meanwhile."""
        with self._alone:
            return list(self.seconds.items())

    def memory(self) -> list[tuple[str, int]]:
        """Bytes of what each step made."""
        with self._alone:
            return list(self.sizes.items())
