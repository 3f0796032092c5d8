"""Who asked: when nobody waits for an answer any more, it is not computed further."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar

from silent_loom.core.base.errors import Cancelled
from silent_loom.core.base.parallel import Task


class Asker:
    """One who asked, a page for example, and the computations that run for it."""

    def __init__(self) -> None:
        self._tasks: list[Task] = []
        self._gone = False
        self._lock = threading.Lock()

    def add(self, task: Task) -> None:
        """Cancel this one too when the asker leaves."""
        with self._lock:
            self._tasks.append(task)
            gone = self._gone
        if gone:
            task.cancel()

    def leave(self) -> None:
        """Give up whatever is computed for the asker."""
        with self._lock:
            self._gone = True
            tasks = list(self._tasks)
        for task in tasks:
            task.cancel()

    def check(self) -> None:
        """Go on only while somebody waits.

        Raises
        ------
        Cancelled
            The asker has left.
        """
        if self._gone:
            raise Cancelled


_present: ContextVar[Asker | None] = ContextVar("asker", default=None)


def present() -> Asker | None:
    """For whom the present thread computes."""
    return _present.get()


@contextmanager
def asking(asker: Asker) -> Iterator[None]:
    """Whatever begins inside, in threads too that take this context along, is for this asker."""
    token = _present.set(asker)
    try:
        yield
    finally:
        _present.reset(token)
