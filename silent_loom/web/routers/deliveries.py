"""Bakes, deliveries, what their receivers have of them, and the jobs that make them."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from fastapi import APIRouter, Response
from fastapi.responses import FileResponse
from pydantic import BaseModel, ConfigDict, Field

from silent_loom.core.delivery.names import file_name
from silent_loom.core.delivery.profile import Profile, file_names
from silent_loom.core.delivery.proving.receiver import MISTAKES
from silent_loom.core.delivery.shelf import known, profile
from silent_loom.core.screen.display import rgba
from silent_loom.core.weave.threads import check_name
from silent_loom.store.states import Missing
from silent_loom.web.common import Stored, Works
from silent_loom.web.routers.maps import Ask
from silent_loom.work.giving.delivering import order_of
from silent_loom.work.workbench import Workbench

router = APIRouter()


@router.get("/api/materials/{ident}/deliveries")
def listing(ident: str, works: Works, store: Stored) -> dict[str, Any]:
    """What can be delivered, and what was."""
    state = store.get(ident)
    plan = works.evaluator.plan(state.weave)
    name = file_name(state.name)
    own = works.shelf.all()
    kinds = [
        {
            "name": p.name,
            "title": p.title,
            "says": p.says,
            "own": p.name in own,
            "files": [*file_names(p, name, plan.threads), *(f"{name}.{m}" for m in p.models)],
        }
        for p in known(works.shelf.folder).values()
    ]
    done = [
        {
            "id": d.id,
            "file": d.file,
            "profile": d.profile,
            "size": d.size,
            "bytes": d.bytes,
            "at": d.created_at.isoformat(),
        }
        for d in store.deliveries(ident)
    ]
    return {
        "profiles": kinds,
        "deliveries": done,
        "aspect": plan.geometry.size_mm[0] / plan.geometry.size_mm[1],
        "size_mm": plan.geometry.size_mm,
        "source_texels": plan.lossless_texels(),
        "mistakes": [{"name": n, "title": title} for n, (title, _, _) in MISTAKES.items()],
    }


class Order(BaseModel):
    """What is to be baked: by a profile's name, or by a profile that is being drawn."""

    model_config = ConfigDict(extra="forbid")

    profile: str | Profile = "plain"
    size: int = Field(1024, ge=16, le=16384)
    supersample: int = Field(1, description="1, 2 or 4 times as large while it is computed.")
    lost_length: bool = Field(True, description="With supersampling: roughness takes up what normals lose.")
    lit: bool = Field(False, description="The base colour as the surface looks under light.")
    skip_constant: bool = Field(False, description="Maps that are the same everywhere get no file.")
    two_sided: bool = Field(False, description="The surface is seen from both sides.")
    leave: tuple[str, ...] = Field((), max_length=64, description="Maps to leave out, as if the material had none of them.")
    memory_gb: float = Field(0, ge=0, le=4096, description="Memory that may be used; three quarters of what is free if 0.")
    source: str = Field("", max_length=40, description="An earlier bake that it is made from; the live material if empty.")
    view: str = Field("", max_length=80)
    sequence: int = 0

    def order(self) -> Any:
        made = order_of(self.size, self.supersample, self.lost_length, self.lit, self.skip_constant, self.two_sided)
        return replace(made, memory=round(self.memory_gb * 1e9), leave=self.leave)

    def wanted(self, works: Workbench) -> Profile:
        return profile(self.profile, works.shelf.folder) if isinstance(self.profile, str) else self.profile


@router.post("/api/materials/{ident}/forecast")
def forecast(ident: str, body: Order, works: Works) -> dict[str, Any]:
    """What a bake will make, from a quick one."""
    return works.fitting.forecast(ident, body.wanted(works), body.order(), body.view, body.sequence)


@router.post("/api/materials/{ident}/losses")
def losses(ident: str, body: Order, works: Works) -> dict[str, Any]:
    """What is lost at the size of a bake, map by map, with the worst place of each."""
    return works.fitting.losses(ident, body.wanted(works), body.size, body.view, body.sequence)


@router.post("/api/materials/{ident}/tried")
def tried(ident: str, body: Order, works: Works) -> dict[str, Any]:
    """A profile on this material: packed pictures, sizes, graphics memory, whether its receiver takes it."""
    return works.fitting.tried(ident, body.wanted(works), body.size, body.view, body.sequence)


@router.post("/api/materials/{ident}/deliver", status_code=202)
def deliver(ident: str, body: Order, works: Works) -> dict[str, Any]:
    """Start making a zip."""
    return works.delivering.deliver(ident, body.wanted(works), body.order(), body.source).as_dict()


@router.post("/api/deliveries/{delivery}/proof", status_code=202)
def proof(delivery: str, works: Works) -> dict[str, Any]:
    """Start reading a delivery back, to hold it against the live material."""
    return works.delivering.prove(delivery).as_dict()


@router.delete("/api/deliveries/{delivery}", status_code=204)
def throw_away(delivery: str, works: Works) -> None:
    """Take a delivery off the list and off the disk."""
    works.delivering.throw_away(delivery)


class Received(Ask):
    """A question about a delivery as its receiver has it, with a usual mistake made on purpose."""

    mistake: str = Field("", max_length=40)


@router.post("/api/deliveries/{delivery}/map")
def received_map(delivery: str, body: Received, works: Works) -> Response:
    """A map of a delivery as RGBA bytes; see the map of a material."""
    image, meaning = works.receiving.one(delivery, check_name(body.thread), body.size, body.mistake)
    headers = {
        "x-width": str(image.width),
        "x-height": str(image.height),
        "x-mm": "{} {}".format(*image.size_mm),
        "x-wraps": "1",
        "x-key": f"{delivery}.{body.thread}.{body.mistake}.{image.width}",
    }
    return Response(rgba(image, meaning).tobytes(), media_type="application/octet-stream", headers=headers)


@router.post("/api/deliveries/{delivery}/form")
def received_form(delivery: str, body: Received, works: Works) -> Response:
    """Everything the form view draws a delivery with."""
    return Response(works.receiving.form(delivery, body.size, body.mistake), media_type="application/octet-stream")


@router.get("/api/jobs")
def jobs(works: Works) -> dict[str, Any]:
    return {"jobs": [j.as_dict() for j in reversed(works.jobs.all())]}


@router.get("/api/jobs/{job}")
def one(job: str, works: Works) -> dict[str, Any]:
    return works.jobs.get(job).as_dict()


@router.post("/api/jobs/{job}/cancel")
def cancel(job: str, works: Works) -> dict[str, Any]:
    return works.jobs.cancel(job).as_dict()


@router.get("/api/deliveries/{delivery}/file")
def file(delivery: str, store: Stored) -> Response:
    """The zip itself."""
    row = store.delivery(delivery)
    path = store.delivery_path(row)
    if not path.is_file():
        raise Missing("the file of this delivery is gone from the data folder", row.file, "Deliver again.")
    return FileResponse(path, media_type="application/zip", filename=row.file)
