"""Models that materials are looked at on."""

from __future__ import annotations

import secrets
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import BinaryIO

from sqlalchemy import select

from silent_loom.core.base.errors import LoomError
from silent_loom.core.form.model import Model
from silent_loom.core.form.packed import read_mesh
from silent_loom.core.form.reading.table import known_taking, read_model, taken_as
from silent_loom.store import tables as t
from silent_loom.store.blobs import Blobs
from silent_loom.store.states import Missing
from silent_loom.store.store import Store


@dataclass(frozen=True)
class ModelFacts:
    """A model as a list needs it."""

    id: str
    name: str
    format: str
    corners: int
    triangles: int
    created_at: datetime
    unit: str = ""
    up: str = ""


class Models:
    """The models of one store, in a folder of their own."""

    def __init__(self, store: Store) -> None:
        self._store, self._files = store, Blobs(store.folder / "models")

    def add(self, stream: BinaryIO, name: str) -> ModelFacts:
        """Keep a model that can be read.

        Raises
        ------
        FileError
            It cannot; nothing is then kept.
        """
        words = name.encode("utf-8", "replace").decode("utf-8")[-200:] or "model"
        digest = self._files.put(stream)
        path = self._files.path(digest)
        try:
            mesh = read_mesh(path, words)
        except LoomError:
            if not self._knows(digest):
                path.unlink(missing_ok=True)
            self._files.added(digest)
            raise
        kind = words.rpartition(".")[2].lower()[:8] or "obj"
        with self._store.writing() as session:
            row = t.Model(
                id=secrets.token_hex(6),
                name=words,
                digest=digest,
                format=kind,
                corners=len(mesh.positions),
                triangles=len(mesh.triangles),
            )
            session.add(row)
            session.flush()
            facts = _facts(row)
        self._files.added(digest)
        return facts

    def all(self) -> list[ModelFacts]:
        """Every model, the newest first."""
        with self._store.reading() as session:
            return [_facts(r) for r in session.scalars(select(t.Model).order_by(t.Model.created_at.desc(), t.Model.id))]

    def file(self, ident: str) -> tuple[Path, str]:
        """Where the file of a model lies, and what it is called.

        Raises
        ------
        Missing
            There is no such model.
        """
        with self._store.reading() as session:
            row = _there(session.get(t.Model, ident), ident)
        return self._files.path(row.digest), row.name

    def model(self, ident: str) -> Model:
        """A model whole: as its file holds it, but for what was said of its unit and upward axis.

        Raises
        ------
        Missing, FileError
        """
        path, name = self.file(ident)
        return taken_as(read_model(path, name), *self.said(ident))

    def said(self, ident: str) -> tuple[str, str]:
        """What somebody said of a model: its unit and the axis that points up; empty where the file is believed.

        Raises
        ------
        Missing
        """
        with self._store.reading() as session:
            row = _there(session.get(t.Model, ident), ident)
            return row.unit, row.up

    def say(self, ident: str, unit: str, up: str) -> ModelFacts:
        """Keep what somebody says of a model: its unit and the axis that points up; empty believes the file.

        Raises
        ------
        Missing
        LoomError
            There is no such unit or axis.
        """
        known_taking(unit, up)
        with self._store.writing() as session:
            row = _there(session.get(t.Model, ident), ident)
            row.unit, row.up = unit, up
            session.flush()
            return _facts(row)

    def forget(self, ident: str) -> None:
        """Take a model out; its file goes when no other model is the same.

        Raises
        ------
        Missing
        """
        with self._store.writing() as session:
            row = _there(session.get(t.Model, ident), ident)
            digest = row.digest
            session.delete(row)
        if not self._knows(digest):
            self._files.path(digest).unlink(missing_ok=True)

    def _knows(self, digest: str) -> bool:
        with self._store.reading() as session:
            return session.scalars(select(t.Model.id).where(t.Model.digest == digest).limit(1)).first() is not None


def _facts(row: t.Model) -> ModelFacts:
    return ModelFacts(row.id, row.name, row.format, row.corners, row.triangles, row.created_at, row.unit, row.up)


def _there(row: t.Model | None, ident: str) -> t.Model:
    if row is None:
        raise Missing("there is no such model", ident, "It was thrown away; choose its file again.")
    return row
