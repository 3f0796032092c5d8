"""Bands of rows on every core, with a place between them to stop or to let somebody else go first.

Kernels are serial numba functions that release the interpreter lock and work on rows ``y0 … y1``. They are spread over
threads here and not by numba's own parallel loops: bands can be cancelled and pre-empted, any number of threads may
call at once whichever threading layer numba finds, and a serial kernel compiles in a fraction of the time.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager
from enum import IntEnum
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.errors import Cancelled

WORKERS = max(1, len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else (os.cpu_count() or 1))
_pool = ThreadPoolExecutor(WORKERS, thread_name_prefix="band")
_pairs = ThreadPoolExecutor(16, thread_name_prefix="beside")  # its calls may wait for bands, so never in the same pool


class Rank(IntEnum):
    """What goes first where computations share a lane: a higher one overtakes a lower one at its next checkpoint."""

    JOB = 0
    """Nobody looks: a delivery, say."""
    ASIDE = 1
    """Seen beside the picture: figures, histograms, small pictures."""
    TABLE = 2
    """The picture itself, at rest."""
    HAND = 3
    """The picture under a moving hand."""


class Task:
    """One computation under way: can be cancelled, reports how far it is, and steps aside between bands.

    Parameters
    ----------
    progress : callable, optional
        Called with a fraction in 0…1 and a few words.
    lane, rank
        The lane this computation shares with others, and what it lets go first there.
    """

    def __init__(
        self,
        progress: Callable[[float, str], None] | None = None,
        lane: Lane | None = None,
        rank: Rank = Rank.HAND,
    ) -> None:
        self._cancelled = threading.Event()
        self._progress = progress
        self.lane, self.rank = lane, rank
        self._whole: Task = self
        self._last = (0.0, "")

    def part(self, start: float, end: float) -> Task:
        """A task for a part of this one: its progress runs from ``start`` to ``end`` of this one's, cancelled together and
        owning the lane together. Nothing is reported when both are equal."""
        quiet = start == end
        child = Task(None if quiet else lambda f, words: self.report(start + (end - start) * f, words), self.lane, self.rank)
        child._cancelled = self._cancelled
        child._whole = self._whole
        return child

    def cancel(self) -> None:
        self._cancelled.set()

    @property
    def cancelled(self) -> bool:
        return self._cancelled.is_set()

    def checkpoint(self) -> None:
        """Between two bands: stop here when cancelled, or let a more urgent computation go first."""
        if self._cancelled.is_set():
            raise Cancelled
        if self.lane is not None:
            self.lane.step_aside(self)

    def report(self, fraction: float, words: str = "") -> None:
        if self._progress is not None:
            self._last = (min(1.0, max(0.0, fraction)), words)
            self._progress(*self._last)

    def doing(self, words: str) -> None:
        """Say what is being done of what was reported last, without moving the bar: the step that works on a map."""
        whole = self._whole
        if whole._progress is not None:
            fraction, before = whole._last
            whole._progress(fraction, f"{before}: {words}" if before else words)


class Lane:
    """One computation at a time owns the cores; one of higher rank overtakes at the next checkpoint of another."""

    def __init__(self) -> None:
        self._state = threading.Condition()
        self._owner: Task | None = None
        self._waiting = dict.fromkeys(Rank, 0)
        self._begun = dict.fromkeys(Rank, 0)  # of those that wait, how many have stepped aside
        self._aside: set[Task] = set()
        self._blocks: dict[Task, object] = {}  # of every computation, the block in which it holds the lane now

    @contextmanager
    def hold(self, task: Task) -> Iterator[None]:
        """Own the lane while the block runs.

        Raises
        ------
        Cancelled
            When the task was cancelled while it waited.
        """
        self._acquire(task)
        with self._state:
            self._blocks[task] = object()
        try:
            yield
        finally:
            with self._state:
                self._blocks.pop(task, None)
                self._release(task)

    def step_aside(self, task: Task) -> None:
        """Let every waiting computation of higher rank go first.

        Another thread of the same computation, one that writes a file, may be the one that steps aside. Where the block in
        which the lane was held has ended meanwhile, it goes on without the lane: nobody would give it back.
        """
        whole = task._whole
        with self._state:
            while whole in self._aside:  # stepped aside already, in another thread of this computation
                if whole.cancelled:
                    raise Cancelled
                self._state.wait(0.05)
            if not self._before(task) or self._owner is not whole:
                return
            self._aside.add(whole)
            block = self._blocks.get(whole)
            self._release(whole)
            try:
                self._acquire(whole, begun=True, wanted=lambda: self._blocks.get(whole) is block)
            finally:
                self._aside.discard(whole)
                self._state.notify_all()

    def _before(self, task: Task) -> bool:
        return any(count for rank, count in self._waiting.items() if rank > task.rank)

    def _acquire(self, task: Task, begun: bool = False, wanted: Callable[[], bool] = lambda: True) -> None:
        """Wait for the lane, as long as it is wanted; of one rank, who has begun ends first, or unfinished work would pile up."""
        with self._state:
            self._waiting[task.rank] += 1
            self._begun[task.rank] += begun
            try:
                while self._owner is not None or self._before(task) or (not begun and self._begun[task.rank]):
                    if task.cancelled:
                        raise Cancelled
                    if not wanted():
                        return
                    self._state.wait(0.05)
                if task.cancelled:
                    raise Cancelled
                if wanted():
                    self._owner = task
            finally:
                self._waiting[task.rank] -= 1
                self._begun[task.rank] -= begun
                self._state.notify_all()

    def _release(self, task: Task) -> None:
        with self._state:
            if self._owner is task:  # it is not when it was cancelled while it had stepped aside
                self._owner = None
            self._state.notify_all()


IDLE = Task()


def over_rows(rows: int, work: Callable[[int, int], Any], task: Task = IDLE, least: int = 32, cost: float = 1.0) -> None:
    """Call ``work(y0, y1)`` for bands that cover ``0 … rows``, on every core.

    Parameters
    ----------
    rows : int
        Number of rows.
    work : callable
        Takes the first row and the one after the last; must release the interpreter lock to gain anything.
    task : Task
        Asked between rounds of bands whether to go on.
    least : int
        Smallest band worth a thread.
    cost : float
        Rough milliseconds for 64 rows, to keep a band under about 30 ms.
    """
    rounds = max(1, -(-rows * cost // (64 * 30 * WORKERS)))  # of one band for every worker, none left idle
    band = max(least, int(-(-rows // (WORKERS * rounds))))
    starts = list(range(0, rows, band))
    if len(starts) == 1:
        task.checkpoint()
        work(0, rows)
        return
    for i in range(0, len(starts), WORKERS):
        task.checkpoint()
        chunk = [(y, min(rows, y + band)) for y in starts[i : i + WORKERS]]
        calls = [partial(work, *rows) for rows in chunk]
        futures = [_pool.submit(call) for call in calls[1:]]
        calls[0]()
        for future, call in zip(futures, calls[1:], strict=True):
            _result(future, call)


def both(*calls: Callable[[], Any]) -> list[Any]:
    """Run independent calls side by side and give their results in order.

    >>> both(lambda: 2 + 3, lambda: "slate")
    [5, 'slate']
    """
    futures = [_pairs.submit(call) for call in calls[1:]]
    first = calls[0]()
    return [first, *(_result(future, call) for future, call in zip(futures, calls[1:], strict=True))]


def _result(future: Future[Any], call: Callable[[], Any]) -> Any:
    """What a call gives; made here where no thread has begun it, so that nobody waits for a pool whose threads all wait."""
    return call() if future.cancel() else future.result()


def copied(samples: NDArray[Any]) -> NDArray[Any]:
    """A copy, made on every core: most of its time goes into memory that was never used before.

    >>> import numpy as np
    >>> samples = np.arange(6, dtype=np.float32).reshape(2, 3)
    >>> copied(samples).tolist(), copied(samples) is samples
    ([[0.0, 1.0, 2.0], [3.0, 4.0, 5.0]], False)
    """
    out = np.empty_like(samples)
    over_rows(len(samples), lambda first, last: np.copyto(out[first:last], samples[first:last]))
    return out
