"""The library: cards of all materials, and the bin."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from fastapi import APIRouter, Request, Response
from fastapi.responses import FileResponse

from silent_loom.core.base.errors import LoomError
from silent_loom.demo import seed
from silent_loom.store.states import Listed
from silent_loom.store.store import Store
from silent_loom.web.common import Stored, Works, kept_by, templates
from silent_loom.work.workbench import Workbench

router = APIRouter()


def card(works: Workbench, store: Store, line: Listed) -> dict[str, Any]:
    """What a card shows; a material whose present state cannot be read is shown as such, and stands in nobody's way."""
    return {
        "id": line.id,
        "name": line.name,
        "head": line.head,
        "changed": line.updated_at.isoformat(),
        "origin": asdict(line.origin),
        "binned": line.deleted_at is not None,
        **_facts(works, store, line),
    }


def _facts(works: Workbench, store: Store, line: Listed) -> dict[str, Any]:
    """What its weave says; kept by its state, which never changes."""
    known = works.cards.facts.get(line.head)
    if known is not None:
        return known
    found: dict[str, Any] = {"source": "", "photo_row": "", "size_mm": (0.0, 0.0), "steps": 0, "error": "", "broken": False}
    try:
        weave = store.weave_at(line.id, line.head)
        photo = weave.able("photo")
        source = weave.sources.get(photo.settings.get("source", "")) if photo else None
        plan = works.evaluator.plan(weave)
        found |= {
            "source": source.name if source else next((s.name for s in weave.sources.values()), ""),
            "photo_row": photo.id if photo and source else "",
            "size_mm": plan.geometry.size_mm,
            "steps": sum(e.on for e in weave.steps),
            "error": str(plan.error() or ""),
        }
    except LoomError as error:
        return {**found, "error": str(error), "broken": True}
    if not found["error"]:  # an error may lie in a file that somebody puts back
        works.cards.facts.put(line.head, found)
    return found


@router.get("/")
def page(request: Request, works: Works, store: Stored) -> Response:
    try_photo = seed.TO_TRY if request.app.state.demo else None
    return templates.TemplateResponse(request, "library.html", {"try_photo": try_photo})


@router.get("/api/materials")
def cards(works: Works, store: Stored, binned: bool = False) -> dict[str, Any]:
    """All materials, the one changed last first."""
    return {
        "materials": [card(works, store, line) for line in store.listed(binned=binned)],
        "in_bin": store.count(binned=True),
        "ready": works.seeded.is_set(),
    }


@router.get("/api/preparing")
def preparing(works: Works) -> dict[str, Any]:
    """How many kernels are compiled, of how many; ``done`` once all are, or nothing was to be done."""
    return works.desk.preparation.state() if works.desk.preparation is not None else {"ready": 0, "of": 0, "done": True}


@router.get("/api/materials/{ident}/card.png")
def picture(ident: str, works: Works, request: Request, entry: int) -> Response:
    """The picture on a card; named by what it shows, so that a browser keeps it exactly as long as that is the same."""
    return kept_by(request, works.cards.card_key(ident, entry), lambda: works.cards.card(ident, entry))


@router.get("/demo/{name}.jpg")
def demo_photo(name: str, request: Request) -> Response:
    """A photo to try, when the application was started with its demo."""
    path = seed.PICTURES / f"{name}.jpg"
    if not request.app.state.demo or not name.replace("_", "").isalnum() or not path.is_file():
        return Response(status_code=404)
    return FileResponse(path, media_type="image/jpeg", filename=f"{name}.jpg")
