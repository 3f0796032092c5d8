"""A bounded memory of what was asked last."""

from __future__ import annotations

import threading
from collections import OrderedDict
from typing import Generic, TypeVar

K = TypeVar("K")
R = TypeVar("R")


class Few(Generic[K, R]):
    """The latest of something, as many as are told."""

    def __init__(self, most: int) -> None:
        self._kept: OrderedDict[K, R] = OrderedDict()
        self._most, self._lock = most, threading.Lock()

    def get(self, key: K) -> R | None:
        with self._lock:
            return self._kept.get(key)

    def put(self, key: K, value: R) -> None:
        with self._lock:
            self._kept[key] = value
            while len(self._kept) > self._most:
                self._kept.popitem(last=False)
