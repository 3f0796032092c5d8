"""Work on models that takes its time: unwrapping, baking, laying a material on."""

from __future__ import annotations

import io
import shutil
import tempfile
import zipfile
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ConfigDict, Field

from silent_loom.core.base.bounded_memory import Memory
from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.parallel import Rank, Task
from silent_loom.core.delivery.models.before_after import BeforeAfter, before_after
from silent_loom.core.delivery.models.dressing import dressed
from silent_loom.core.delivery.models.gltf import glb
from silent_loom.core.delivery.models.laid_on import Layer, deliver_laid
from silent_loom.core.delivery.models.writing import write_model
from silent_loom.core.delivery.names import file_name
from silent_loom.core.delivery.shelf import Shelf, profile
from silent_loom.core.form.bake.bake import Order
from silent_loom.core.form.bake.checklist import Point, checklist, insist
from silent_loom.core.form.bake.dense import Source
from silent_loom.core.form.bake.files import bake_files
from silent_loom.core.form.bake.pictures import source_of
from silent_loom.core.form.lay.laying import By, Camera, Laying
from silent_loom.core.form.lay.places import onto_itself, parsed
from silent_loom.core.form.model import Model, with_first
from silent_loom.core.form.uv.unwrap import UnwrapSettings, unwrapped
from silent_loom.store.models import Models
from silent_loom.work.desk import Desk
from silent_loom.work.jobs import Job, Jobs
from silent_loom.work.models.checking import Checking

UNWRAP, BAKE, LAY = "unwrap a model", "bake a model", "lay on a model"


class BakeAsk(BaseModel):
    """Which maps are baked, and from what."""

    model_config = ConfigDict(extra="forbid")

    model: str = Field(max_length=40)
    dense: tuple[str, ...] = Field((), max_length=16, description="Models that detail comes from; the model itself if none.")
    maps: tuple[str, ...] = Field(("normal", "height", "occlusion"), max_length=20)
    size: int = Field(2048, ge=16, le=8192)
    samples: int = Field(1, ge=1, le=4)
    distance_mm: float = Field(0.0, ge=0, description="How far rays start outside; found by itself if 0.")
    rays: int = Field(64, ge=1, le=1024)
    padding: float = Field(0.0, ge=0, description="Texels filled around islands; all there are if 0.")
    by_name: bool = False
    green: str = Field("up", max_length=4)
    uv: str = Field("", max_length=200)

    def order(self) -> Order:
        """What the core is asked for."""
        size = (self.size, self.size)
        return Order(self.maps, size, self.uv, self.samples, self.distance_mm, self.rays, 0.0, self.padding, self.by_name)


class Over(BaseModel):
    """Another material over the first, where masks say so."""

    model_config = ConfigDict(extra="forbid")

    material: str = Field(max_length=40)
    where: tuple[str, ...] = Field((), max_length=8, description="Masks, such as altitude=0.5..0.7.")


class LayAsk(BaseModel):
    """Which material is laid on a model, and how."""

    model_config = ConfigDict(extra="forbid")

    model: str = Field(max_length=40)
    material: str = Field(max_length=40)
    by: By = "uv"
    size: int = Field(2048, ge=16, le=8192)
    scale: float = Field(1.0, gt=0, le=1000)
    turn_deg: float = Field(0.0, ge=-360, le=360)
    blend: float = Field(0.3, ge=0, le=1)
    around_deg: float = Field(0.0, ge=-360, le=360, description="Of a camera: where it stands around the model.")
    above_deg: float = Field(0.0, ge=-90, le=90)
    width_mm: float = Field(0.0, ge=0, le=1e6, description="Of a camera: what the sheet covers once; repeated if 0.")
    over: tuple[Over, ...] = Field((), max_length=8)
    profile: str = Field("gltf", max_length=80, pattern=r"^[\w-]+$")
    uv: str = Field("", max_length=200)


class UnwrapAsk(BaseModel):
    """Which model is unwrapped, and how."""

    model_config = ConfigDict(extra="forbid")

    model: str = Field(max_length=40)
    settings: UnwrapSettings = UnwrapSettings()
    uv: str = Field("", max_length=200)


