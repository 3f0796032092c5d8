"""Deliveries and their proofs, as jobs."""

from __future__ import annotations

import json
import shutil
import tempfile
import zipfile
from dataclasses import replace
from pathlib import Path
from typing import Any

from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.images import Image
from silent_loom.core.delivery.placing import MANIFEST
from silent_loom.core.delivery.profile import profile
from silent_loom.core.delivery.proof import prove
from silent_loom.core.delivery.unpacking import unpack
from silent_loom.work.desk import Desk
from silent_loom.work.jobs import Job, Jobs
from silent_loom.work.zipping import zipped


class Delivering:
    """Zips of stored materials, made in the background."""

    def __init__(self, desk: Desk, jobs: Jobs) -> None:
        self.desk, self.jobs = desk, jobs
        jobs.can("deliver", self._delivered)
        jobs.can("proof", self._proved)

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

    def prove(self, delivery: str) -> Job:
        """A job that reads a delivery back and holds it against the live material, in the state that was delivered."""
        row = self.desk.store.delivery(delivery)
        return self.jobs.add("proof", f"Proof of {row.file}", row.material_id, {"delivery": delivery})

    def _proved(self, job: Job) -> dict[str, Any]:
        """Do a job of proving.

        Returns
        -------
        dict
            same, maps (see `Proved`), state: the entry that was delivered, or None where its manifest does not say.

        Raises
        ------
        LoomError
            The zip is gone, or was changed.
        """
        store = self.desk.store
        row = store.delivery(job.settings["delivery"])
        path = store.delivery_path(row)
        job.task.report(0.02, "reading the files back")
        with tempfile.TemporaryDirectory(prefix=".part-", dir=store.folder / "deliveries") as folder:
            names = _taken_out(path, Path(folder), row.file)
            got = unpack(Path(folder))
            manifest = json.loads((Path(folder) / MANIFEST).read_text("utf-8")) if MANIFEST in names else {}
        entry = manifest.get("state")
        weave = store.get(row.material_id).weave if entry is None else store.weave_at(row.material_id, int(entry))
        self.desk.wait_for_kernels(early=False)
        evaluator = self.desk.evaluator
        plan, size = evaluator.plan(weave), max(next(iter(got.maps.values())).pixels.shape[:2])
        meant: dict[str, Image] = {}
        for i, name in enumerate(n for n in got.maps if n in plan.threads):
            job.task.report(0.1 + 0.7 * i / len(got.maps), plan.spec(name).title)
            with self.desk.lane.hold(job.task):
                meant[name] = evaluator.ask(weave, name, size, job.task.part(0, 0))
        job.task.report(0.85, "comparing")
        ranges = {n: plan.spec(n).wider(got.meanings[n]) for n in meant}
        with self.desk.lane.hold(job.task):
            proved = prove(got.maps, meant, ranges)
        return {"same": all(p.same for p in proved), "maps": [p.as_dict() for p in proved], "state": entry}


def _taken_out(path: Path, folder: Path, called: str) -> list[str]:
    """Files of a zip, put flat into a folder; their names."""
    try:
        with zipfile.ZipFile(path) as archive:
            names = []
            for info in archive.infolist():
                name = Path(info.filename).name  # never outside of the folder
                if info.is_dir() or not name:
                    continue
                with archive.open(info) as source, (folder / name).open("wb") as out:
                    shutil.copyfileobj(source, out)
                names.append(name)
            return names
    except FileNotFoundError:
        raise LoomError("the file of this delivery is gone from the data folder", called, "Deliver again.") from None
    except zipfile.BadZipFile:
        raise LoomError("this delivery is damaged", called, "Deliver again.") from None
