"""Recipes of the artist's own, in the library: every version of them, and the materials that were made of them."""

from __future__ import annotations

import secrets
from dataclasses import dataclass
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from silent_loom.core.base.errors import LoomError
from silent_loom.core.weave.rows.model import Weave
from silent_loom.core.weave.rows.saved import SavedRecipe, emptied
from silent_loom.core.weave.rows.tree import slug
from silent_loom.core.weave.rows.upgrade import parsed
from silent_loom.store import tables as t
from silent_loom.store.states import Missing
from silent_loom.store.store import Store

FAMILY = "Your own"


@dataclass(frozen=True)
class Follows:
    """What a material was made of.

    Attributes
    ----------
    recipe, title : str
        Id and title of the recipe.
    version, newest : int
        The version that the material follows, and the newest one.
    """

    recipe: str
    title: str
    version: int
    newest: int


class Recipes:
    """The recipes of one store."""

    def __init__(self, store: Store) -> None:
        self._store = store

    def save(self, weave: Weave, title: str, says: str = "", words: str = "", picture: bytes | None = None) -> SavedRecipe:
        """Keep a weave as a recipe: photos out, what was placed on them by hand too. One of the same title gets a new version.

        Raises
        ------
        LoomError
            It has no name, or no rows.
        """
        title = " ".join(title.split())[:120]
        if not title:
            raise LoomError("a recipe needs a name", "recipe", "Type one.")
        if not weave.rows():
            raise LoomError("there is nothing in this weave", title, "Add a step first.")
        kept = emptied(weave)
        with self._store.writing() as session:
            row = self._named(session, slug(title))
            if row is None:
                row = t.Recipe(id=secrets.token_hex(6), name=slug(title), title=title, version=0)
                session.add(row)
            row.title, row.says, row.words = title, says.strip()[:1000], " ".join(words.split())[:500]
            row.version = (row.version or 0) + 1
            row.deleted_at = None
            session.flush()
            session.add(t.RecipeVersion(recipe_id=row.id, version=row.version, weave=kept.model_dump_json(), picture=picture))
            session.flush()
            return self._saved(session, row)

    def all(self) -> list[SavedRecipe]:
        """Every recipe, by title; one that cannot be read any more is left out."""
        found = []
        with self._store.reading() as session:
            for row in session.scalars(select(t.Recipe).where(t.Recipe.deleted_at.is_(None)).order_by(t.Recipe.title)):
                try:
                    found.append(self._saved(session, row))
                except ValueError:
                    continue
        return found

    def get(self, name: str) -> SavedRecipe:
        """One recipe by its name.

        Raises
        ------
        Missing
        """
        with self._store.reading() as session:
            return self._saved(session, self._row(session, name))

    def picture(self, name: str) -> bytes | None:
        """The picture of its newest version."""
        with self._store.reading() as session:
            row = self._row(session, name)
            return session.get_one(t.RecipeVersion, (row.id, row.version)).picture

    def forget(self, name: str) -> None:
        """Take a recipe out of the list; materials made of it stay as they are."""
        with self._store.writing() as session:
            self._row(session, name).deleted_at = t.now()

    def follow(self, material: str, name: str) -> None:
        """Note that a material was made of the newest version of a recipe."""
        with self._store.writing() as session:
            row = self._row(session, name)
            session.merge(t.MadeOf(material_id=material, recipe_id=row.id, version=row.version))

    def followed(self, material: str) -> Follows | None:
        """What a material was made of; None where it was made otherwise, or the recipe is gone."""
        with self._store.reading() as session:
            link = session.get(t.MadeOf, material)
            row = session.get(t.Recipe, link.recipe_id) if link is not None else None
            if link is None or row is None or row.deleted_at is not None:
                return None
            return Follows(row.id, row.title, link.version, row.version)

    def behind(self, name: str) -> list[str]:
        """Ids of the materials that follow an older version of a recipe, those in the bin left out."""
        with self._store.reading() as session:
            row = self._row(session, name)
            wanted = (
                select(t.MadeOf.material_id)
                .join(t.Material, t.Material.id == t.MadeOf.material_id)
                .where(t.MadeOf.recipe_id == row.id, t.MadeOf.version < row.version, t.Material.deleted_at.is_(None))
            )
            return list(session.scalars(wanted))

    def versions(self, material: str) -> tuple[Weave, Weave]:
        """What its recipe said when a material was made, and what it says now.

        Raises
        ------
        Missing
            It was not made of a recipe that is still there.
        """
        with self._store.reading() as session:
            link = session.get(t.MadeOf, material)
            row = session.get(t.Recipe, link.recipe_id) if link is not None else None
            if link is None or row is None:
                raise Missing("this material follows no recipe", material, "Choose another.")
            then, now = (session.get_one(t.RecipeVersion, (row.id, v)) for v in (link.version, row.version))
            return parsed(then.weave), parsed(now.weave)

    def _named(self, session: Session, name: str) -> t.Recipe | None:
        return session.scalars(select(t.Recipe).where(t.Recipe.name == name).limit(1)).first()

    def _row(self, session: Session, name: str) -> t.Recipe:
        row = self._named(session, name) or session.get(t.Recipe, name)
        if row is None or row.deleted_at is not None:
            raise Missing("there is no such recipe", name, "It was thrown away.")
        return row

    def _saved(self, session: Session, row: t.Recipe) -> SavedRecipe:
        body = session.get_one(t.RecipeVersion, (row.id, row.version)).weave
        told: dict[str, Any] = {"name": row.name, "title": row.title, "says": row.says, "family": FAMILY}
        return SavedRecipe(**told, words=tuple(row.words.split()), weave=parsed(body))
