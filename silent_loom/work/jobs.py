"""Jobs: what takes over a second, one after another, with progress in words, a log and cancel."""

from __future__ import annotations

import logging
import queue
import secrets
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy.exc import DatabaseError

from silent_loom.core.errors import Cancelled, LoomError, refusal
from silent_loom.core.parallel import Lane, Rank, Task
from silent_loom.store.database import refused

log = logging.getLogger(__name__)
KEPT = 100
"""Ended jobs that are still told of."""


@dataclass
class Job:
    """One job.

    Attributes
    ----------
    state : str
        'waiting', 'running', 'done', 'stopped' or 'failed'.
    fraction, words
        How far it is.
    result : dict
        What it made, when done.
    """

    title: str
    material: str
    work: Callable[[Task], dict[str, Any]] = field(repr=False)
    id: str = field(default_factory=lambda: secrets.token_hex(6))
    state: str = "waiting"
    fraction: float = 0.0
    words: str = "waiting"
    error: str = ""
    result: dict[str, Any] = field(default_factory=dict)
    log: list[str] = field(default_factory=list)
    started: float = 0.0
    seconds: float = 0.0
    task: Task = field(default_factory=Task, repr=False)

    def as_dict(self) -> dict[str, Any]:
        spent = time.monotonic() - self.started if self.state == "running" else self.seconds
        shown = {k: getattr(self, k) for k in ("id", "title", "material", "state", "words", "error", "result")}
        return {**shown, "fraction": round(self.fraction, 4), "log": self.log[-50:], "seconds": round(spent, 2)}


class Jobs:
    """Runs jobs one after another in the background; the screen's questions overtake them in the lane."""

    def __init__(self, lane: Lane) -> None:
        self._lane = lane
        self._queue: queue.Queue[Job | None] = queue.Queue()
        self._jobs: dict[str, Job] = {}
        self._alone = threading.Lock()
        self._thread = threading.Thread(target=self._run, name="jobs", daemon=True)
        self._thread.start()

    def add(self, title: str, material: str, work: Callable[[Task], dict[str, Any]]) -> Job:
        """Put a job in the queue."""
        job = Job(title, material, work)
        job.task = Task(lambda f, words: self._note(job, f, words), self._lane, Rank.JOB)
        with self._alone:
            self._jobs[job.id] = job
            ended = [j.id for j in self._jobs.values() if j.state in ("done", "stopped", "failed")]
            for old in ended[: max(0, len(ended) - KEPT)]:
                del self._jobs[old]
        self._queue.put(job)
        return job

    def get(self, ident: str) -> Job:
        """One job.

        Raises
        ------
        LoomError
            There is none of this id (the application was started anew).
        """
        if ident not in self._jobs:
            raise LoomError("there is no such job", ident, "It ended when the application was closed; start it again.")
        return self._jobs[ident]

    def all(self) -> list[Job]:
        with self._alone:
            return list(self._jobs.values())

    def cancel(self, ident: str) -> Job:
        job = self.get(ident)
        job.task.cancel()
        if job.state == "waiting":
            job.state, job.words = "stopped", "stopped"
        return job

    def close(self) -> None:
        for job in self._jobs.values():
            job.task.cancel()
        self._queue.put(None)
        self._thread.join(5)

    def _note(self, job: Job, fraction: float, words: str) -> None:
        job.fraction = fraction
        if words and words != job.words:
            job.words = words
            job.log.append(f"{time.strftime('%H:%M:%S')} {words}")

    def _run(self) -> None:
        while (job := self._queue.get()) is not None:
            if job.state != "waiting":
                continue
            job.state, job.started = "running", time.monotonic()
            try:
                job.result = job.work(job.task)
                job.state, job.fraction, job.words = "done", 1.0, "done"
            except Cancelled:
                job.state, job.words = "stopped", "stopped"
            except LoomError as error:
                job.state, job.words, job.error = "failed", "failed", str(error)
            except OSError as error:
                job.state, job.words, job.error = "failed", "failed", str(refusal(error))
            except DatabaseError as error:
                job.state, job.words, job.error = "failed", "failed", str(refused(error))
            except Exception as error:
                log.exception("job failed")
                job.state, job.words, job.error = "failed", "failed", f"{type(error).__name__}: {error}"
            job.seconds = time.monotonic() - job.started
