"""Models: brought in, checked, unwrapped, baked, materials laid on them."""

from __future__ import annotations

import io
import zipfile
from dataclasses import asdict
from pathlib import PurePath
from typing import Any, Literal

import numpy as np
from fastapi import APIRouter, File, Query, Request, Response, UploadFile
from fastapi.responses import FileResponse
from pydantic import BaseModel, ConfigDict, Field

from silent_loom.core.base.errors import LoomError
from silent_loom.core.delivery.models.gltf import glb
from silent_loom.core.delivery.proving.difference import ember_codes
from silent_loom.core.files.png import png_bytes
from silent_loom.core.form.bake.targets import TARGETS
from silent_loom.core.form.lay.places import KINDS
from silent_loom.core.form.model import with_first
from silent_loom.core.form.packed import shown as packed_mesh
from silent_loom.core.form.reading.table import taken_as
from silent_loom.demo.models import MODELS
from silent_loom.store.models import ModelFacts
from silent_loom.web.common import Stored, Works, templates
from silent_loom.work.models.model_jobs import BAKE, LAY, UNWRAP, BakeAsk, LayAsk, UnwrapAsk

router = APIRouter()


def _model(facts: ModelFacts) -> dict[str, Any]:
    return {k: v for k, v in asdict(facts).items() if k != "created_at"}


WITH_MAPS = {
    "model.glb": ("glb", "model/gltf-binary"),
    "model-obj.zip": ("obj", "application/zip"),
    "model-usd.zip": ("usda", "application/zip"),
}
"""Names under which a model is given with the maps of a job, what is written, and how it is sent."""


def _told(own_uv: bool, unit_mm: float) -> dict[str, str]:
    return {"x-own-uv": str(int(own_uv)), "x-unit-mm": f"{unit_mm:.9g}"}


@router.get("/models")
def page(request: Request) -> Response:
    """The page of models."""
    targets = [{"name": t.name, "title": t.title, "says": t.says} for t in TARGETS.values()]
    kinds = [{"name": k, "title": p.title, "says": p.says, "unit": p.unit, "usual": p.usual} for k, p in KINDS.items()]
    return templates.TemplateResponse(
        request, "models.html", {"targets": targets, "kinds": kinds, "demo": request.app.state.demo}
    )


@router.get("/api/models")
def models(works: Works) -> dict[str, Any]:
    """All models, the newest first."""
    return {"models": [_model(m) for m in works.models.all()]}


@router.post("/api/models", status_code=201)
def add_model(works: Works, model: UploadFile = File()) -> dict[str, Any]:
    """A model of one's own: OBJ, GLB, glTF that holds everything, PLY or STL."""
    return _model(works.models.add(model.file, PurePath(model.filename or "model").name))


@router.post("/api/models/demo", status_code=201)
def add_demo(works: Works) -> dict[str, Any]:
    """The models of the quay."""
    return {"models": [_model(works.models.add(io.BytesIO(glb(make(1), {})), f"{name}.glb")) for name, make in MODELS.items()]}


@router.get("/api/models/{ident}/mesh")
def mesh(ident: str, works: Works) -> Response:
    """Its triangles: see `Mesh.packed`; whether it brought its own UV in ``x-own-uv``."""
    model = works.checking.model(ident)
    found = packed_mesh(model)
    return Response(found.packed(), media_type="application/octet-stream", headers=_told(found.own_uv, model.unit_mm))


@router.get("/api/models/{ident}/stretch.png")
def stretched(ident: str, works: Works, uv: str = Query("", max_length=200)) -> Response:
    """How much each triangle is stretched, as a picture of the layout: red has too few texels, blue too many."""
    return Response(works.checking.stretched(ident, uv), media_type="image/png", headers={"cache-control": "no-store"})


@router.get("/api/models/of/{digest}")
def parts_of(digest: str, store: Stored) -> dict[str, Any]:
    """What a model behind a material holds, by the hash of its file."""
    model = store.sources.model(digest)
    slots = [s.name for s in model.slots]
    return {"triangles": len(model), "uv_sets": list(model.uvs), "meshes": list(model.meshes), "materials": slots}


