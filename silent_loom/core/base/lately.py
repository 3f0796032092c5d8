"""What was worked out of the same arrays a moment ago."""

from __future__ import annotations

import threading
import weakref
from collections.abc import Callable, Hashable, Sequence
from typing import Any, Generic, TypeVar, cast

from numpy.typing import NDArray

R = TypeVar("R")


class Lately(Generic[R]):
    """The latest few results of one computation.

    Arrays are known by being the same object, so nothing is compared; samples of images never change. They are not kept
    alive by this: a result goes with the arrays that it came of.

    Parameters
    ----------
    most : int
        Results that are kept.
    """

    def __init__(self, most: int = 3) -> None:
        self.most = most
        self._kept: list[tuple[tuple[Any, ...], Hashable, R]] = []
        self._lock = threading.Lock()

    def of(self, arrays: Sequence[NDArray[Any] | None], told: Hashable, work: Callable[[], R]) -> R:
        """The result for these arrays and numbers, computed where it is not there.

        >>> import numpy as np
        >>> lately, plane = Lately(), np.ones(3)
        >>> lately.of([plane], 2, lambda: plane.sum() * 2), lately.of([plane], 2, lambda: 0.0)
        (np.float64(6.0), np.float64(6.0))
        """
        with self._lock:
            self._kept = [kept for kept in self._kept if all(a is None or a() is not None for a in kept[0])]
            for refs, other, result in self._kept:
                there = [None if a is None else a() for a in refs]
                if other == told and len(there) == len(arrays) and all(a is b for a, b in zip(there, arrays, strict=True)):
                    return result
        result = work()
        with self._lock:
            refs = tuple(None if a is None else weakref.ref(cast(Any, a)) for a in arrays)
            self._kept = [*self._kept, (refs, told, result)][-self.most :]
        return result
