"""The library: cards of all materials, and the bin."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from fastapi import APIRouter, Request, Response
from fastapi.responses import FileResponse

from silent_loom.core.errors import WeaveError
from silent_loom.demo import seed
from silent_loom.store.store import State
from silent_loom.web.common import Bench, Stored, templates
from silent_loom.work.workbench import Workbench

router = APIRouter()


def card(bench: Workbench, state: State) -> dict[str, Any]:
    """What a card shows."""
    photo = state.weave.first("photo")
    source = state.weave.sources.get(photo.settings.get("source", "")) if photo else None
    size, error = (0.0, 0.0), ""
    try:
        plan = bench.evaluator.plan(state.weave)
        size = plan.geometry.size_mm
        error = str(plan.error() or "")
    except WeaveError as found:
        error = str(found)
    return {
        "id": state.id,
        "name": state.name,
        "head": state.head,
        "source": source.name if source else next((s.name for s in state.weave.sources.values()), ""),
        "photo_row": photo.id if photo and source else "",
        "size_mm": size,
        "steps": sum(e.on for e in state.weave.steps),
        "changed": state.updated_at.isoformat(),
        "origin": asdict(state.origin),
        "binned": state.deleted_at is not None,
        "error": error,
    }


@router.get("/")
def page(request: Request, bench: Bench, store: Stored) -> Response:
    try_photo = seed.TO_TRY if request.app.state.demo else None
    return templates.TemplateResponse(request, "library.html", {"try_photo": try_photo})


@router.get("/api/materials")
def cards(bench: Bench, store: Stored, binned: bool = False) -> dict[str, Any]:
    """All materials, the one changed last first."""
    return {
        "materials": [card(bench, s) for s in store.materials(binned=binned)],
        "in_bin": len(store.materials(binned=True)),
        "ready": bench.seeded.is_set(),
    }


@router.get("/api/preparing")
def preparing(bench: Bench) -> dict[str, Any]:
    """How many kernels are compiled, of how many; ``done`` once all are, or nothing was to be done."""
    return bench.preparation.state() if bench.preparation is not None else {"ready": 0, "of": 0, "done": True}


@router.get("/api/materials/{ident}/card.png")
def picture(ident: str, bench: Bench, entry: int) -> Response:
    """The picture on a card."""
    return Response(bench.card(ident, entry), media_type="image/png", headers={"cache-control": "max-age=31536000, immutable"})


@router.get("/demo/{name}.jpg")
def demo_photo(name: str, request: Request) -> Response:
    """A photo to try, when the application was started with its demo."""
    path = seed.PICTURES / f"{name}.jpg"
    if not request.app.state.demo or not name.replace("_", "").isalnum() or not path.is_file():
        return Response(status_code=404)
    return FileResponse(path, media_type="image/jpeg", filename=f"{name}.jpg")
