"""Values that were computed, as many as fit into a number of bytes."""

from __future__ import annotations

import threading
from collections import Counter, OrderedDict
from collections.abc import Iterable

from silent_loom.core.base.images import Image


class Cache:
    """Least recently used values go first.

    Parameters
    ----------
    max_bytes : int
        Bound on the samples kept; a single value larger than this is not kept.
    """

    def __init__(self, max_bytes: int = 1 << 30) -> None:
        self.max_bytes = max_bytes
        self._values: OrderedDict[str, Image] = OrderedDict()
        self._sizes: dict[str, int] = {}  # as counted: an image kept in codes grows when somebody wants its light
        self._bytes = 0
        self._held: Counter[str] = Counter()
        self._aside: dict[str, Image] = {}  # values that are held; they do not count
        self._lock = threading.Lock()

    @property
    def nbytes(self) -> int:
        return self._bytes

    @property
    def held_bytes(self) -> int:
        """Bytes of values that are held, which do not count towards the bound."""
        with self._lock:
            return sum(value.nbytes for value in self._aside.values())

    def __len__(self) -> int:
        return len(self._values)

    def __contains__(self, key: str) -> bool:
        return key in self._values or key in self._aside

    def get(self, key: str) -> Image | None:
        with self._lock:
            if key in self._aside:
                return self._aside[key]
            value = self._values.get(key)
            if value is not None:
                self._values.move_to_end(key)
                self._count(key, value.nbytes)
            return value

    def put(self, key: str, value: Image) -> None:
        with self._lock:
            if key in self._held:
                self._aside[key] = value
                return
            if self._values.pop(key, None) is not None:
                self._count(key, 0)
            if value.nbytes > self.max_bytes:
                return
            self._values[key] = value
            self._count(key, value.nbytes)

    def hold(self, keys: Iterable[str]) -> None:
        """Keep these values from now on, however large, until they are released as often."""
        with self._lock:
            for key in keys:
                self._held[key] += 1
                value = self._values.pop(key, None)
                if value is not None:
                    self._count(key, 0)
                    self._aside[key] = value

    def release(self, keys: Iterable[str]) -> None:
        """Let go of what was held; what fits is kept as everything else is."""
        let_go: list[tuple[str, Image]] = []
        with self._lock:
            for key in keys:
                self._held[key] -= 1
                if self._held[key] <= 0:
                    del self._held[key]
                    if key in self._aside:
                        let_go.append((key, self._aside.pop(key)))
        for key, value in let_go:
            self.put(key, value)

    def _count(self, key: str, size: int) -> None:
        self._bytes += size - self._sizes.get(key, 0)
        self._sizes[key] = size
        while self._bytes > self.max_bytes and self._values:
            old, _ = self._values.popitem(last=False)
            self._bytes -= self._sizes.pop(old)

    def clear(self) -> None:
        with self._lock:
            self._values.clear()
            self._sizes.clear()
            self._bytes = 0
