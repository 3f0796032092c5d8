"""What is asked beside a row's settings: small pictures, feature sizes, a profile, borders, masks, a second material."""

from __future__ import annotations

import base64
from pathlib import PurePath
from typing import Any

from fastapi import APIRouter, File, Form, Query, Response, UploadFile
from pydantic import BaseModel, ConfigDict, Field

from silent_loom.core.weave.threads import check_name
from silent_loom.web.common import Stored, Works
from silent_loom.web.routers.materials import shown
from silent_loom.work.beside.second_materials import laid_over, photo_over

router = APIRouter(prefix="/api/materials/{ident}")


class _Trial(BaseModel):
    model_config = ConfigDict(extra="forbid")

    step_id: str
    settings: dict[str, Any] = {}


def _inline(png: bytes) -> str:
    return "data:image/png;base64," + base64.b64encode(png).decode()


@router.post("/reliefs")
def reliefs(ident: str, body: _Trial, works: Works) -> dict[str, Any]:
    """Both reliefs that light from one line can mean: from this side, and from the other."""
    toward = float(body.settings.get("light_deg") or 0.0)
    found = []
    for light in (toward % 360, (toward + 180) % 360):
        picture = works.trials.relief(ident, body.step_id, {**body.settings, "light_deg": light})
        found.append({"light_deg": round(light, 1), "picture": _inline(picture)})
    return {"reliefs": found}


@router.post("/channels")
def channels(ident: str, body: _Trial, works: Works) -> dict[str, Any]:
    """Lightness and the three channels of what a row reads."""
    return {"channels": {name: _inline(png) for name, png in works.trials.channels(ident, body.step_id).items()}}


@router.post("/spectrum")
def spectrum(ident: str, body: _Trial, works: Works) -> dict[str, Any]:
    """How much there is of each feature size in what a row reads."""
    return {"spectrum": works.trials.spectrum(ident, body.step_id)}


class _Line(BaseModel):
    model_config = ConfigDict(extra="forbid")

    thread: str = "height"
    start: tuple[float, float]
    end: tuple[float, float]
    size: int = Field(1024, ge=16, le=4096)


@router.post("/profile")
def profile(ident: str, body: _Line, works: Works) -> dict[str, Any]:
    """Values of a map along a line."""
    return works.trials.profile(ident, check_name(body.thread), body.start, body.end, body.size)


def _png(body: bytes) -> Response:
    return Response(body, media_type="image/png", headers={"cache-control": "no-store"})


@router.get("/borders/{thread}.png")
def borders(ident: str, thread: str, works: Works, size: int = Query(1024, ge=64, le=2048)) -> Response:
    """Borders between elements."""
    return _png(works.trials.borders(ident, check_name(thread), size))


@router.get("/cover/{thread}.png")
def cover(ident: str, thread: str, works: Works, size: int = Query(1024, ge=64, le=2048)) -> Response:
    """Where a mask is high."""
    return _png(works.trials.cover(ident, check_name(thread), size))


class _Second(BaseModel):
    model_config = ConfigDict(extra="forbid")

    step_id: str
    material: str
    size: int = Field(2048, ge=64, le=8192)


@router.post("/lay-over")
def lay_over(ident: str, body: _Second, works: Works, store: Stored) -> dict[str, Any]:
    """Bring the maps of another material into a row that lays them over this one."""
    return shown(works, laid_over(works.desk, store, ident, body.step_id, body.material, body.size))


@router.post("/lay-over-photo")
def lay_photo_over(ident: str, works: Works, store: Stored, photo: UploadFile = File(), step_id: str = Form()) -> dict[str, Any]:
    """Bring a second photo into a row that lays it over this one."""
    digest, _ = store.add_source(photo.file, PurePath(photo.filename or "pasted.png").name)
    return shown(works, photo_over(store, ident, step_id, digest))


class _Mend(BaseModel):
    model_config = ConfigDict(extra="forbid")

    thread: str
    check: str


@router.get("/odd/{thread}")
def odd(ident: str, thread: str, works: Works) -> dict[str, Any]:
    """What is odd about a map, explained, with what mends each."""
    return {"odd": works.oddities.told(ident, check_name(thread))}


@router.post("/mend")
def mend(ident: str, body: _Mend, works: Works, store: Stored) -> dict[str, Any]:
    """Mend one odd thing of a map; one entry of the history."""
    state = store.get(ident)
    weave, row, words = works.oddities.mended(ident, check_name(body.thread), body.check)
    after = state if weave == state.weave else store.change(ident, state.head, weave, words)
    return {**shown(works, after), "step_id": row}
