"""One material: its bench, its changes, its history."""

from __future__ import annotations

import json
from dataclasses import asdict
from pathlib import PurePath
from typing import Any, Literal

from fastapi import APIRouter, File, Form, Request, Response, UploadFile
from pydantic import BaseModel, ConfigDict, Field

from silent_loom.core.base.errors import SettingError, WeaveError
from silent_loom.core.base.parallel import Rank
from silent_loom.core.report.whole_repeats import follow_grid
from silent_loom.core.ways.derive import weave_for
from silent_loom.core.ways.woven import through_again
from silent_loom.core.weave import registry
from silent_loom.core.weave.answers.placing import fitting_place
from silent_loom.core.weave.answers.plan import Plan
from silent_loom.core.weave.rows import edit, tree
from silent_loom.core.weave.rows.model import Dial, Entry, GroupEntry, Mask, MixMode, SourceRef, StepEntry, Weave
from silent_loom.core.weave.rows.ready import ready, with_ready
from silent_loom.core.weave.rows.recipes import begun
from silent_loom.core.weave.rows.upgrade import parsed
from silent_loom.store.states import Origin, State
from silent_loom.web import describe
from silent_loom.web.common import Bench, Stored, templates
from silent_loom.work.naming import name_of
from silent_loom.work.workbench import Workbench

router = APIRouter()


def shown(bench: Workbench, state: State) -> dict[str, Any]:
    """A material as the bench draws it."""
    plan = bench.evaluator.plan(state.weave)
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
        "weave": describe.weave(state.weave, plan, bench.evaluator.costs),
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
def create(bench: Bench, store: Stored, photo: UploadFile = File(), name: str = Form("")) -> dict[str, Any]:
    """A new material from a photo."""
    file = PurePath(photo.filename or "pasted.png").name
    digest, picture = store.add_source(photo.file, file)
    ref = store.source_ref(digest).model_copy(update={"name": file})
    title = name.strip() or name_of(file, picture)
    weave = weave_for(picture, store.blobs.path(digest), digest)
    weave = weave.model_copy(update={"sources": {digest: ref}})
    state = store.create(title, weave, f"Begun from {file}")
    return {**shown(bench, state), "warnings": list(picture.warnings)}


@router.get("/api/materials/{ident}")
def get(ident: str, bench: Bench, store: Stored) -> dict[str, Any]:
    """A material as it stands."""
    return shown(bench, store.get(ident))


class Change(BaseModel):
    """One change of a weave. Rows are named by their ids or their paths (``joints/height``)."""

    model_config = ConfigDict(extra="forbid")

    base: int
    kind: Literal[
        "settings",
        "switch",
        "move",
        "add",
        "ready",
        "remove",
        "mix",
        "photo",
        "group",
        "dissolve",
        "fold",
        "rename",
        "dial",
        "undial",
        "note",
        "paste",
    ]
    step_id: str = ""
    settings: dict[str, Any] = {}
    on: bool = True
    to: int = 0
    into: str = Field("", description="Group that a row is put into; empty for the outermost list.")
    step: str = ""
    exact: bool = Field(False, description="A new row goes exactly where it is asked for, not where it works.")
    amount: float | None = Field(None, ge=0, le=1)
    mix: MixMode | None = None
    mask: Mask | str | None = None
    digest: str = ""
    rows: list[str] = Field([], max_length=1000, description="Rows to be grouped.")
    name: str = Field("", max_length=60)
    dial: Dial | None = None
    dial_id: str = ""
    note: str = Field("", max_length=1000, description="What is noted of a row.")
    entries: list[dict[str, Any]] = Field([], max_length=1000, description="Rows to put in, as another material holds them.")


def _value_words(weave: Weave, change: Change) -> str:
    entry = weave.at(change.step_id)
    fields = {} if isinstance(entry, GroupEntry) else registry.fields(entry.step)
    dials = {d.id: d.title for d in getattr(entry, "dials", ())}
    words = []
    for key, value in change.settings.items():
        info = fields.get(key)
        title = dials.get(key) or (info.title if info else None) or key.replace("_mm", "").replace("_", " ")
        short = f"{value:.4g}" if isinstance(value, float) else str(value) if isinstance(value, str | int | bool) else "changed"
        words.append(f"{title} {short}")
    return ", ".join(words)[:200]


