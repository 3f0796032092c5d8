"""Deliveries and the jobs that make them."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Response
from fastapi.responses import FileResponse
from pydantic import BaseModel, Field

from silent_loom.core.delivery.files import file_names
from silent_loom.core.delivery.names import file_name
from silent_loom.core.delivery.profile import profiles
from silent_loom.store.states import Missing
from silent_loom.web.common import Bench, Stored

router = APIRouter()


@router.get("/api/materials/{ident}/deliveries")
def listing(ident: str, bench: Bench, store: Stored) -> dict[str, Any]:
    """What can be delivered, and what was."""
    state = store.get(ident)
    plan = bench.evaluator.plan(state.weave)
    name = file_name(state.name)
    kinds = [
        {
            "name": p.name,
            "title": p.title,
            "says": p.says,
            "files": [*file_names(p, name, plan.threads), *([f"{name}.glb"] if p.glb else [])],
        }
        for p in profiles().values()
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
        "source_texels": plan.source_texels(),
    }


class Order(BaseModel):
    profile: str = "plain"
    size: int = Field(1024, ge=16, le=8192)


@router.post("/api/materials/{ident}/deliver", status_code=202)
def deliver(ident: str, body: Order, bench: Bench) -> dict[str, Any]:
    """Start making a zip."""
    return bench.delivering.deliver(ident, body.profile, body.size).as_dict()


@router.post("/api/deliveries/{delivery}/proof", status_code=202)
def proof(delivery: str, bench: Bench) -> dict[str, Any]:
    """Start reading a delivery back, to hold it against the live material."""
    return bench.delivering.prove(delivery).as_dict()


@router.get("/api/jobs")
def jobs(bench: Bench) -> dict[str, Any]:
    return {"jobs": [j.as_dict() for j in reversed(bench.jobs.all())]}


@router.get("/api/jobs/{job}")
def one(job: str, bench: Bench) -> dict[str, Any]:
    return bench.jobs.get(job).as_dict()


@router.post("/api/jobs/{job}/cancel")
def cancel(job: str, bench: Bench) -> dict[str, Any]:
    return bench.jobs.cancel(job).as_dict()


@router.get("/api/deliveries/{delivery}/file")
def file(delivery: str, store: Stored) -> Response:
    """The zip itself."""
    row = store.delivery(delivery)
    path = store.delivery_path(row)
    if not path.is_file():
        raise Missing("the file of this delivery is gone from the data folder", row.file, "Deliver again.")
    return FileResponse(path, media_type="application/zip", filename=row.file)
