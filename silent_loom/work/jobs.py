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

from silent_loom.core.base.errors import Cancelled, LoomError, refusal
from silent_loom.core.base.parallel import Lane, Rank, Task
from silent_loom.store.database import refused
from silent_loom.store.jobs import ENDED, KEPT, JobFacts, StoredJobs

log = logging.getLogger(__name__)
AGAIN = "taken up again"
GOT_ON = "kept"
MOST_TRIES = 3
"""How often a job is taken up again that was running when the application ended: it may be what ends it."""


@dataclass
class Job:
    """One job: data, so that it can be kept, taken up again and done elsewhere.

    Attributes
    ----------
    kind : str
        Which of the kinds of work it is.
    settings : dict
        All that the work needs to know, as JSON keeps it.
    state : str
        'waiting', 'running', 'done', 'stopped' or 'failed'.
    fraction, words
        How far it is.
    result : dict
        What it made, when done.
    """

    kind: str
    title: str
    material: str = ""
    settings: dict[str, Any] = field(default_factory=dict)
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
        shown = {
            k: getattr(self, k) for k in ("id", "kind", "title", "material", "settings", "state", "words", "error", "result")
        }
        return {**shown, "fraction": round(self.fraction, 4), "log": self.log[-50:], "seconds": round(spent, 2)}

    def facts(self) -> JobFacts:
        """The job as the store keeps it."""
        same = {k: getattr(self, k) for k in ("id", "kind", "title", "material", "settings", "state", "words", "error", "result")}
        return JobFacts(**same, log=tuple(self.log), seconds=self.seconds)

    def note(self, words: str) -> None:
        self.words = words
        self.log.append(f"{time.strftime('%H:%M:%S')} {words}")


Work = Callable[[Job], dict[str, Any]]
"""Does a job and gives its result; its task reports, and stops it."""


class Jobs:
    """Runs jobs one after another in the background; the screen's questions overtake them in the lane.

    Parameters
    ----------
    lane : Lane
    kept : StoredJobs, optional
        Where they are kept: what waited or ran when the application ended is taken up again by `resume`.
    """

    def __init__(self, lane: Lane, kept: StoredJobs | None = None) -> None:
        self._lane = lane
        self._kept = kept
        self._kinds: dict[str, Work] = {}
        self._tries: dict[str, int] = {}
        self._queue: queue.Queue[Job | None] = queue.Queue()
        self._jobs: dict[str, Job] = {}
        self._alone = threading.Lock()
        self._closing = False
        self._thread = threading.Thread(target=self._run, name="jobs", daemon=True)
        self._thread.start()

    def can(self, kind: str, work: Work, tries: int = MOST_TRIES) -> None:
        """Say how jobs of a kind are done, and how often one is taken up again that does not get on."""
        self._kinds[kind] = work
        self._tries[kind] = tries

    def add(self, kind: str, title: str, material: str = "", settings: dict[str, Any] | None = None) -> Job:
        """Put a job in the queue.

        Raises
        ------
        LoomError
            Nobody here can do such jobs.
        """
        if kind not in self._kinds:
            raise LoomError(f"there are no jobs of the kind '{kind}'", "job", f"There are {', '.join(self._kinds)}.")
        job = Job(kind, title, material, dict(settings or {}))
        self._keep(job)
        self._take(job)
        return job

    def resume(self) -> list[Job]:
        """Take up again what waited or ran when the application ended; ended jobs are told of as they were."""
        found = [] if self._kept is None else self._kept.all()
        again: list[Job] = []
        for facts in found:
            job = Job(**{k: v for k, v in vars(facts).items() if k != "log"}, log=list(facts.log))
            if job.state not in ("waiting", "running"):
                job.fraction = 1.0 if job.state == "done" else 0.0
                with self._alone:
                    self._jobs[job.id] = job
                continue
            got_on = max((i for i, line in enumerate(job.log) if line.endswith(f" {GOT_ON}")), default=-1)
            tries = sum(AGAIN in line for line in job.log[got_on + 1 :])
            if job.state == "running" and tries >= self._tries.get(job.kind, MOST_TRIES):
                job.state, job.error = "failed", f"the application ended {tries + 1} times while it ran"
                job.note("failed")
            elif job.kind not in self._kinds:
                job.state, job.error = "failed", f"nobody here can do jobs of the kind '{job.kind}'"
                job.note("failed")
            else:
                if job.state == "running":
                    job.note(AGAIN)
                job.state, job.words = "waiting", "waiting"
                again.append(job)
            self._keep(job)
            if job.state == "waiting":
                self._take(job)
            else:
                self._jobs[job.id] = job
        return again

    def _take(self, job: Job) -> None:
        job.task = Task(lambda f, words: self._note(job, f, words), self._lane, Rank.JOB)
        with self._alone:
            self._jobs[job.id] = job
            ended = [j.id for j in self._jobs.values() if j.state in ENDED]
            for old in ended[: max(0, len(ended) - KEPT)]:
                del self._jobs[old]
        self._queue.put(job)

    def kept(self, job: Job) -> None:
        """Keep what a running job has made so far; a kill from here on costs none of it, and it counts as getting on."""
        job.log.append(f"{time.strftime('%H:%M:%S')} {GOT_ON}")
        self._keep(job)

    def _keep(self, job: Job) -> None:
        if self._kept is not None:
            self._kept.put(job.facts())

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
            self._keep(job)
        return job

    def close(self) -> None:
        """Stop what runs; it waits, as what waited, for the next start."""
        self._closing = True
        for job in self._jobs.values():
            job.task.cancel()
        self._queue.put(None)
        self._thread.join(5)

    def _note(self, job: Job, fraction: float, words: str) -> None:
        job.fraction = fraction
        if not words or words == job.words:
            return
        # The log names maps and files; which step works on a map is told while it does
        if job.log and words.startswith(f"{job.log[-1][9:]}: "):
            job.words = words
        else:
            job.note(words)

    def _run(self) -> None:
        while (job := self._queue.get()) is not None:
            if job.state != "waiting":
                continue
            if self._closing:
                return
            job.state, job.started = "running", time.monotonic()
            try:
                self._keep(job)
                job.result = self._kinds[job.kind](job)
                job.state, job.fraction, job.words = "done", 1.0, "done"
            except Cancelled:
                job.state, job.words = ("waiting", "waiting") if self._closing else ("stopped", "stopped")
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
            try:
                self._keep(job)
            except (DatabaseError, OSError):
                log.exception("a job could not be kept")
