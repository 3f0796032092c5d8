"""What an evaluator asks for, from the store: sources and decisions."""

from __future__ import annotations

import threading
from pathlib import Path
from typing import TYPE_CHECKING

from silent_loom.core.ways.sources import FileSources
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.step import SourceInfo

if TYPE_CHECKING:
    from silent_loom.store.store import Store


class StoredSources(FileSources):
    """Sources straight from the store; facts come from the database without decoding."""

    def __init__(self, store: Store) -> None:
        def find(digest: str) -> tuple[Path, str, str]:
            blob = store.blob(digest)
            path = store.blobs.path(digest)
            if not path.is_file():
                raise KeyError(digest)
            return path, blob.name, blob.format

        super().__init__(find, keep_bytes=512 << 20, limits=store.limits)
        self._store = store

    def info(self, digest: str) -> SourceInfo:
        if digest not in self._infos:
            try:
                b = self._store.blob(digest)
            except KeyError:
                return super().info(digest)
            self._infos[digest] = SourceInfo(b.width, b.height, b.focal_px, b.focal_error, b.alpha)
        return self._infos[digest]


class StoredDecisions:
    """Decisions of the evaluator, kept in the store, with the latest ones at hand."""

    def __init__(self, store: Store) -> None:
        self._store = store
        self._near: dict[str, Decision] = {}
        self._unwritten: set[str] = set()
        self._passing = threading.local()
        self._lock = threading.Lock()

    def get(self, key: str) -> Decision | None:
        found = self._near.get(key)
        if found is None:
            found = self._store.get_decision(key)
            if found is not None:
                self._keep(key, found)
        elif key in self._unwritten and not getattr(self._passing, "on", False):
            # What was tried has become the state: its decision is worth keeping now
            self._unwritten.discard(key)
            self._store.put_decision(key, found)
        return found

    def put(self, key: str, decision: Decision) -> None:
        self._keep(key, decision)
        if getattr(self._passing, "on", False):
            self._unwritten.add(key)
        else:
            self._unwritten.discard(key)
            self._store.put_decision(key, decision)

    def _keep(self, key: str, decision: Decision) -> None:
        with self._lock:
            self._near[key] = decision
            while len(self._near) > 512:
                oldest = next(iter(self._near))
                self._near.pop(oldest)
                self._unwritten.discard(oldest)

    def passing(self, on: bool) -> None:
        """While a control is dragged its decisions are not worth a write; this thread's are then kept in memory only."""
        self._passing.on = on
