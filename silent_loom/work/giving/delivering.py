"""Bakes, deliveries and their proofs, as jobs."""

from __future__ import annotations

from dataclasses import asdict, replace
from typing import Any

from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.images import Image
from silent_loom.core.delivery.baking.forecast import check_memory, memory_there
from silent_loom.core.delivery.baking.makers import How, maker
from silent_loom.core.delivery.completing import completed
from silent_loom.core.delivery.fitting import fit, fitted
from silent_loom.core.delivery.profile import Profile
from silent_loom.core.delivery.proving.proof import verdict
from silent_loom.core.delivery.shelf import Shelf, known, of_manifest, profile
from silent_loom.core.ways.bake import BakeOrder
from silent_loom.core.ways.squared import squared
from silent_loom.work.desk import Desk
from silent_loom.work.giving.received import Receiving
from silent_loom.work.giving.zipping import zipped
from silent_loom.work.jobs import Job, Jobs


class Delivering:
    """Zips of stored materials, made in the background, and read back."""

    def __init__(self, desk: Desk, jobs: Jobs, shelf: Shelf, receiving: Receiving) -> None:
        self.desk, self.jobs, self.shelf, self.receiving = desk, jobs, shelf, receiving
        jobs.can("deliver", self._delivered)
        jobs.can("proof", self._proved)

    def deliver(self, ident: str, wanted: str | Profile, order: BakeOrder, source: str = "") -> Job:
        """A job that makes a zip of a material as it stands now, or out of an earlier bake of it (``source``, a delivery's id).

        Raises
        ------
        LoomError
            There is no such profile, a step cannot run, or it would need more memory than there is.
        """
        found = profile(wanted, self.shelf.folder) if isinstance(wanted, str) else wanted
        state = self.desk.store.get(ident)
        plan = self.desk.evaluator.plan(state.weave)
        if (error := plan.error()) is not None:
            raise error
        completed(self.desk.evaluator, state.weave, found.without(order.leave), order.leave)  # refused here, not in the job
        head = state.head
        if source:
            row = self.desk.store.delivery(source)
            if row.material_id != ident:
                raise LoomError("this bake is of another material", row.file, "Choose one of this material.")
            head = self.receiving.open(source).entry or head
        how = fit(found, plan.geometry.size_mm, order.size)
        check_memory(how.width, how.height, order.how.supersample, order.memory or memory_there() * 3 // 4)
        before = len([d for d in self.desk.store.deliveries(ident) if d.profile == found.name])
        settings = {
            "entry": head,
            "source": source,
            "profile": found.model_dump(mode="json", exclude_defaults=True),
            "order": asdict(replace(order, version=before + 1)),
        }
        return self.jobs.add("deliver", f"{state.name}: {found.title}, {order.size}", ident, settings)

    def _delivered(self, job: Job) -> dict[str, Any]:
        """Do a job of delivering: the state that it was asked of, whatever the material has become since."""
        state = self.desk.store.get(job.material)
        then = replace(state, head=job.settings["entry"], weave=self.desk.store.weave_at(job.material, job.settings["entry"]))
        self.desk.wait_for_kernels(early=False)
        asked = job.settings["profile"]
        # A job of the version before has the name of its profile and the size alone
        wanted = profile(asked, self.shelf.folder) if isinstance(asked, str) else Profile.model_validate(asked)
        said = dict(job.settings.get("order") or {"size": job.settings.get("size", 1024)})
        order = BakeOrder(**{**said, "how": How(**said.get("how", {})), "leave": tuple(said.get("leave", ()))})
        made = None
        if job.settings.get("source"):
            row = self.desk.store.delivery(job.settings["source"])
            got = self.receiving.open(row.id).received.unpacked
            made = got.maps, got.meanings, row.file
        return zipped(self.desk.store, self.desk.evaluator, self.desk.lane, then, wanted, order, job.task, made)

    def prove(self, delivery: str) -> Job:
        """A job that reads a delivery back and holds it against the live material, in the state that was delivered."""
        row = self.desk.store.delivery(delivery)
        return self.jobs.add("proof", f"Proof of {row.file}", row.material_id, {"delivery": delivery})

    def _proved(self, job: Job) -> dict[str, Any]:
        """Do a job of proving.

        Returns
        -------
        dict
            What `Verdict` says, and ``state``: the entry that was delivered, or None where its manifest does not say.

        Raises
        ------
        LoomError
            The zip is gone, or was changed.
        """
        store = self.desk.store
        row = store.delivery(job.settings["delivery"])
        job.task.report(0.02, "reading the files back")
        self.receiving.forget(row.id)  # from the disk, not from memory
        opened = self.receiving.open(row.id)
        entry, manifest = opened.entry, opened.received.manifest
        weave = store.get(row.material_id).weave if entry is None else store.weave_at(row.material_id, entry)
        self.desk.wait_for_kernels(early=False)
        evaluator, got = self.desk.evaluator, opened.received.unpacked
        wanted = self._profile_of(row.profile, manifest)
        if wanted is not None:
            weave = completed(evaluator, weave, wanted, manifest.get("left", ()))
        plan = evaluator.plan(weave)
        how = fit(wanted, plan.geometry.size_mm, row.size) if wanted is not None else None
        size = row.size if how is None else how.ask
        baked = How(int(manifest.get("supersample", 1)), bool(manifest.get("lost_length", True)), bool(manifest.get("lit")))
        make = maker(evaluator, weave, size, baked, job.task.part(0, 0))
        if wanted is not None:
            with self.desk.lane.hold(job.task):
                make = squared(make, [n for n in got.maps if n in plan.threads], wanted, plan.geometry.size_mm, job.task)
        meant: dict[str, Image] = {}
        for i, name in enumerate(n for n in got.maps if n in plan.threads):
            job.task.report(0.1 + 0.7 * i / len(got.maps), plan.spec(name).title)
            with self.desk.lane.hold(job.task):
                image = make(name)
            meant[name] = image if how is None else fitted(image, how)
        job.task.report(0.85, "comparing")
        ranges = {n: plan.spec(n).wider(got.meanings[n]) for n in meant}
        with self.desk.lane.hold(job.task):
            found = verdict(opened.received, meant, ranges, task=job.task.part(0, 0))
        return {**found.as_dict(), "state": entry, "delivery": row.id}

    def _profile_of(self, name: str, manifest: dict[str, Any]) -> Profile | None:
        """How a delivery was packed; None where a profile of the artist's own is gone, and an old manifest only names it."""
        if manifest.get("asks_for"):
            return of_manifest(manifest, self.shelf.folder)
        return profile(name, self.shelf.folder) if name in known(self.shelf.folder) else None

    def throw_away(self, delivery: str) -> None:
        """Take a delivery out of the list, and its file off the disk.

        Raises
        ------
        LoomError
            There is none of this id.
        """
        self.receiving.forget(delivery)
        self.desk.store.forget_delivery(delivery)


def order_of(size: int, supersample: int, lost_length: bool, lit_colour: bool, skip_constant: bool, two_sided: bool) -> BakeOrder:
    """An order as a page sends it.

    Raises
    ------
    LoomError
        Supersampling is by 1, 2 or 4.
    """
    if supersample not in (1, 2, 4):
        raise LoomError(f"supersampling is by 1, 2 or 4, not {supersample}", "supersample", "Choose one of them.")
    return BakeOrder(size, How(supersample, lost_length, lit_colour), skip_constant, two_sided)
