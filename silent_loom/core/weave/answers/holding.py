"""What several maps are made from is kept while they are made one after the other, and no longer than any of them needs it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Self

from silent_loom.core.weave.answers.cache import Cache
from silent_loom.core.weave.answers.inputs import Place


class Holding:
    """Values that are kept whatever the cache's bound, while a block runs.

    Parameters
    ----------
    cache : Cache
    tops : mapping of str to tuple
        Places of the maps that will be asked for, by name.
    key, needs : callable
        Key of a place, and the places that its value is made of.
    """

    def __init__(
        self, cache: Cache, tops: Mapping[str, Place], key: Callable[[Place], str], needs: Callable[[Place], list[Place]]
    ) -> None:
        self._cache, self._left, self._key, self._needs = cache, dict(tops), key, needs
        uses: dict[str, int] = {}
        todo = list(tops.values())
        while todo:
            place = todo.pop()
            known = key(place)
            uses[known] = uses.get(known, 0) + 1
            if uses[known] == 1:
                todo += needs(place)
        self._held = {known for known, n in uses.items() if n > 1}
        cache.hold(self._held)

    def made(self, name: str) -> None:
        """Let go of what no map needs that is still to be made: a sheet of 8192² is a gigabyte for four channels."""
        if self._left.pop(name, None) is None:
            return
        reached: set[str] = set()
        todo = list(self._left.values())
        while todo:
            place = todo.pop()
            known = self._key(place)
            if known in reached:
                continue
            reached.add(known)
            if known not in self._cache:  # what is there need not be made again from what lies above it
                todo += self._needs(place)
        done = self._held - reached
        self._held -= done
        self._cache.release(done)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self._cache.release(self._held)
        self._held = set()