def _mix(weave: Weave, change: Change) -> tuple[Weave, str]:
    entry = weave.at(change.step_id)
    mask = Mask(thread=change.mask) if isinstance(change.mask, str) and change.mask else change.mask or None
    values: dict[str, Any] = {"mask": mask.model_dump() if isinstance(mask, Mask) else None}
    if change.amount is not None:
        values["amount"] = change.amount
    if change.mix is not None:
        values["mix"] = change.mix
    after = edit.mixed(weave, entry.id, values)
    now = after.at(entry.id)
    mix = "" if isinstance(now, GroupEntry) else f"{now.mix}, "
    where = f", limited to {now.mask.thread.replace('_', ' ')}" if now.mask else ""
    return after, f"{edit.titled(weave, entry.id)}: {mix}{round(100 * now.amount)} %{where}"


def _rows_of(entries: list[dict[str, Any]]) -> tuple[Entry, ...]:
    """Rows that come from elsewhere.

    Raises
    ------
    SettingError
        They are none.
    """
    try:
        return parsed(json.dumps({"schema_version": 1, "steps": entries, "sources": {}})).steps
    except ValueError as error:
        raise SettingError("these are no rows of a weave", "paste", "Copy them from a material again.") from error


def apply(weave: Weave, change: Change, sources: dict[str, SourceRef], plan: Plan | None = None) -> tuple[Weave, str]:
    """A weave with a change made, and the words for its history. By its plan, new rows go where they work.

    Raises
    ------
    WeaveError, SettingError
    """
    if change.step_id:
        change = change.model_copy(update={"step_id": weave.find(change.step_id)})
    into = weave.find(change.into) if change.into else ""
    ident = change.step_id
    title = edit.titled(weave, ident) if ident else ""
    match change.kind:
        case "settings":
            return edit.set_values(weave, ident, change.settings), f"{title}: {_value_words(weave, change)}"
        case "switch":
            return edit.switched(weave, ident, change.on), f"{title} switched {'on' if change.on else 'off'}"
        case "move":
            return edit.moved(weave, ident, change.to, into), f"{title} moved"
        case "add":
            new, to, words = StepEntry(step=change.step, settings=change.settings), change.to, ""
            registry.settings_of(new.step, new.settings)
            if plan is not None and not change.exact:
                new, to, into, words = fitting_place(plan, weave, new, to, into)
            return edit.added(weave, new, to, into), f"{registry.step(change.step).title} added{f' {words}' if words else ''}"
        case "ready":
            present = plan.threads if plan is not None else {}
            width = plan.geometry.size_mm[0] if plan is not None else 1000.0
            return with_ready(weave, change.step, width, present), f"{ready()[change.step].title} added"
        case "remove":
            return edit.removed(weave, ident), f"{title} removed"
        case "mix":
            return _mix(weave, change)
        case "group":
            made, _ = edit.grouped(weave, [weave.find(r) for r in change.rows], change.name or "Group")
            return made, f"{len(change.rows)} rows grouped"
        case "dissolve":
            return edit.dissolved(weave, ident), f"Group {title} dissolved"
        case "fold":
            return edit.folded(weave, ident, change.on), f"Group {title} {'folded' if change.on else 'opened'}"
        case "rename":
            return edit.renamed(weave, ident, change.name), f"Group {title} renamed to {change.name.strip()[:60]}"
        case "dial":
            if change.dial is None:
                raise SettingError("no dial was given", title, "Say what it moves.")
            return edit.with_dial(weave, ident, change.dial), f"{title}: dial {change.dial.title}"
        case "undial":
            return edit.without_dial(weave, ident, change.dial_id), f"{title}: a dial taken away"
        case "note":
            return edit.noted(weave, ident, change.note), f"{title}: {'noted' if change.note.strip() else 'note taken away'}"
        case "paste":
            rows = _rows_of(change.entries)
            edit.check_settings(rows)
            words = f"{len(rows)} row{'s' if len(rows) != 1 else ''} put in from elsewhere"
            return edit.pasted(weave, rows, change.to, into, sources), words
        case "photo":
            if change.digest not in sources:
                raise SettingError("this photo is not stored", "photo", "Choose the file again.")
            made = weave.model_copy(update={"sources": {**weave.sources, **sources}})
            return made.with_settings(ident, {"source": change.digest}), f"Photo: {sources[change.digest].name}"


