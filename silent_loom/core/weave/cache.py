"""Values that were computed, as many as fit into a number of bytes."""

from __future__ import annotations

import threading
from collections import OrderedDict

from silent_loom.core.images import Image


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
        self._bytes = 0
        self._lock = threading.Lock()

    @property
    def nbytes(self) -> int:
        return self._bytes

    def __len__(self) -> int:
        return len(self._values)

    def __contains__(self, key: str) -> bool:
        return key in self._values

    def get(self, key: str) -> Image | None:
        with self._lock:
            value = self._values.get(key)
            if value is not None:
                self._values.move_to_end(key)
            return value

    def put(self, key: str, value: Image) -> None:
        with self._lock:
            if key in self._values:
                self._bytes -= self._values.pop(key).nbytes
            if value.nbytes > self.max_bytes:
                return
            self._values[key] = value
            self._bytes += value.nbytes
            while self._bytes > self.max_bytes:
                _, old = self._values.popitem(last=False)
                self._bytes -= old.nbytes

    def clear(self) -> None:
        with self._lock:
            self._values.clear()
            self._bytes = 0
