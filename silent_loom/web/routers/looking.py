"""Looking without touching: snapshots, differences, readings."""

from __future__ import annotations

import json
from typing import Any

from fastapi import APIRouter, Query, Request, Response
from pydantic import BaseModel, ConfigDict, Field

from silent_loom.core.screen.charts import CHARTS
from silent_loom.core.weave.threads import check_name
from silent_loom.store.snapshots import SnapshotFacts
from silent_loom.web.common import Works, kept_by
from silent_loom.web.routers.maps import Ask, Look, TrialAsk
from silent_loom.work.looking.comparing import Side
from silent_loom.work.looking.sight import ROLES, Sight, Trial, place_of

router = APIRouter()


def _snapshot(facts: SnapshotFacts) -> dict[str, Any]:
    return {"id": facts.id, "entry": facts.entry, "name": facts.name, "created": facts.created_at.isoformat()}


@router.get("/api/materials/{ident}/snapshots")
def snapshots(ident: str, works: Works) -> dict[str, Any]:
    """All snapshots of a material, the newest first."""
    return {"snapshots": [_snapshot(s) for s in works.snapshots.of(ident)]}


class Keep(BaseModel):
    """A state to be given a name: the present one, unless an entry of the history is said."""

    model_config = ConfigDict(extra="forbid")

    name: str = Field("", max_length=1000)
    entry: int | None = None


@router.post("/api/materials/{ident}/snapshots", status_code=201)
def keep(ident: str, body: Keep, works: Works) -> dict[str, Any]:
    """Keep a state under a name."""
    return _snapshot(works.snapshots.keep(ident, body.name, body.entry))


@router.post("/api/materials/{ident}/snapshots/{snapshot}/rename")
def rename(ident: str, snapshot: str, body: Keep, works: Works) -> dict[str, Any]:
    """Another name for a snapshot."""
    return _snapshot(works.snapshots.rename(ident, snapshot, body.name))


@router.delete("/api/materials/{ident}/snapshots/{snapshot}", status_code=204)
def forget(ident: str, snapshot: str, works: Works) -> None:
    """Take the name off a state; the state stays in the history."""
    works.snapshots.forget(ident, snapshot)


@router.get("/api/materials/{ident}/state.png")
def picture(ident: str, works: Works, request: Request, entry: int) -> Response:
    """A state under light, small."""
    return kept_by(request, works.cards.card_key(ident, entry), lambda: works.cards.snapshot(ident, entry))


class Other(Look):
    """One side of a comparison."""

    material: str = Field("", max_length=40, description="Another material; the one that is asked about where it is empty.")
    entry: int | None = Field(None, description="A state of its history; the present one without it.")
    delivery: str = Field("", max_length=40, description="A delivery as its receiver has it, in place of a state.")
    mistake: str = Field("", max_length=40, description="A usual mistake, made on purpose.")

    def side(self) -> Side:
        return Side(self.material, self.entry, self.sight(), self.delivery, self.mistake)


class DifferenceAsk(BaseModel):
    """Which map of which two states."""

    model_config = ConfigDict(extra="forbid")

    thread: str = "base"
    size: int = Field(1024, ge=8, le=4096)
    one: Other = Other()
    other: Other = Other()
    view: str = Field("", max_length=80)
    sequence: int = 0


@router.post("/api/materials/{ident}/difference")
def difference(ident: str, body: DifferenceAsk, works: Works) -> Response:
    """The difference as RGB bytes, its numbers in ``x-facts`` as JSON."""
    raw, facts = works.comparing.difference(
        ident, check_name(body.thread), body.size, body.one.side(), body.other.side(), body.view, body.sequence
    )
    return Response(raw, media_type="application/octet-stream", headers={"x-facts": json.dumps(facts)})


@router.post("/api/materials/{ident}/spread")
def spread(ident: str, body: Ask, works: Works) -> dict[str, Any]:
    """How the values of a map are spread, below any row."""
    return works.reading.spread(ident, check_name(body.thread), body.size, body.below, **body.how())


@router.get("/api/materials/{ident}/colours.png")
def colours(
    ident: str,
    works: Works,
    thread: str = "base",
    size: int = Query(512, ge=8, le=4096),
    below: str | None = None,
    chart: str = "",
    chart_below: str = "",
) -> Response:
    """How the colours of a map are spread over hue and chroma, as a PNG with transparency."""
    body = works.reading.colours(ident, check_name(thread), size, below, sight=Sight(chart=chart, below=chart_below))
    return Response(body, media_type="image/png", headers={"cache-control": "no-store"})


@router.get("/api/looking")
def looking() -> dict[str, Any]:
    """What there is to look with: charts, and roles in which a thread can be tried."""
    return {"charts": [{"name": n, "title": t} for n, (t, _) in CHARTS.items()], "roles": ROLES}


@router.post("/api/materials/{ident}/trial")
def trial(ident: str, body: TrialAsk, works: Works) -> dict[str, Any]:
    """The change that keeps a trial: a step with its settings and its place."""
    row = Trial(**body.model_dump()).row()
    place = place_of(works.store.get(ident).weave, body.role)
    return {"kind": "add", "step": row.step, "settings": row.settings, "to": place}
