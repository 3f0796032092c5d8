"""One material: its works, its changes, its history."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import PurePath
from typing import Any, Literal

from fastapi import APIRouter, File, Form, Request, Response, UploadFile
from pydantic import BaseModel, ConfigDict, Field

from silent_loom.core.base.parallel import Rank
from silent_loom.core.ways.starting import weave_for
from silent_loom.core.ways.woven import through_again
from silent_loom.core.weave import registry
from silent_loom.core.weave.rows.ready import ready
from silent_loom.core.weave.rows.recipes import begun
from silent_loom.store.states import Origin, State
from silent_loom.web import describe
from silent_loom.web.common import Stored, Works, templates
from silent_loom.work.changes.cures import cured
from silent_loom.work.changes.making import AnyChange, make
from silent_loom.work.changes.of_rows import OtherPhoto
from silent_loom.work.models.put_under import put_under
from silent_loom.work.naming import name_of
from silent_loom.work.workbench import Workbench

router = APIRouter()


def shown(works: Workbench, state: State) -> dict[str, Any]:
    """A material as the bench draws it."""
    plan = works.evaluator.plan(state.weave)
    return {
        "id": state.id,
        "name": state.name,
        "head": state.head,
        "label": state.label,
        "parent": state.parent,
        "can_undo": state.can_undo,
        "can_redo": state.can_redo,
        "changed": state.updated_at.isoformat(),
        "origin": asdict(state.origin),
        "weave": describe.weave(state.weave, plan, works.evaluator.costs),
    }


@router.get("/bench/{ident}")
def page(request: Request, ident: str, store: Stored) -> Response:
    state = store.get(ident)
    return templates.TemplateResponse(request, "bench.html", {"ident": ident, "name": state.name})


@router.get("/api/steps")
def steps() -> dict[str, Any]:
    """Every step with its settings, units, ranges and sentences."""
    rows = [r.model_dump(include={"name", "title", "says", "words", "picture"}) for r in ready().values()]
    return {"steps": describe.steps(), "mixes": describe.MIXES, "ready": rows}


@router.post("/api/materials", status_code=201)
def create(works: Works, store: Stored, photo: UploadFile = File(), name: str = Form("")) -> dict[str, Any]:
    """A new material from a photo."""
    file = PurePath(photo.filename or "pasted.png").name
    digest, picture = store.add_source(photo.file, file)
    ref = store.source_ref(digest).model_copy(update={"name": file})
    title = name.strip() or name_of(file, picture)
    weave = weave_for(picture, store.blobs.path(digest), digest)
    weave = weave.model_copy(update={"sources": {digest: ref}})
    state = store.create(title, weave, f"Begun from {file}")
    return {**shown(works, state), "warnings": list(picture.warnings)}


@router.get("/api/materials/{ident}")
def get(ident: str, works: Works, store: Stored) -> dict[str, Any]:
    """A material as it stands."""
    return shown(works, store.get(ident))


@router.post("/api/materials/{ident}/change")
def change(ident: str, body: AnyChange, works: Works, store: Stored) -> dict[str, Any]:
    """Make one change; it becomes one entry of the history. Laid on the state that the window saw: if the material has moved on
    meanwhile, the change is kept beside the line."""
    return shown(works, make(store, works.evaluator, ident, body))


@router.get("/api/materials/{ident}/rows")
def rows(ident: str, store: Stored, ids: str) -> dict[str, Any]:
    """Rows and groups as they are stored, to be put into another material; ids or paths, parted by commas."""
    weave = store.get(ident).weave
    return {"entries": [weave.at(weave.find(i)).model_dump(mode="json") for i in ids.split(",")]}


@router.post("/api/materials/{ident}/photo")
def other_photo(
    ident: str, works: Works, store: Stored, photo: UploadFile = File(), base: int = Form(), step_id: str = Form()
) -> dict[str, Any]:
    """Put another photo through the same weave."""
    digest, _ = store.add_source(photo.file, PurePath(photo.filename or "pasted.png").name)
    return change(ident, OtherPhoto(base=base, step_id=step_id, digest=digest), works, store)


class _Under(BaseModel):
    model_config = ConfigDict(extra="forbid")

    model: str = Field(max_length=40, description="A model of the library.")
    base: int = 0
    step_id: str = Field("", description="The row that lays the material on; the one there is, or a new one, if empty.")


@router.post("/api/materials/{ident}/model")
def under(ident: str, body: _Under, works: Works, store: Stored) -> dict[str, Any]:
    """Put a model under a material: from that row on its maps are made in the model's UV set."""
    path, name = works.models.file(body.model)
    taken = works.models.said(body.model)
    with path.open("rb") as stream:
        return shown(works, put_under(store, works.evaluator, ident, stream, name, taken, body.step_id, body.base))


