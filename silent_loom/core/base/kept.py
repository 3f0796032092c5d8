"""Fields drawn last, kept for the next touch of a dial: most dials of a pattern leave most of its fields as they are."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import Any, TypeVar

BOUND = 96 << 20
"""Bytes that are kept at most."""
LARGEST = 32 << 20
"""Bytes of what is worth keeping: what a dial waits for is drawn at 1024 texels, and larger ones are seldom asked for twice."""

T = TypeVar("T")


class Kept:
    """Answers by what was asked, the ones not used for longest given up first.

    Whoever gets one shares it with all others, and must not change its arrays.
    """

    def __init__(self, bound: int = BOUND, largest: int = LARGEST) -> None:
        self._bound, self._largest, self._held = bound, largest, 0
        self._answers: OrderedDict[Hashable, tuple[int, Any]] = OrderedDict()
        self._lock = threading.Lock()

    def answer(self, key: Hashable, made: Callable[[], T], size: Callable[[T], int]) -> T:
        """What was asked before, or made now.

        >>> kept = Kept()
        >>> [kept.answer("a", lambda: k, lambda n: 8) for k in (1, 2)]
        [1, 1]
        """
        with self._lock:
            if key in self._answers:
                self._answers.move_to_end(key)
                known: T = self._answers[key][1]
                return known
        new = made()
        weight = size(new)
        if weight <= self._largest:
            with self._lock:
                if key not in self._answers:
                    self._answers[key] = weight, new
                    self._held += weight
                while self._held > self._bound:
                    self._held -= self._answers.popitem(last=False)[1][0]
        return new

    @property
    def answers(self) -> list[Any]:
        """Everything that is kept."""
        with self._lock:
            return [answer for _, answer in self._answers.values()]

    @property
    def held(self) -> int:
        """Bytes."""
        return self._held

    def forget(self) -> None:
        """Give everything up."""
        with self._lock:
            self._answers.clear()
            self._held = 0


KEPT = Kept()
