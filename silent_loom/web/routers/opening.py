"""Opening map sets: files in, a table out, a material after it was confirmed."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, File, UploadFile
from pydantic import BaseModel, ConfigDict, Field

from silent_loom.core.base.errors import FileError
from silent_loom.core.opening.recognised import SPECULAR_COLOUR
from silent_loom.core.weave import threads
from silent_loom.web.common import Rooms, Stored, Works
from silent_loom.web.routers.materials import shown
from silent_loom.work.elsewhere import taken_in
from silent_loom.work.opening import made_from

router = APIRouter()


@router.post("/api/open")
def open_files(rooms: Rooms, files: list[UploadFile] = File()) -> dict[str, Any]:
    """Take pictures and zips in, and say what each is."""
    if len(files) > 500:
        raise FileError(f"{len(files)} files at once", "", "At most 500 are taken; a zip may hold more.")
    opened = rooms.take([(f.filename or "file", f.file) for f in files])
    names = [{"name": t.name, "title": t.title, "kind": str(t.kind)} for t in threads.THREADS.values()]
    names.append({"name": SPECULAR_COLOUR, "title": "Specular, coloured (older sets)", "kind": "colour"})
    return {"token": opened.token, "sets": [s.as_dict() for s in opened.sets], "threads": names}


class Named(BaseModel):
    """Maps that a table names."""

    model_config = ConfigDict(extra="forbid")

    maps: list[str] = Field(max_length=100)


@router.post("/api/open/missing")
def missing(body: Named) -> dict[str, Any]:
    """What a set of these maps lacks, and what it will be made from."""
    return {"missing": made_from(body.maps) if body.maps else []}


class Row(BaseModel):
    """One confirmed map."""

    model_config = ConfigDict(extra="forbid")

    path: str
    thread: str
    channel: str = "rgb"
    invert: bool = False
    green_down: bool = False


class Confirmed(BaseModel):
    """A confirmed table."""

    model_config = ConfigDict(extra="forbid")

    token: str
    name: str = Field(min_length=1, max_length=200)
    maps: list[Row] = Field(min_length=1)
    width_mm: float = Field(1000.0, gt=0, le=1e6)
    depth_mm: float = Field(10.0, gt=0, le=1e5)
    repeats: bool = True


@router.post("/api/open/make", status_code=201)
def make(body: Confirmed, rooms: Rooms, works: Works) -> dict[str, Any]:
    """A material from what was confirmed."""
    rows = [r.model_dump() for r in body.maps]
    return shown(works, rooms.make(body.token, body.name, rows, body.width_mm, body.depth_mm, body.repeats))


@router.post("/api/elsewhere", status_code=201)
def elsewhere(store: Stored, files: list[UploadFile] = File()) -> dict[str, Any]:
    """Materials of a glTF, GLB or MaterialX file, its pictures beside it, as plain maps; with what could not be brought along."""
    made = taken_in(store, [(f.filename or "file", f.file) for f in files])
    return {
        "materials": [
            {"id": state.id, "name": state.name, "notes": flat.notes, "left_out": flat.left, "size": flat.size}
            for state, flat in made
        ]
    }