@router.post("/api/materials/{ident}/again", status_code=201)
def again(
    ident: str,
    works: Works,
    store: Stored,
    photo: UploadFile = File(),
    name: str = Form(""),
    keep_corners: bool = Form(False),
) -> dict[str, Any]:
    """A new material: another photo through the weave of this one, which stays as it is."""
    file = PurePath(photo.filename or "pasted.png").name
    digest, picture = store.add_source(photo.file, file)
    ref = store.source_ref(digest).model_copy(update={"name": file})
    before = store.get(ident)
    weave = through_again(before.weave, digest, ref, keep_corners)
    title = name.strip() or name_of(file, picture)
    state = store.create(title, weave, f"{file} through the weave of {before.name}")
    return {**shown(works, state), "warnings": list(picture.warnings)}


@router.post("/api/materials/{ident}/undo")
def undo(ident: str, works: Works, store: Stored) -> dict[str, Any]:
    return shown(works, store.undo(ident))


@router.post("/api/materials/{ident}/redo")
def redo(ident: str, works: Works, store: Stored) -> dict[str, Any]:
    return shown(works, store.redo(ident))


class GoTo(BaseModel):
    entry: int


@router.post("/api/materials/{ident}/goto")
def go_to(ident: str, body: GoTo, works: Works, store: Stored) -> dict[str, Any]:
    """To any state of the history, undone branches included."""
    return shown(works, store.go_to(ident, body.entry))


@router.post("/api/materials/{ident}/last-readable")
def last_readable(ident: str, works: Works, store: Stored) -> dict[str, Any]:
    """Back to the newest state that can be read, where the present one cannot."""
    return shown(works, store.last_readable(ident))


@router.get("/api/materials/{ident}/history")
def history(ident: str, store: Stored) -> dict[str, Any]:
    """Every state there ever was, newest first."""
    head = store.get(ident).head
    lines = [
        {
            "id": h.id,
            "parent": h.parent,
            "label": h.label,
            "at": h.created_at.isoformat(),
            "aside": h.aside,
            "on_line": h.on_line,
            "head": h.id == head,
        }
        for h in reversed(store.history(ident))
    ]
    return {"entries": lines, "head": head}


class Name(BaseModel):
    name: str


@router.post("/api/materials/{ident}/rename")
def rename(ident: str, body: Name, works: Works, store: Stored) -> dict[str, Any]:
    return shown(works, store.rename(ident, body.name))


class OriginBody(BaseModel):
    """Where a material came from."""

    model_config = ConfigDict(extra="forbid")

    author: str = Field("", max_length=200)
    origin: str = Field("", max_length=500)
    licence: str = Field("", max_length=200, description="An SPDX identifier, or own words.")
    sale: Literal["unknown", "yes", "no"] = "unknown"
    note: str = Field("", max_length=5000)


@router.post("/api/materials/{ident}/origin")
def set_origin(ident: str, body: OriginBody, works: Works, store: Stored) -> dict[str, Any]:
    """Say where a material came from; it stays with it and goes out with it."""
    return shown(works, store.set_origin(ident, Origin(**body.model_dump())))


class BlankBody(BaseModel):
    """An empty sheet."""

    model_config = ConfigDict(extra="forbid")

    name: str = "Painted sheet"
    colour: str = "#9a9488"
    width_mm: float = 1000.0
    height_mm: float = 1000.0


