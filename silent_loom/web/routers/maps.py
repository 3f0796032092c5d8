"""Maps for the screen: whole pictures, single values, histograms, figures."""

from __future__ import annotations

from typing import Any, Literal
from urllib.parse import quote

import numpy as np
from fastapi import APIRouter, Query, Request, Response
from pydantic import BaseModel, ConfigDict, Field

from silent_loom.core.screen.changes import SIDE
from silent_loom.core.screen.reading import Part
from silent_loom.core.weave.threads import check_name
from silent_loom.web.common import Works, kept_by
from silent_loom.work.desk import Draft
from silent_loom.work.looking.sight import Sight, Trial
from silent_loom.work.views import MapFacts
from silent_loom.work.windows import window_rgba

router = APIRouter(prefix="/api/materials/{ident}")
_Size = Query(512, ge=8, le=4096)


class TrialAsk(BaseModel):
    """A thread, or one channel of it, tried in another role."""

    model_config = ConfigDict(extra="forbid")

    role: str = Field(max_length=40)
    thread: str = Field(max_length=60)
    part: str = Field("", max_length=20)
    inverted: bool = False


class Look(BaseModel):
    """How a weave is looked at, without changing it: a row off, a test chart put in, a thread in another role."""

    model_config = ConfigDict(extra="forbid")

    off: str = Field("", max_length=200, description="Row or group that is passed over.")
    chart: str = Field("", max_length=40, description="Test chart in place of the base colour.")
    chart_below: str = Field("", max_length=200, description="Row right below which the chart is put; the first one if empty.")
    trial: TrialAsk | None = None

    def sight(self) -> Sight:
        trial = Trial(**self.trial.model_dump()) if self.trial else None
        return Sight(self.off, self.chart, self.chart_below, trial)


class Ask(Look):
    """A question from one view. A newer one of the same view gives the older one up (answer 204)."""

    thread: str = "base"
    size: int = Field(512, ge=8, le=4096)
    step_id: str = ""
    settings: dict[str, Any] | None = None
    below: str | None = None
    entry: int | None = None
    view: str = Field("", max_length=80)
    sequence: int = 0
    u: float = Field(0.0, allow_inf_nan=False)
    v: float = Field(0.0, allow_inf_nan=False)
    have: str = Field("", max_length=100)
    part: Part = Field("", description="One channel, or the lightness, as grey.")
    clipped: bool = Field(False, description="Mark what is cut off.")
    unlit: str = Field("", max_length=60, description="Of a form: a thread that is shown in place of the base colour.")

    def how(self) -> dict[str, Any]:
        draft = Draft(self.step_id, self.settings) if self.step_id and self.settings is not None else None
        return {"draft": draft, "sight": self.sight(), "view": self.view, "sequence": self.sequence, "entry": self.entry}


@router.post("/map")
def map_raw(ident: str, body: Ask, works: Works) -> Response:
    """A map as RGBA bytes; width, height, millimetres and its key in the headers.

    To a view that says which picture it has (``have``), the blocks that differ are answered one after another, their side,
    columns and rows in ``x-blocks``: ``128 3,4 4,4``.
    """
    shown: dict[str, Any] = {"below": body.below, "part": body.part, "clipped": body.clipped}
    raw, facts = works.views.map_rgba(ident, check_name(body.thread), body.size, have=body.have, **shown, **body.how())
    headers = _headers(facts)
    if facts.blocks is not None:
        headers["x-from"] = body.have
        headers["x-blocks"] = " ".join([str(SIDE), *(f"{i},{j}" for j, i in np.argwhere(facts.blocks))])
    return Response(raw, media_type="application/octet-stream", headers=headers)


@router.post("/glance")
def glance(ident: str, body: Ask, works: Works) -> Response:
    """A small picture of a map in a state that was seen before, as `map_raw` answers, without a key; 204 where there is none."""
    if body.part or body.clipped or body.settings is not None:
        return Response(status_code=204)
    found = works.views.glance(ident, check_name(body.thread), below=body.below, sight=body.sight(), entry=body.entry)
    if found is None:
        return Response(status_code=204)
    return Response(found[0], media_type="application/octet-stream", headers=_headers(found[1]))


def _headers(facts: MapFacts) -> dict[str, str]:
    return {
        "x-width": str(facts.width),
        "x-height": str(facts.height),
        "x-mm": "{} {}".format(*facts.size_mm),
        "x-wraps": str(int(facts.wraps)),
        "x-key": facts.key,
    }


class WindowAsk(Look):
    """A question about a part of a map, in texels of the whole at a size."""

    thread: str = "base"
    size: int = Field(8192, ge=8, le=16384)
    box: tuple[int, int, int, int]
    entry: int | None = None
    part: Part = ""
    clipped: bool = False
    view: str = Field("", max_length=80)
    sequence: int = 0


