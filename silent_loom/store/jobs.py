"""Jobs in the database: whoever starts the application anew finds what was not done yet."""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import delete, select

from silent_loom.store import tables as t
from silent_loom.store.store import Store

KEPT = 100
"""Ended jobs that are remembered."""
ENDED = ("done", "stopped", "failed")


@dataclass(frozen=True)
class JobFacts:
    """A job as it is stored.

    Attributes
    ----------
    kind : str
        What kind of work it is; who knows that kind can do it.
    settings : dict
        Everything that the work needs to know, as JSON keeps it.
    state : str
        'waiting', 'running', 'done', 'stopped' or 'failed'.
    """

    id: str
    kind: str
    title: str
    material: str = ""
    settings: dict[str, Any] = field(default_factory=dict)
    state: str = "waiting"
    words: str = "waiting"
    error: str = ""
    result: dict[str, Any] = field(default_factory=dict)
    log: tuple[str, ...] = ()
    seconds: float = 0.0


class StoredJobs:
    """The jobs of one store."""

    def __init__(self, store: Store) -> None:
        self._store = store

    def put(self, job: JobFacts) -> None:
        """Keep a job as it is now; of ended ones only the latest are kept."""
        with self._store.writing() as session:
            row = session.get(t.StoredJob, job.id)
            if row is None:
                row = t.StoredJob(id=job.id, kind=job.kind)
                session.add(row)
            row.title, row.material_id, row.state = job.title[:300], job.material, job.state
            row.words, row.error, row.seconds = job.words[:300], job.error, job.seconds
            row.settings, row.result, row.log = json.dumps(job.settings), json.dumps(job.result), json.dumps(job.log[-200:])
            if job.state in ENDED:
                session.flush()
                late = select(t.StoredJob.id).where(t.StoredJob.state.in_(ENDED)).order_by(t.StoredJob.created_at.desc())
                session.execute(delete(t.StoredJob).where(t.StoredJob.id.in_(late.offset(KEPT).limit(1000).scalar_subquery())))

    def all(self) -> list[JobFacts]:
        """Every job that is remembered, the oldest first."""
        with self._store.reading() as session:
            rows = session.scalars(select(t.StoredJob).order_by(t.StoredJob.created_at, t.StoredJob.id))
            return [_facts(row) for row in rows]


def _facts(row: t.StoredJob) -> JobFacts:
    try:
        return _read(row)
    except (ValueError, TypeError, RecursionError):
        words = "what was noted of this job cannot be read"
        return JobFacts(str(row.id), str(row.kind), str(row.title), str(row.material_id), {}, "failed", "failed", words)


def _read(row: t.StoredJob) -> JobFacts:
    settings, result, log = (json.loads(text) for text in (row.settings, row.result, row.log))
    if not isinstance(settings, dict) or not isinstance(result, dict) or not isinstance(log, list):
        raise ValueError
    return JobFacts(
        row.id,
        row.kind,
        row.title,
        row.material_id,
        settings,
        row.state,
        row.words,
        row.error,
        result,
        tuple(str(line) for line in log),
        row.seconds,
    )