@router.post("/api/materials/blank", status_code=201)
def blank(body: BlankBody, works: Works, store: Stored) -> dict[str, Any]:
    """A new material that starts as one colour, to be painted."""
    values = {"colour": body.colour, "width_mm": body.width_mm, "height_mm": body.height_mm}
    weave = begun("sheet", settings={registry.able("sheet"): values})
    if (error := works.evaluator.plan(weave).error()) is not None:
        raise error
    return shown(works, store.create(body.name, weave, "Begun as an empty sheet"))


_Way = Literal["suggested", "motif", "overlap"]


@router.post("/api/materials/{ident}/suggest")
def suggest(ident: str, works: Works, store: Stored, method: _Way = "suggested") -> dict[str, Any]:
    """Let the seamless step be set by what suits the picture; one entry of the history."""
    state = store.get(ident)
    step_id, settings, why = works.mending.suggestion(ident, method)
    weave = state.weave.with_settings(step_id, settings)
    words = "Seamless: overlap fitted" if method == "overlap" else f"Seamless suggested: {settings['method']}"
    after = state if weave == state.weave else store.change(ident, state.head, weave, words)
    return {**shown(works, after), "why": why}


@router.get("/api/materials/{ident}/meeting")
def meeting(ident: str, works: Works) -> dict[str, Any]:
    """What the seamless step of a photo with courses or a motif is better begun with: a row, its settings, and why; nothing
    where a plain cut chops nothing. It waits until nobody is waiting for a picture."""
    told = works.mending.meeting(ident, rank=Rank.ASIDE)
    return {} if told is None else dict(zip(("step_id", "settings", "why"), told, strict=True))


@router.post("/api/materials/{ident}/whole-repeats")
def crop_to_repeats(ident: str, works: Works, store: Stored) -> dict[str, Any]:
    """Let Straighten keep a whole number of repeats of the motif; one entry of the history."""
    state = store.get(ident)
    found = works.mending.whole_repeats(ident)
    after = (
        state
        if found.weave == state.weave
        else store.change(ident, state.head, found.weave, f"Straighten: cropped to {found.words}")
    )
    return {**shown(works, after), "why": f"{found.words} are kept."}


@router.get("/api/materials/{ident}/report")
def photo_report(ident: str, works: Works, aside: bool = False) -> dict[str, Any]:
    """What is right and wrong with the photo, the step that mends each, and whether it does so already.

    Asked for ``aside``, it waits until nobody is waiting for a picture.
    """
    return works.mending.findings(ident, rank=Rank.ASIDE if aside else Rank.TABLE)


class CureBody(BaseModel):
    """A finding of the report to be mended."""

    code: str


@router.post("/api/materials/{ident}/cure")
def cure(ident: str, body: CureBody, works: Works, store: Stored) -> dict[str, Any]:
    """Mend a finding of the photo report by the step it names; added where it is missing."""
    findings = works.mending.photo_report(ident).findings
    state = store.get(ident)
    weave, row, words = cured(state.weave, findings, body.code)
    return {**shown(works, store.change(ident, state.head, weave, words)), "step_id": row}


@router.post("/api/materials/{ident}/duplicate", status_code=201)
def duplicate(ident: str, works: Works, store: Stored) -> dict[str, Any]:
    return shown(works, store.duplicate(ident))


@router.post("/api/materials/{ident}/bin")
def put_in_bin(ident: str, store: Stored) -> dict[str, Any]:
    store.put_in_bin(ident)
    return {"ok": True}


@router.post("/api/materials/{ident}/restore")
def restore(ident: str, store: Stored) -> dict[str, Any]:
    store.restore(ident)
    return {"ok": True}


@router.get("/api/materials/{ident}/weave.json")
def weave_json(ident: str, store: Stored) -> Response:
    """The weave in its saved form (docs/weave-format.md)."""
    state = store.get(ident)
    return Response(state.weave.model_dump_json(indent=2), media_type="application/json")
