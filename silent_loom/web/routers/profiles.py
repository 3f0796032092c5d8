"""Profiles: those that ship, the artist's own, what they can be made of."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, File, Response, UploadFile

from silent_loom.core.base.errors import LoomError
from silent_loom.core.delivery.naming import TOKENS
from silent_loom.core.delivery.profile import Profile
from silent_loom.core.delivery.shelf import MOST, as_text, known, profile, profiles, read_profile
from silent_loom.core.files.formats import DEPTHS
from silent_loom.core.weave import threads
from silent_loom.web.common import Works

router = APIRouter()


@router.get("/api/profiles")
def listing(works: Works) -> dict[str, Any]:
    """Every profile, whole, and what a profile may be made of."""
    return {
        "profiles": [{**p.model_dump(mode="json"), "ships": p.name in profiles()} for p in known(works.shelf.folder).values()],
        "formats": {f: list(d) for f, d in DEPTHS.items()},
        "tokens": TOKENS,
        "maps": [{"name": s.name, "title": s.title, "dye": s.dye, "parts": _parts(s.name)} for s in threads.THREADS.values()],
    }


def _parts(name: str) -> list[str]:
    spec = threads.spec(name)
    if len(spec.neutral) == 1:
        return [""]
    return ["r", "g", "b", "luminance"] if spec.kind == "colour" else ["x", "y", "z"]


@router.post("/api/profiles", status_code=201)
def keep(body: Profile, works: Works, replace: bool = False) -> dict[str, Any]:
    """Keep a profile of the artist's own."""
    works.shelf.keep(body, replace=replace)
    return body.model_dump(mode="json")


@router.post("/api/profiles/open", status_code=201)
def open_one(works: Works, file: UploadFile = File(), replace: bool = False) -> dict[str, Any]:
    """Keep a profile that somebody shared, once it is checked."""
    body = file.file.read(MOST + 1)
    if len(body) > MOST:
        raise LoomError("this is too large for a profile", file.filename or "profile", "A profile is a small JSON file.")
    made = read_profile(body, file.filename or "profile")
    works.shelf.keep(made, replace=replace)
    return made.model_dump(mode="json")


@router.get("/api/profiles/{name}.json")
def share(name: str, works: Works) -> Response:
    """A profile as a file to share."""
    found = profile(name, works.shelf.folder) if not name.endswith(".json") else None
    if found is None:
        raise LoomError("this is not the name of a profile", name, "Name one of the list.")
    headers = {"content-disposition": f'attachment; filename="{found.name}.json"'}
    return Response(as_text(found), media_type="application/json", headers=headers)


@router.delete("/api/profiles/{name}", status_code=204)
def forget(name: str, works: Works) -> None:
    """Throw one of the artist's own away."""
    works.shelf.forget(name)
