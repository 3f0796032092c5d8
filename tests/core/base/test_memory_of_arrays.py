"""Results remembered for the same arrays, and for no others."""

from __future__ import annotations

import gc
import weakref

import numpy as np

from silent_loom.core.base.bounded_memory import MemoryOfArrays


def test_the_same_arrays_and_numbers_are_worked_out_once() -> None:
    memory: MemoryOfArrays[int] = MemoryOfArrays()
    one, other = np.zeros(3), np.zeros(3)
    asked: list[str] = []

    def work(name: str) -> int:
        asked.append(name)
        return len(asked)

    assert memory.of([one, None], 1, lambda: work("first")) == 1
    assert memory.of([one, None], 1, lambda: work("again")) == 1
    assert memory.of([other, None], 1, lambda: work("equal, but another")) == 2
    assert memory.of([one, None], 2, lambda: work("another number")) == 3
    assert memory.of([None, one], 1, lambda: work("another place")) == 4
    assert asked == ["first", "equal, but another", "another number", "another place"]


def test_only_the_latest_are_kept_and_no_array_lives_on() -> None:
    memory: MemoryOfArrays[int] = MemoryOfArrays(2)
    arrays = [np.zeros(2) for _ in range(3)]
    for i, array in enumerate(arrays):
        assert memory.of([array], 0, lambda i=i: i) == i  # type: ignore[misc]
    assert memory.of([arrays[0]], 0, lambda: 7) == 7  # pushed out
    assert memory.of([arrays[2]], 0, lambda: 7) == 2
    seen = weakref.ref(arrays[2])
    del arrays, array
    gc.collect()
    assert seen() is None
    assert memory.of([np.zeros(2)], 0, lambda: 9) == 9
    assert len(memory) == 1