@router.post("/api/materials/{ident}/change")
def change(ident: str, body: Change, bench: Bench, store: Stored) -> dict[str, Any]:
    """Make one change; it becomes one entry of the history."""
    # Laid on the state that the window saw: if the material has moved on meanwhile, the store keeps it beside the line
    seen = store.weave_at(ident, body.base)
    wanted = {body.digest} if body.kind == "photo" and body.digest else edit.digests(body.entries)
    sources = {d: store.source_ref(d) for d in wanted}
    weave, label = apply(seen, body, sources, bench.evaluator.plan(seen) if body.kind in ("add", "ready") else None)
    if body.kind == "settings" and getattr(weave.at(weave.find(body.step_id)), "step", "") == registry.able("straighten"):
        weave = follow_grid(bench.evaluator, seen, weave)
    if weave == seen:
        return shown(bench, store.get(ident))
    return shown(bench, store.change(ident, body.base, weave, label))


@router.get("/api/materials/{ident}/rows")
def rows(ident: str, store: Stored, ids: str) -> dict[str, Any]:
    """Rows and groups as they are stored, to be put into another material; ids or paths, parted by commas."""
    weave = store.get(ident).weave
    return {"entries": [weave.at(weave.find(i)).model_dump(mode="json") for i in ids.split(",")]}


@router.post("/api/materials/{ident}/photo")
def other_photo(
    ident: str, bench: Bench, store: Stored, photo: UploadFile = File(), base: int = Form(), step_id: str = Form()
) -> dict[str, Any]:
    """Put another photo through the same weave."""
    digest, _ = store.add_source(photo.file, PurePath(photo.filename or "pasted.png").name)
    return change(ident, Change(base=base, kind="photo", step_id=step_id, digest=digest), bench, store)


@router.post("/api/materials/{ident}/again", status_code=201)
def again(
    ident: str, bench: Bench, store: Stored, photo: UploadFile = File(), name: str = Form(""), keep_corners: bool = Form(False)
) -> dict[str, Any]:
    """A new material: another photo through the weave of this one, which stays as it is."""
    file = PurePath(photo.filename or "pasted.png").name
    digest, picture = store.add_source(photo.file, file)
    ref = store.source_ref(digest).model_copy(update={"name": file})
    before = store.get(ident)
    weave = through_again(before.weave, digest, ref, keep_corners)
    title = name.strip() or name_of(file, picture)
    state = store.create(title, weave, f"{file} through the weave of {before.name}")
    return {**shown(bench, state), "warnings": list(picture.warnings)}


@router.post("/api/materials/{ident}/undo")
def undo(ident: str, bench: Bench, store: Stored) -> dict[str, Any]:
    return shown(bench, store.undo(ident))


@router.post("/api/materials/{ident}/redo")
def redo(ident: str, bench: Bench, store: Stored) -> dict[str, Any]:
    return shown(bench, store.redo(ident))


class GoTo(BaseModel):
    entry: int


@router.post("/api/materials/{ident}/goto")
def go_to(ident: str, body: GoTo, bench: Bench, store: Stored) -> dict[str, Any]:
    """To any state of the history, undone branches included."""
    return shown(bench, store.go_to(ident, body.entry))


@router.post("/api/materials/{ident}/last-readable")
def last_readable(ident: str, bench: Bench, store: Stored) -> dict[str, Any]:
    """Back to the newest state that can be read, where the present one cannot."""
    return shown(bench, store.last_readable(ident))


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
def rename(ident: str, body: Name, bench: Bench, store: Stored) -> dict[str, Any]:
    return shown(bench, store.rename(ident, body.name))


class OriginBody(BaseModel):
    """Where a material came from."""

    model_config = ConfigDict(extra="forbid")

    author: str = Field("", max_length=200)
    origin: str = Field("", max_length=500)
    licence: str = Field("", max_length=200, description="An SPDX identifier, or own words.")
    sale: Literal["unknown", "yes", "no"] = "unknown"
    note: str = Field("", max_length=5000)


@router.post("/api/materials/{ident}/origin")
def set_origin(ident: str, body: OriginBody, bench: Bench, store: Stored) -> dict[str, Any]:
    """Say where a material came from; it stays with it and goes out with it."""
    return shown(bench, store.set_origin(ident, Origin(**body.model_dump())))


class BlankBody(BaseModel):
    """An empty sheet."""

    model_config = ConfigDict(extra="forbid")

    name: str = "Painted sheet"
    colour: str = "#9a9488"
    width_mm: float = 1000.0
    height_mm: float = 1000.0