@router.post("/window")
def window(ident: str, body: WindowAsk, works: Works) -> Response:
    """A part of a map at the size of a bake as RGBA bytes; where it lies and its key in the headers."""
    how: dict[str, Any] = {"sight": body.sight(), "entry": body.entry, "view": body.view, "sequence": body.sequence}
    shown: dict[str, Any] = {"part": body.part, "clipped": body.clipped}
    raw, facts = window_rgba(works.desk, ident, check_name(body.thread), body.size, body.box, **shown, **how)
    headers = {"x-box": " ".join(map(str, facts.box)), "x-key": facts.key, "x-whole-above": quote(facts.whole_above)}
    return Response(raw, media_type="application/octet-stream", headers=headers)


@router.post("/form")
def form(ident: str, body: Ask, works: Works) -> Response:
    """Everything the form view draws with (see `Workbench.form`)."""
    unlit = check_name(body.unlit) if body.unlit else ""
    return Response(works.views.form(ident, body.size, unlit=unlit, **body.how()), media_type="application/octet-stream")


@router.get("/map/{thread}.png")
def map_png(
    ident: str,
    thread: str,
    works: Works,
    request: Request,
    size: int = _Size,
    below: str | None = None,
    entry: int | None = None,
) -> Response:
    """A map as an 8-bit PNG, named by what it shows."""
    name = check_name(thread)
    key = works.views.map_key(ident, name, size, below=below, entry=entry)
    return kept_by(request, key, lambda: works.views.map_png(ident, name, size, below=below, entry=entry))


class ProbeAsk(Ask):
    """A question about a place, of a preview or of a bake."""

    size: int = Field(512, ge=8, le=16384)


@router.post("/probe")
def probe(ident: str, body: ProbeAsk, works: Works) -> dict[str, Any]:
    """Exact values at a place of a map."""
    return works.views.probe(ident, check_name(body.thread), body.u, body.v, body.size, below=body.below, **body.how())


@router.post("/histogram")
def counts(ident: str, body: Ask, works: Works) -> dict[str, Any]:
    """Histogram of a thread; with ``below`` of it as it comes into that row."""
    return {"channels": works.views.counts(ident, check_name(body.thread), body.size, above=body.below, **body.how())}


@router.get("/figures")
def figures(ident: str, works: Works, entry: int | None = None, view: str = "", sequence: int = 0) -> dict[str, Any]:
    """Seams, evenness, repetition, and warnings of maps and rows."""
    return works.figures.figures(ident, entry=entry, view=view, sequence=sequence)


def _png(body: bytes) -> Response:
    return Response(body, media_type="image/png", headers={"cache-control": "no-store"})


@router.get("/light.png")
def light(ident: str, works: Works, step_id: str | None = None) -> Response:
    """The uneven light of the photo, or what a row takes out, as a picture."""
    return _png(works.mending.light_picture(ident, step_id))


@router.get("/seams.png")
def seam_heat(ident: str, works: Works, size: int = Query(1024, ge=64, le=2048)) -> Response:
    """Where joins still show."""
    return _png(works.mending.seam_heat(ident, size))


@router.get("/spots")
def spots(ident: str, works: Works) -> dict[str, Any]:
    """What repetition will show."""
    return works.mending.spots(ident)


@router.get("/cells.png")
def cells(
    ident: str,
    works: Works,
    step_id: str,
    what: Literal["cells", "before", "chart"] = "cells",
    size: int = Query(640, ge=64, le=2048),
) -> Response:
    """The cells of a break-up by themselves, or a test chart before and after it."""
    return _png(works.mending.cells(ident, step_id, what, size))


class OneStep(BaseModel):
    """A question about one row."""

    model_config = ConfigDict(extra="forbid")

    step_id: str


@router.post("/cell-sizes")
def cell_sizes(ident: str, body: OneStep, works: Works) -> dict[str, Any]:
    """A break-up with cells of three sizes, to compare."""
    return {"sizes": works.mending.cell_sizes(ident, body.step_id)}


@router.post("/pick")
def pick(ident: str, body: Ask, works: Works) -> dict[str, Any]:
    """The light at a place of what comes into a row."""
    return {"light": works.mending.pick(ident, body.below or "", body.u, body.v)}


@router.get("/photo.jpg")
def photo(ident: str, works: Works, step_id: str, size: int = Query(1400, ge=64, le=4096)) -> Response:
    """The photo of a row as it came, upright, for placing corners on it."""
    return Response(
        works.mending.photo(ident, step_id, size),
        media_type="image/jpeg",
        headers={"cache-control": "max-age=3600"},
    )
