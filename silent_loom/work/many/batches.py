"""Many photos through a recipe as a job of the application: a material of each in the library, deliveries beside them."""

from __future__ import annotations

import hashlib
import time
from collections.abc import Sequence
from typing import Any

from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.parallel import Task
from silent_loom.core.delivery.profile import Profile
from silent_loom.core.delivery.shelf import Shelf, profile
from silent_loom.core.report.findings.sharpness import blurred
from silent_loom.core.ways.bake import BakeOrder
from silent_loom.core.ways.recipe_photos import through
from silent_loom.core.weave.answers.cache import Cache
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.dials import reseeded, turned
from silent_loom.core.weave.rows.saved import SavedRecipe, shipped
from silent_loom.store.recipes import Recipes
from silent_loom.store.states import Missing, State
from silent_loom.work.desk import Desk
from silent_loom.work.giving.zipping import zipped
from silent_loom.work.jobs import Job, Jobs
from silent_loom.work.many.results import Result, by_urgency, failure, measured

CACHE = 512 << 20
PATIENCE = 12
"""How often a batch is taken up again without one photo more: each of them may take longer than an application lives."""


class Batches:
    """Jobs that put many photos through one recipe."""

    def __init__(self, desk: Desk, jobs: Jobs, shelf: Shelf) -> None:
        self.desk, self.jobs, self.shelf, self.recipes = desk, jobs, shelf, Recipes(desk.store)
        jobs.can("batch", self._done, PATIENCE)

    def named(self, name: str) -> SavedRecipe:
        """A recipe of the library, or one that ships.

        Raises
        ------
        Missing
        """
        own = next((r for r in self.recipes.all() if r.name == name), None)
        found = own or shipped().get(name)
        if found is None:
            raise Missing("there is no such recipe", name, "It was thrown away.")
        return found

    def begin(
        self,
        name: str,
        photos: Sequence[tuple[str, str]],
        profiles: Sequence[str] = (),
        size: int = 1024,
        seed: int = 0,
        dials: dict[str, float] | None = None,
    ) -> Job:
        """A job.

        Parameters
        ----------
        photos : sequence of (str, str)
            Digests of stored photos, and the names of their files.
        profiles : sequence of str
            Deliveries that are made of every material; none unless told.

        Raises
        ------
        LoomError
            The recipe takes no photo, no photo is given, or a profile or dial is not known.
        """
        told = self.named(name)
        if not told.slots:
            raise LoomError("this recipe takes no photo", told.title, "Choose one that does.")
        if not photos:
            raise LoomError("no photo is chosen", told.title, "Choose some, or a folder.")
        for wanted in profiles:
            profile(wanted, self.shelf.folder)
        weave = turned(reseeded(told.weave, seed), dials or {})
        settings = {
            "recipe": name,
            "title": told.title,
            "weave": weave.model_dump(mode="json"),
            "photos": [list(p) for p in photos],
            "profiles": list(profiles),
            "size": size,
        }
        words = f"{len(photos)} photo{'s' if len(photos) != 1 else ''} through {told.title}"
        return self.jobs.add("batch", words, "", settings)

    def _done(self, job: Job) -> dict[str, Any]:
        """Do a job; what a kill had interrupted goes on behind what is done, and nothing is made twice."""
        said = job.settings
        self.desk.wait_for_kernels(early=False)
        rows = [Result.read(r) for r in job.result.get("rows", [])]
        done = {r.digest + r.photo for r in rows if r.state in ("done", "failed")}
        rows = [r for r in rows if r.digest + r.photo in done]
        photos = [(d, n) for d, n in said["photos"] if d + n not in done]
        total = len(said["photos"])
        for digest, file in photos:
            i = len(rows)
            result = Result(file, digest, "running")
            part = job.task.part(i / total, (i + 1) / total)
            job.note(f"{file} ({i + 1} of {total})")
            self._one(job, result, part)
            rows.append(result)
            job.result = self._told(said, rows)
            self.jobs.kept(job)  # a kill from here on finds this one done
        return self._told(said, rows)

    @staticmethod
    def _told(said: dict[str, Any], rows: list[Result]) -> dict[str, Any]:
        return {"recipe": said["title"], "of": len(said["photos"]), "rows": [r.as_dict() for r in by_urgency(rows)]}

    def _one(self, job: Job, result: Result, task: Task) -> None:
        began = time.monotonic()
        try:
            state = self._material(job, result, task)
            result.material = state.id
            evaluator = Evaluator(self.desk.store.sources, Cache(CACHE), self.desk.decisions)
            for k, name in enumerate(job.settings["profiles"]):
                wanted = profile(name, self.shelf.folder)
                self._delivered(
                    state, wanted, int(job.settings["size"]), result, evaluator, task.part(0.3 + 0.1 * k, 0.4 + 0.1 * k)
                )
            with self.desk.lane.hold(task):
                measured(result, evaluator, state.weave, 1024, task.part(0.9, 1))
            result.state = "done"
        except Exception as error:
            result.error, result.state = failure(error), "failed"
        result.seconds = round(time.monotonic() - began, 2)

    def _material(self, job: Job, result: Result, task: Task) -> State:
        """The material of a photo; the one that was made before a kill, where there is one."""
        ident = hashlib.sha256(f"{job.id} {result.digest} {result.photo}".encode()).hexdigest()[:12]
        try:
            return self.desk.store.get(ident)
        except Missing:
            pass
        from silent_loom.core.weave.rows.model import Weave

        recipe = Weave.model_validate(job.settings["weave"])
        ref = self.desk.store.source_ref(result.digest).model_copy(update={"name": result.photo})
        evaluator = Evaluator(self.desk.store.sources, Cache(CACHE), self.desk.decisions)
        result.soft = blurred(evaluator.sources.picture(result.digest), task)
        with self.desk.lane.hold(task):
            weave, result.why = through(evaluator, recipe, [(result.digest, ref)], task=task.part(0, 0.3))
        if (error := evaluator.plan(weave).error()) is not None:
            raise error
        title = result.photo.rpartition(".")[0].replace("_", " ").strip().capitalize() or job.settings["title"]
        state = self.desk.store.create(title, weave, f"{result.photo} through {job.settings['title']}", ident=ident)
        if any(r.name == job.settings["recipe"] for r in self.recipes.all()):
            self.recipes.follow(state.id, job.settings["recipe"])
        return state

    def _delivered(self, state: State, wanted: Profile, size: int, result: Result, evaluator: Evaluator, task: Task) -> None:
        there = next((d for d in self.desk.store.deliveries(state.id) if (d.profile, d.size) == (wanted.name, size)), None)
        if there is not None:
            result.out.append(there.id)
            return
        made = zipped(self.desk.store, evaluator, self.desk.lane, state, wanted, BakeOrder(size), task)
        result.out.append(made["delivery"])
        result.files += len(made["manifest"]["files"])