@router.post("/api/materials/blank", status_code=201)
def blank(body: BlankBody, bench: Bench, store: Stored) -> dict[str, Any]:
    """A new material that starts as one colour, to be painted."""
    values = {"colour": body.colour, "width_mm": body.width_mm, "height_mm": body.height_mm}
    weave = begun("sheet", settings={registry.able("sheet"): values})
    if (error := bench.evaluator.plan(weave).error()) is not None:
        raise error
    return shown(bench, store.create(body.name, weave, "Begun as an empty sheet"))


_Way = Literal["suggested", "motif", "overlap"]


@router.post("/api/materials/{ident}/suggest")
def suggest(ident: str, bench: Bench, store: Stored, method: _Way = "suggested") -> dict[str, Any]:
    """Let the seamless step be set by what suits the picture; one entry of the history."""
    state = store.get(ident)
    step_id, settings, why = bench.mending.suggestion(ident, method)
    weave = state.weave.with_settings(step_id, settings)
    words = "Seamless: overlap fitted" if method == "overlap" else f"Seamless suggested: {settings['method']}"
    after = state if weave == state.weave else store.change(ident, state.head, weave, words)
    return {**shown(bench, after), "why": why}


@router.get("/api/materials/{ident}/meeting")
def meeting(ident: str, bench: Bench) -> dict[str, Any]:
    """What the seamless step of a photo with courses or a motif is better begun with: a row, its settings, and why; nothing
    where a plain cut chops nothing. It waits until nobody is waiting for a picture."""
    told = bench.mending.meeting(ident, rank=Rank.ASIDE)
    return {} if told is None else dict(zip(("step_id", "settings", "why"), told, strict=True))


@router.post("/api/materials/{ident}/whole-repeats")
def crop_to_repeats(ident: str, bench: Bench, store: Stored) -> dict[str, Any]:
    """Let Straighten keep a whole number of repeats of the motif; one entry of the history."""
    state = store.get(ident)
    found = bench.mending.whole_repeats(ident)
    after = (
        state
        if found.weave == state.weave
        else store.change(ident, state.head, found.weave, f"Straighten: cropped to {found.words}")
    )
    return {**shown(bench, after), "why": f"{found.words} are kept."}


@router.get("/api/materials/{ident}/report")
def photo_report(ident: str, bench: Bench, aside: bool = False) -> dict[str, Any]:
    """What is right and wrong with the photo, the step that mends each, and whether it does so already.

    Asked for ``aside``, it waits until nobody is waiting for a picture.
    """
    return bench.mending.findings(ident, rank=Rank.ASIDE if aside else Rank.TABLE)


def _begins(step: str) -> bool:
    """Whether a step belongs to how a photo comes in, above everything that mends it."""
    return registry.can(step, "straighten") or registry.can(step, "photo")


class CureBody(BaseModel):
    """A finding of the report to be mended."""

    code: str


@router.post("/api/materials/{ident}/cure")
def cure(ident: str, body: CureBody, bench: Bench, store: Stored) -> dict[str, Any]:
    """Mend a finding of the photo report by the step it names; added where it is missing."""
    found = next((f for f in bench.mending.photo_report(ident).findings if f.code == body.code and f.cure), None)
    if found is None or found.cure is None:
        raise WeaveError("there is nothing to mend by itself here", body.code, "See what it says.")
    state = store.get(ident)
    weave, entry = state.weave, state.weave.first(found.cure.step)
    settings = registry.plain(found.cure.settings)
    if entry is None:
        below = [p for p in tree.walk(weave.steps) if isinstance(p.entry, StepEntry) and _begins(p.entry.step)]
        last = below[-1] if below else None
        entry = StepEntry(step=found.cure.step, settings=settings)
        at, into = (last.at + 1, last.parents[-1].id if last.parents else "") if last else (len(weave.steps), "")
        weave = edit.added(weave, entry, at, into)
    else:
        now = registry.settings_of(entry.step, entry.settings).model_dump()
        settings = registry.plain(found.cure.changes(now))
        weave = weave.with_entry(entry.model_copy(update={"on": True})).with_settings(entry.id, settings)
    after = store.change(ident, state.head, weave, f"Report: {found.cure.words}")
    return {**shown(bench, after), "step_id": entry.id}


@router.post("/api/materials/{ident}/duplicate", status_code=201)
def duplicate(ident: str, bench: Bench, store: Stored) -> dict[str, Any]:
    return shown(bench, store.duplicate(ident))


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
