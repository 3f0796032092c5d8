"""Recipes: listed, saved, applied, brought up to date; and surfaces out of words."""

from __future__ import annotations

import json
from pathlib import PurePath
from typing import Any, Literal

from fastapi import APIRouter, File, Form, Response, UploadFile
from pydantic import BaseModel, ConfigDict, Field

from silent_loom.core.base.errors import SettingError
from silent_loom.core.base.parallel import Rank, Task
from silent_loom.core.ways.recipe_photos import through
from silent_loom.core.weave.rows.dials import reseeded, turned
from silent_loom.core.weave.rows.following import followed
from silent_loom.core.weave.rows.model import SourceRef, Weave
from silent_loom.core.weave.rows.saved import shipped
from silent_loom.core.words.describer import Described, LocalDescriber, shared
from silent_loom.store.recipes import Recipes
from silent_loom.store.states import Missing, State
from silent_loom.store.store import Store
from silent_loom.web.common import Stored, Works
from silent_loom.web.routers.materials import shown
from silent_loom.work.cards import pictured
from silent_loom.work.naming import name_of
from silent_loom.work.workbench import Workbench

router = APIRouter()


@router.get("/api/recipes")
def listed(store: Stored) -> dict[str, Any]:
    """The artist's own recipes, then those that ship, family by family."""
    book = Recipes(store)
    own = [
        {**r.facts(), "own": True, "picture": f"/api/recipes/{r.name}/picture.png", "behind": len(book.behind(r.name))}
        for r in book.all()
    ]
    ready = [{**r.facts(), "own": False, "picture": f"/static/recipes/{r.name}.webp", "behind": 0} for r in shipped().values()]
    return {"recipes": [*own, *ready]}


@router.get("/api/recipes/{name}/picture.png")
def picture(name: str, store: Stored) -> Response:
    """The picture that a recipe of the artist's own was saved with."""
    body = Recipes(store).picture(name)
    return Response(body or b"", 200 if body else 404, media_type="image/png")


@router.get("/api/recipes/{name}/look.png")
def look(name: str, works: Works, seed: int = 0, dials: str = "{}") -> Response:
    """What a recipe without photos looks like with its dials turned."""
    weave = turned(reseeded(works.batches.named(name).weave, seed), _dials(dials))
    return Response(
        works.desk.of_weave(weave, lambda w, task: pictured(works.evaluator, w, task), Rank.TABLE),
        media_type="image/png",
        headers={"cache-control": "private, max-age=600"},
    )


class SaveBody(BaseModel):
    """A recipe to be kept."""

    model_config = ConfigDict(extra="forbid")

    title: str = Field(max_length=120)
    says: str = Field("", max_length=1000)
    words: str = Field("", max_length=500)


@router.post("/api/materials/{ident}/recipe", status_code=201)
def save(ident: str, body: SaveBody, works: Works, store: Stored) -> dict[str, Any]:
    """Keep the weave of a material as a recipe; one of this title gets a new version."""
    state = store.get(ident)
    look = works.cards.card(ident, state.head)
    book = Recipes(store)
    told = book.save(state.weave, body.title, body.says, body.words, look)
    book.follow(ident, told.name)
    return {**told.facts(), "behind": len(book.behind(told.name))}


@router.delete("/api/recipes/{name}")
def forget(name: str, store: Stored) -> dict[str, Any]:
    """Take one of the artist's own out of the list; materials made of it stay."""
    Recipes(store).forget(name)
    return {"ok": True}


@router.post("/api/recipes/{name}/material", status_code=201)
def apply(
    name: str,
    works: Works,
    store: Stored,
    photos: list[UploadFile] = File(default=[]),
    title: str = Form(""),
    seed: int = Form(0, ge=0, le=2**31 - 1),
    dials: str = Form("{}"),
) -> dict[str, Any]:
    """A new material made of a recipe, with photos for its slots."""
    told = works.batches.named(name)
    weave = turned(reseeded(told.weave, seed), _dials(dials))
    brought: list[tuple[str, SourceRef]] = []
    names: list[str] = []
    for photo in photos:
        file = PurePath(photo.filename or "pasted.png").name
        digest, picture = store.add_source(photo.file, file)
        names += [name_of(file, picture)] if not names else []
        brought.append((digest, store.source_ref(digest).model_copy(update={"name": file})))
    made, why = works.desk.of_weave(weave, lambda w, task: through(works.evaluator, w, brought, task=task))
    if (error := works.evaluator.plan(made).error()) is not None:
        raise error
    named = title.strip() or (names[0] if names else told.title)
    state = store.create(named[:200], made, f"Made of the recipe {told.title}")
    if told.name in {r.name for r in Recipes(store).all()}:
        Recipes(store).follow(state.id, told.name)
    return {**shown(works, state), "why": why}


