"""A bounded memory of answers: what was not used for longest is given up first."""

from __future__ import annotations

import sys
import threading
import weakref
from collections import OrderedDict
from collections.abc import Callable, Hashable, Sequence
from typing import Any, Generic, TypeVar, cast

from numpy.typing import NDArray

K = TypeVar("K", bound=Hashable)
R = TypeVar("R")


class Memory(Generic[K, R]):
    """Answers by what was asked.

    Whoever gets an answer shares it with all others, and must not change its arrays.

    Parameters
    ----------
    most : int
        Answers that are kept at most.
    most_bytes : int
        Bytes that are kept at most, as far as those who put answers in tell how large they are.
    largest : int
        Bytes of an answer that is worth keeping.
    """

    def __init__(self, most: int = sys.maxsize, most_bytes: int = sys.maxsize, largest: int = sys.maxsize) -> None:
        self._most, self._most_bytes, self._largest = most, most_bytes, largest
        self._answers: OrderedDict[K, tuple[int, R]] = OrderedDict()
        self._held = 0
        self._lock = threading.Lock()

    def get(self, key: K) -> R | None:
        """What is known of this, or None."""
        with self._lock:
            if key not in self._answers:
                return None
            self._answers.move_to_end(key)
            return self._answers[key][1]

    def put(self, key: K, answer: R, size: int = 0) -> None:
        """Keep an answer of a size in bytes, in the place of one that is known."""
        with self._lock:
            self._drop(key)
            if size > self._largest:
                return
            self._answers[key] = size, answer
            self._held += size
            while len(self._answers) > self._most or self._held > self._most_bytes:
                self._drop(next(iter(self._answers)))

    def answer(self, key: K, work: Callable[[], R], size: Callable[[R], int] = lambda _: 0) -> R:
        """What was asked before, or worked out now.

        >>> memory = Memory()
        >>> [memory.answer("a", lambda: k, lambda n: 8) for k in (1, 2)]
        [1, 1]
        """
        with self._lock:
            if key in self._answers:
                self._answers.move_to_end(key)
                return self._answers[key][1]
        new = work()
        self.put(key, new, size(new))
        return new

    @property
    def answers(self) -> list[R]:
        """Everything that is kept."""
        with self._lock:
            return [answer for _, answer in self._answers.values()]

    @property
    def held(self) -> int:
        """Bytes."""
        return self._held

    def __len__(self) -> int:
        return len(self._answers)

    def keep_if(self, wanted: Callable[[R], bool]) -> None:
        """Give up what is not wanted any more."""
        with self._lock:
            for key in [key for key, (_, answer) in self._answers.items() if not wanted(answer)]:
                self._drop(key)

    def forget(self) -> None:
        """Give everything up."""
        with self._lock:
            self._answers.clear()
            self._held = 0

    def _drop(self, key: K) -> None:
        self._held -= self._answers.pop(key, (0, None))[0]


Refs = tuple["weakref.ref[Any] | None", ...]


class MemoryOfArrays(Generic[R]):
    """The latest results of one computation on arrays.

    Arrays are known by being the same object, so nothing is compared; samples of images never change. They are not kept alive
    by this: a result goes with the arrays that it came of.

    Parameters
    ----------
    most : int
        Results that are kept.
    """

    def __init__(self, most: int = 3) -> None:
        self._results: Memory[Hashable, tuple[Refs, R]] = Memory(most)

    def of(self, arrays: Sequence[NDArray[Any] | None], told: Hashable, work: Callable[[], R]) -> R:
        """The result for these arrays and numbers, computed where it is not there.

        >>> import numpy as np
        >>> memory, plane = MemoryOfArrays(), np.ones(3)
        >>> memory.of([plane], 2, lambda: plane.sum() * 2), memory.of([plane], 2, lambda: 0.0)
        (np.float64(6.0), np.float64(6.0))
        """
        self._results.keep_if(lambda known: all(a is None or a() is not None for a in known[0]))
        key = tuple(id(a) for a in arrays), told
        known = self._results.get(key)
        # An address may have been given to another array since
        if known is not None and all(b is None if a is None else a() is b for a, b in zip(known[0], arrays, strict=True)):
            return known[1]
        result = work()
        refs = tuple(None if a is None else weakref.ref(cast(Any, a)) for a in arrays)
        self._results.put(key, (refs, result))
        return result

    def __len__(self) -> int:
        return len(self._results)