@router.get("/api/models/of/{digest}/mesh")
def mesh_of(
    digest: str,
    store: Stored,
    uv: str = Query("", max_length=200),
    unit: str = Query("", max_length=8),
    up: str = Query("", max_length=1),
) -> Response:
    """The triangles of a model behind a material, with one of its UV sets, as its row takes it: see `Mesh.packed`."""
    model = with_first(taken_as(store.sources.model(digest), unit, up), uv)
    found = packed_mesh(model)
    return Response(found.packed(), media_type="application/octet-stream", headers=_told(found.own_uv, model.unit_mm))


class Said(BaseModel):
    """What somebody says of a model where its file says nothing or is wrong."""

    model_config = ConfigDict(extra="forbid")

    unit: str = Field("", max_length=8, description="mm, cm, m, in or ft; empty believes the file.")
    up: str = Field("", max_length=1, description="y or z; empty believes the file.")


@router.put("/api/models/{ident}/said")
def say(ident: str, body: Said, works: Works) -> dict[str, Any]:
    """Say what a unit of a model is, and which axis points up."""
    return _model(works.models.say(ident, body.unit, body.up))


@router.delete("/api/models/{ident}", status_code=204)
def forget_model(ident: str, works: Works) -> None:
    """Take a model out."""
    works.models.forget(ident)


@router.get("/api/models/{ident}/check")
def check(
    ident: str,
    works: Works,
    uv: str = Query("", max_length=200),
    size: int = Query(2048, ge=16, le=16384),
    wish: float = Query(0.0, ge=0, le=10_000),
) -> dict[str, Any]:
    """What it holds, what is wrong with its UVs, and its layout as lines."""
    return works.checking.told(ident, uv, size, wish)


@router.post("/api/models/points")
def points(ask: BakeAsk, works: Works) -> dict[str, Any]:
    """The check list of a bake, in the order in which it is mended."""
    return {"points": [vars(p) for p in works.model_jobs.points(ask)]}


@router.post("/api/models/unwrap", status_code=202)
def unwrap(ask: UnwrapAsk, works: Works) -> dict[str, Any]:
    """Unwrap a model; what comes of it is a model of its own."""
    return works.model_jobs.add(UNWRAP, ask).as_dict()


@router.post("/api/models/bake", status_code=202)
def bake(ask: BakeAsk, works: Works) -> dict[str, Any]:
    """Bake maps of a model."""
    return works.model_jobs.add(BAKE, ask).as_dict()


@router.post("/api/models/lay", status_code=202)
def lay(ask: LayAsk, works: Works) -> dict[str, Any]:
    """Lay a material on a model."""
    return works.model_jobs.add(LAY, ask).as_dict()


@router.get("/api/models/made/{job}/change")
def change(job: str, works: Works) -> dict[str, Any]:
    """How far the base colour that was laid on is from the one that the model came with."""
    found = works.model_jobs.before_after(job)
    return {"words": found.words, **found.difference.as_dict()}


@router.get("/api/models/made/{job}/change/{which}.png")
def change_picture(job: str, which: Literal["before", "changed"], works: Works) -> Response:
    """The base colour that the model came with, in the same UVs; or what changed: black nothing, then embers."""
    found = works.model_jobs.before_after(job)
    codes = ember_codes(found.picture) if which == "changed" else np.rint(255 * found.before).astype(np.uint8)
    return Response(png_bytes(codes, colour=True, fast=True), media_type="image/png", headers={"cache-control": "no-store"})


@router.get("/api/models/made/{job}/{name}")
def made(job: str, name: str, works: Works) -> Response:
    """A file that a job made, or all of them as ``all.zip``; the model with them on it as ``model.glb``."""
    folder = works.model_jobs.folder(job)
    if name == "all.zip":
        body = io.BytesIO()
        with zipfile.ZipFile(body, "w", zipfile.ZIP_STORED) as archive:
            for path in sorted(folder.iterdir()):
                archive.write(path, path.name)
        return Response(
            body.getvalue(), media_type="application/zip", headers={"content-disposition": 'attachment; filename="maps.zip"'}
        )
    if name in WITH_MAPS:
        kind, media = WITH_MAPS[name]
        return Response(
            works.model_jobs.dressed(job, kind),
            media_type=media,
            headers={"content-disposition": f'attachment; filename="{name}"'},
        )
    path = folder / PurePath(name).name
    if not path.is_file():
        raise LoomError("there is no such file of this job", name, "It may have been taken away; start the job again.")
    return FileResponse(path, headers={"cache-control": "no-store"})