class ModelJobs:
    """Does what takes its time; what it makes lies in a folder a job, beside the library."""

    def __init__(self, desk: Desk, jobs: Jobs, models: Models, checking: Checking, shelf: Shelf) -> None:
        self._desk, self._jobs, self._models, self._checking, self._shelf = desk, jobs, models, checking, shelf
        self._folder = desk.store.folder / "on_models"
        self._compared: Memory[str, BeforeAfter] = Memory(1)
        jobs.can(UNWRAP, self._unwrap)
        jobs.can(BAKE, self._bake)
        jobs.can(LAY, self._lay)

    def add(self, kind: str, ask: UnwrapAsk | BakeAsk | LayAsk) -> Job:
        """Put one in the queue.

        Raises
        ------
        LoomError
            It cannot end well: a bake by the first point of its check list that is not good.
        """
        _, name = self._models.file(ask.model)
        if isinstance(ask, BakeAsk):
            insist(self.points(ask))
        if isinstance(ask, LayAsk):
            self._checking.model(ask.model).uv(ask.uv)
            for over in ask.over:
                for text in over.where:
                    parsed(text)
        return self._jobs.add(kind, f"{kind}: {name}", settings=ask.model_dump(mode="json"))

    def points(self, ask: BakeAsk) -> list[Point]:
        """The check list of a bake."""
        task = Task(lane=self._desk.lane, rank=Rank.TABLE)
        with self._desk.lane.hold(task):
            return checklist(self._checking.model(ask.model), self._source(ask), ask.order(), task)

    def folder(self, job: str) -> Path:
        """Where the files of a job lie.

        Raises
        ------
        LoomError
            There are none.
        """
        path = self._folder / job
        if not job.isalnum() or not path.is_dir():
            raise LoomError("there are no files of this job", job, "Start it again.")
        return path

    def dressed(self, job: str, kind: str = "glb") -> bytes:
        """The model that a job laid a material on: a GLB with the maps inside, or OBJ or USD in a zip with the maps beside; its
        materials take the names of the files.

        Raises
        ------
        LoomError
            The job laid nothing on, or its maps are not packed as a glTF reads them.
        """
        folder, ask = self.folder(job), self._laid(job)
        model = self._checking.model(ask.model)
        dresses, _ = dressed(model, {"": folder}, rename=True)
        model = with_first(model, ask.uv)
        if kind == "glb":
            return glb(model, dresses)
        body = io.BytesIO()
        with tempfile.TemporaryDirectory(prefix="silent-loom-") as room, zipfile.ZipFile(body, "w", zipfile.ZIP_STORED) as out:
            for file in write_model(model, dresses, Path(room) / "model", next(iter(dresses.values())).name, [kind]):
                out.write(Path(room) / "model" / file, file)
        return body.getvalue()

    def before_after(self, job: str) -> BeforeAfter:
        """The base colour of the model before and after a material was laid on; the last one is kept.

        Raises
        ------
        LoomError
            The job laid nothing on.
        """
        found = self._compared.get(job)
        if found is None:
            folder, ask = self.folder(job), self._laid(job)
            model, (path, _) = self._checking.model(ask.model), self._models.file(ask.model)
            dresses, _ = dressed(model, {"": folder}, rename=True)
            task = Task(lane=self._desk.lane, rank=Rank.TABLE)
            with self._desk.lane.hold(task):
                found = before_after(model, path, dresses, ask.size, ask.uv, task)
            self._compared.put(job, found)
        return found

    def _laid(self, job: str) -> LayAsk:
        found = self._jobs.get(job)
        if found.kind != LAY:
            raise LoomError("no material was laid on by this job", job, "Lay one on first.")
        return LayAsk.model_validate(found.settings)

    def _source(self, ask: BakeAsk) -> Source | None:
        found: list[tuple[Model, Path]] = [(self._checking.model(d), self._models.file(d)[0]) for d in ask.dense]
        return source_of(found)

    def _unwrap(self, job: Job) -> dict[str, Any]:
        ask = UnwrapAsk.model_validate(job.settings)
        _, name = self._models.file(ask.model)
        made = unwrapped(self._checking.model(ask.model), ask.settings, ask.uv, task=job.task)
        stem = name.rpartition(".")[0] or name
        facts = self._models.add(io.BytesIO(glb(made, {})), f"{stem} unwrapped.glb")
        return {"model": facts.id, "name": facts.name}

    def _room(self, job: Job) -> Path:
        folder = self._folder / job.id
        if folder.exists():  # of a run that was ended
            shutil.rmtree(folder)
        folder.mkdir(parents=True)
        return folder

    def _bake(self, job: Job) -> dict[str, Any]:
        ask = BakeAsk.model_validate(job.settings)
        _, name = self._models.file(ask.model)
        model, folder = self._checking.model(ask.model), self._room(job)
        with self._desk.lane.hold(job.task):
            stem = file_name(name.rpartition(".")[0] or name)
            told = bake_files(model, self._source(ask), ask.order(), folder, stem, green=ask.green, task=job.task)
        kept = ("files", "missed", "misses", "covered", "seconds")
        return {k: told[k] for k in kept if k in told}

    def _lay(self, job: Job) -> dict[str, Any]:
        ask = LayAsk.model_validate(job.settings)
        _, name = self._models.file(ask.model)
        folder = self._room(job)
        light = self._checking.model(ask.model)
        surface = onto_itself(light, (ask.size, ask.size), ask.uv)
        camera = Camera.around(light, ask.around_deg, ask.above_deg, ask.width_mm) if ask.by == "camera" else None
        laying = Laying(ask.by, ask.scale, ask.turn_deg, (0.0, 0.0), ask.blend, camera)
        store, evaluator = self._desk.store, self._desk.evaluator
        states = [store.get(m) for m in (ask.material, *(o.material for o in ask.over))]
        masks = [(), *(tuple(parsed(w) for w in o.where) for o in ask.over)]
        layers = [Layer(evaluator, state.weave, laying, where) for state, where in zip(states, masks, strict=True)]
        told = deliver_laid(
            surface,
            layers,
            profile(ask.profile, self._shelf.folder),
            folder,
            f"{states[0].name} on {name.rpartition('.')[0] or name}",
            [state.name for state in states],
            hold=lambda: self._desk.lane.hold(job.task),
            task=job.task,
        )
        return {"files": told["files"], "warnings": told["warnings"]}
