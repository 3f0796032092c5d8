"""Named states of materials."""

from __future__ import annotations

import secrets
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import func, select

from silent_loom.core.base.errors import LoomError
from silent_loom.store import tables as t
from silent_loom.store.states import Missing
from silent_loom.store.store import Store


@dataclass(frozen=True)
class SnapshotFacts:
    """A state that has a name.

    Attributes
    ----------
    entry : int
        The state in the material's history.
    """

    id: str
    material: str
    entry: int
    name: str
    created_at: datetime


class Snapshots:
    """The snapshots of one store; as many as an artist likes."""

    def __init__(self, store: Store) -> None:
        self._store = store

    def keep(self, ident: str, name: str = "", entry: int | None = None) -> SnapshotFacts:
        """Give a state a name: the present one, unless an entry of the history is said.

        Raises
        ------
        Missing
            There is no such material or entry.
        LoomError
            The name is longer than 200 letters.
        """
        at = self._store.get(ident).head if entry is None else entry
        self._store.weave_at(ident, at)  # it must be there
        with self._store.writing() as session:
            count = session.scalar(select(func.count()).select_from(t.Snapshot).where(t.Snapshot.material_id == ident)) or 0
            row = t.Snapshot(
                id=secrets.token_hex(6), material_id=ident, entry_id=at, name=_checked(name) or f"Snapshot {count + 1}"
            )
            session.add(row)
            session.flush()
            return _facts(row)

    def of(self, ident: str) -> list[SnapshotFacts]:
        """All of a material, the newest first."""
        wanted = select(t.Snapshot).where(t.Snapshot.material_id == ident)
        with self._store.reading() as session:
            return [_facts(r) for r in session.scalars(wanted.order_by(t.Snapshot.created_at.desc(), t.Snapshot.id))]

    def rename(self, ident: str, snapshot: str, name: str) -> SnapshotFacts:
        """Another name.

        Raises
        ------
        Missing
            There is no such snapshot of this material.
        LoomError
            The name is empty, or longer than 200 letters.
        """
        words = _checked(name)
        if not words:
            raise LoomError("a snapshot needs a name", "name", "Type one.")
        with self._store.writing() as session:
            row = self._row(session.get(t.Snapshot, snapshot), ident, snapshot)
            row.name = words
            return _facts(row)

    def forget(self, ident: str, snapshot: str) -> None:
        """Take the name off a state; the state stays in the history.

        Raises
        ------
        Missing
        """
        with self._store.writing() as session:
            session.delete(self._row(session.get(t.Snapshot, snapshot), ident, snapshot))

    @staticmethod
    def _row(row: t.Snapshot | None, ident: str, snapshot: str) -> t.Snapshot:
        if row is None or row.material_id != ident:
            raise Missing("there is no such snapshot", snapshot, "It was thrown away.")
        return row


def _checked(name: str) -> str:
    words = " ".join(name.encode("utf-8", "replace").decode("utf-8").split())
    if len(words) > 200:
        raise LoomError("this name is too long", words[:40], "Use 200 letters at most.")
    return words


def _facts(row: t.Snapshot) -> SnapshotFacts:
    return SnapshotFacts(row.id, row.material_id, row.entry_id, row.name, row.created_at)