def _dials(text: str) -> dict[str, float]:
    try:
        told = json.loads(text or "{}")
    except ValueError:
        told = None
    if not isinstance(told, dict) or not all(isinstance(v, int | float) for v in told.values()):
        raise SettingError("these are no dials", "dials", "Send numbers by the names of dials.")
    return {str(k): float(v) for k, v in told.items()}


@router.get("/api/materials/{ident}/follows")
def follows(ident: str, store: Stored) -> dict[str, Any]:
    """Which recipe a material was made of, and whether that has gone on since."""
    found = Recipes(store).followed(ident)
    return {"recipe": None} if found is None else {"recipe": found.title, "version": found.version, "newest": found.newest}


def _brought_up(works: Workbench, store: Store, ident: str) -> State:
    book = Recipes(store)
    told = book.followed(ident)
    if told is None:
        raise Missing("this material follows no recipe", ident, "Save one first.")
    state = store.get(ident)
    then, now = book.versions(ident)
    weave = followed(state.weave, then, now)
    after = state
    if weave != state.weave:
        after = store.change(ident, state.head, weave, f"Brought up to {told.title}, version {told.newest}")
    book.follow(ident, told.recipe)
    return after


@router.post("/api/materials/{ident}/follow")
def bring_up(ident: str, works: Works, store: Stored) -> dict[str, Any]:
    """Bring a material up to what its recipe says now; what was changed in it stays. One entry of the history."""
    return shown(works, _brought_up(works, store, ident))


@router.post("/api/recipes/{name}/follow")
def bring_all_up(name: str, works: Works, store: Stored) -> dict[str, Any]:
    """The same for every material that follows an older version of a recipe."""
    told = [_brought_up(works, store, ident) for ident in Recipes(store).behind(name)]
    return {"materials": [{"id": s.id, "name": s.name} for s in told]}


# --- words ------------------------------------------------------------------------------------------------------


class WordsBody(BaseModel):
    """A phrase."""

    model_config = ConfigDict(extra="forbid")

    phrase: str = Field(max_length=400)
    count: int = Field(4, ge=1, le=12)
    which: int = Field(0, ge=0, le=11, description="Which result is meant, where one is made or looked at.")
    name: str = Field("", max_length=200)


def _described(store: Store, phrase: str, count: int) -> Described:
    return LocalDescriber(Recipes(store).all()).describe(phrase, count, Task())


@router.post("/api/words")
def words(body: WordsBody, store: Stored) -> dict[str, Any]:
    """What a phrase means, what is there already, and how many surfaces were made for it; see their pictures."""
    told = _described(store, body.phrase, body.count)
    there = [m for m in store.listed() if shared(body.phrase, m.name)]
    return {**told.as_dict(), "in_the_library": [{"id": m.id, "name": m.name, "head": m.head} for m in there[:6]]}


def _one(store: Store, phrase: str, which: int) -> tuple[str, str, Weave]:
    told = _described(store, phrase, which + 1)
    if which >= len(told.suggestions):
        raise Missing("there is no such result", str(which + 1), "Say it again.")
    found = told.suggestions[which]
    return found.title, found.from_, found.weave


@router.get("/api/words/picture.png")
def words_picture(phrase: str, works: Works, store: Stored, which: int = 0, size: Literal["small"] = "small") -> Response:
    """One of the surfaces under light."""
    _, _, weave = _one(store, phrase, which)
    return Response(
        works.desk.of_weave(weave, lambda w, task: pictured(works.evaluator, w, task)),
        media_type="image/png",
        headers={"cache-control": "private, max-age=3600"},
    )


@router.post("/api/materials/words", status_code=201)
def from_words(body: WordsBody, works: Works, store: Stored) -> dict[str, Any]:
    """A new material out of words."""
    title, made_of, weave = _one(store, body.phrase, body.which)
    return shown(works, store.create(body.name.strip() or title, weave, f"In words: {body.phrase.strip()[:200]} ({made_of})"))
