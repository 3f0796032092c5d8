"""Patterns that a material can begin from."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel, ConfigDict, Field

from silent_loom.core.weave.rows.beginnings import beginning, beginnings, woven_from
from silent_loom.web.common import Stored, Works
from silent_loom.web.routers.materials import shown

router = APIRouter()


@router.get("/api/patterns")
def patterns() -> dict[str, Any]:
    """Every pattern, with its family, its words and its real size."""
    kept = ("name", "title", "says", "family", "words", "size_mm")
    return {
        "patterns": [
            {**{k: getattr(b, k) for k in kept}, "picture": f"/static/patterns/{b.name}.webp"} for b in beginnings().values()
        ]
    }


class PatternBody(BaseModel):
    """A material to begin."""

    model_config = ConfigDict(extra="forbid")

    pattern: str = Field(description="Name of the pattern.")
    name: str = Field("", max_length=200, description="Of the material; the pattern's title if empty.")
    seed: int | None = Field(None, ge=0, le=2**31 - 1, description="Another one of the same kind.")
    width_mm: float | None = Field(None, gt=0, le=1e6, description="Of one repeat; the pattern's own if none is given.")


@router.post("/api/materials/pattern", status_code=201)
def begin(body: PatternBody, works: Works, store: Stored) -> dict[str, Any]:
    """A new material that begins from a pattern; a wider repeat holds more of it, the pattern keeps its size."""
    told = beginning(body.pattern)
    size = None if body.width_mm is None else (body.width_mm, body.width_mm * told.size_mm[1] / told.size_mm[0])
    weave = woven_from(body.pattern, seed=body.seed, size_mm=size)
    if (error := works.evaluator.plan(weave).error()) is not None:
        raise error
    return shown(works, store.create(body.name.strip() or told.title, weave, f"Begun from the pattern {told.title}"))
