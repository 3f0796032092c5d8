"""Many at once: photos through a recipe, and sheets of variations."""

from __future__ import annotations

import json
from pathlib import PurePath
from typing import Any, Literal

from fastapi import APIRouter, File, Response, UploadFile
from pydantic import BaseModel, ConfigDict, Field

from silent_loom.core.base.errors import SettingError
from silent_loom.web.common import Stored, Works
from silent_loom.web.routers.materials import shown
from silent_loom.work.many.variations import choice_of

router = APIRouter()


@router.post("/api/photos", status_code=201)
def photo(store: Stored, photo: UploadFile = File()) -> dict[str, Any]:
    """Keep a photo that a batch will use."""
    name = PurePath(photo.filename or "pasted.png").name
    digest, picture = store.add_source(photo.file, name)
    return {"digest": digest, "name": name, "width": picture.width, "height": picture.height}


class Brought(BaseModel):
    """A stored photo."""

    model_config = ConfigDict(extra="forbid")

    digest: str
    name: str = Field(max_length=300)


class BatchBody(BaseModel):
    """Many photos through one recipe."""

    model_config = ConfigDict(extra="forbid")

    recipe: str
    photos: list[Brought] = Field(max_length=5000)
    profiles: list[str] = Field([], max_length=20, description="Deliveries that are made of each.")
    size: int = Field(1024, ge=16, le=16384)
    seed: int = Field(0, ge=0, le=2**31 - 1)
    dials: dict[str, float] = {}


@router.post("/api/batches", status_code=202)
def begin(body: BatchBody, works: Works) -> dict[str, Any]:
    """Begin a batch: a job whose result grows with every photo."""
    photos = [(p.digest, p.name) for p in body.photos]
    return works.batches.begin(body.recipe, photos, body.profiles, body.size, body.seed, body.dials).as_dict()


@router.get("/api/batches")
def batches(works: Works) -> dict[str, Any]:
    """Every batch there was, the newest first."""
    return {"batches": [j.as_dict() for j in reversed(works.jobs.all()) if j.kind == "batch"]}


@router.get("/api/materials/{ident}/variations")
def about(ident: str, works: Works) -> dict[str, Any]:
    """What of a material can vary."""
    return works.variations.about(ident)


class SheetBody(BaseModel):
    """A sheet of variations."""

    model_config = ConfigDict(extra="forbid")

    count: int = Field(9, ge=1, le=48)
    dials: list[str] = Field([], max_length=64)
    spread: float = Field(0.6, ge=0, le=1)
    seeds: bool = True
    first: int = Field(1, ge=1, le=10**6)


@router.post("/api/materials/{ident}/variations")
def sheet(ident: str, body: SheetBody, works: Works) -> dict[str, Any]:
    """A sheet of variations; their pictures are asked for one by one."""
    return works.variations.sheet(ident, body.count, body.dials, body.spread, body.seeds, body.first)


@router.get("/api/materials/{ident}/variation.png")
def picture(ident: str, works: Works, entry: int, choice: str, size: Literal["small", "large"] = "small") -> Response:
    """One variation under light; the choice is JSON as the sheet gave it."""
    try:
        told = choice_of(json.loads(choice))
    except (ValueError, TypeError, AttributeError):
        raise SettingError("this is no variation", choice[:80], "Take one of the sheet.") from None
    body = works.variations.picture(ident, entry, told, size)
    return Response(body, media_type="image/png", headers={"cache-control": "private, max-age=3600"})


class Kept(BaseModel):
    """A variation to be kept."""

    model_config = ConfigDict(extra="forbid")

    entry: int
    seed: int = Field(0, ge=0, le=10**6)
    dials: dict[str, float] = {}
    other: dict[str, Any] | None = None
    share: float = Field(0.0, ge=0, le=1)
    anew: bool = Field(False, description="As a material of its own.")


@router.post("/api/materials/{ident}/variation")
def keep(ident: str, body: Kept, works: Works) -> dict[str, Any]:
    """Make a variation the present state, or a material of its own."""
    choice = choice_of(body.model_dump(exclude={"entry", "anew"}))
    return shown(works, works.variations.keep(ident, body.entry, choice, body.anew))
