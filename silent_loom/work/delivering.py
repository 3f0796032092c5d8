"""Deliveries as jobs."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from silent_loom.core.delivery.profile import profile
from silent_loom.work.desk import Desk
from silent_loom.work.jobs import Job, Jobs
from silent_loom.work.zipping import zipped


class Delivering:
    """Zips of stored materials, made in the background."""

    def __init__(self, desk: Desk, jobs: Jobs) -> None:
        self.desk, self.jobs = desk, jobs
        jobs.can("deliver", self._delivered)

    def deliver(self, ident: str, profile_name: str, size: int) -> Job:
        """A job that makes a zip of a material as it stands now."""
        wanted, state = profile(profile_name), self.desk.store.get(ident)
        if (error := self.desk.evaluator.plan(state.weave).error()) is not None:
            raise error
        settings = {"entry": state.head, "profile": wanted.name, "size": size}
        return self.jobs.add("deliver", f"{state.name}: {wanted.title}, {size}", ident, settings)

    def _delivered(self, job: Job) -> dict[str, Any]:
        """Do a job of delivering: the state that it was asked of, whatever the material has become since."""
        state = self.desk.store.get(job.material)
        then = replace(state, head=job.settings["entry"], weave=self.desk.store.weave_at(job.material, job.settings["entry"]))
        self.desk.wait_for_kernels(early=False)
        wanted = profile(job.settings["profile"])
        return zipped(self.desk.store, self.desk.evaluator, self.desk.lane, then, wanted, job.settings["size"], job.task)
