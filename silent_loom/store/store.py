"""Materials and their history."""

from __future__ import annotations

import os
import secrets
import threading
import zipfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import asdict
from pathlib import Path
from typing import BinaryIO, TypeVar

from sqlalchemy import delete, func, select
from sqlalchemy.dialects.sqlite import insert
from sqlalchemy.orm import Session, defer

from silent_loom.core.base.errors import LoomError, refusal
from silent_loom.core.files import Limits, Picture, read
from silent_loom.core.form.reading.table import read_model
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.rows.model import SourceRef, Weave
from silent_loom.core.weave.step import info_of
from silent_loom.store import tables as t
from silent_loom.store.blobs import Blobs
from silent_loom.store.database import open_database
from silent_loom.store.pieces import packed, unpacked
from silent_loom.store.states import SALE, Conflict, HistoryLine, Listed, Missing, Origin, State, Unreadable
from silent_loom.store.stored import StoredSources

R = TypeVar("R")


class Store:
    """Everything an artist made, in one folder.

    Parameters
    ----------
    folder : path
        Made when it is not there.
    """

    def __init__(self, folder: Path, limits: Limits | None = None) -> None:
        try:
            folder.mkdir(parents=True, exist_ok=True)
            self.folder, self.limits = folder, limits or Limits()
            self.blobs = Blobs(folder / "blobs")
            (folder / "deliveries").mkdir(exist_ok=True)
        except OSError as error:
            raise refusal(error, str(folder)) from None
        database = folder / "loom.sqlite"
        missing = not database.is_file() or database.stat().st_size == 0
        if missing and any(p.is_file() for p in self.blobs.folder.glob("??/*")):
            raise LoomError(
                "the pictures of a library are here, but its database is not",
                str(database),
                "Put loom.sqlite back from a copy, or start with another data folder (--data): nothing was changed.",
            )
        self._sessions, self._writes = open_database(database)
        self._writing = threading.Lock()  # one writer at a time in this process; SQLite sees to others
        self.sources = StoredSources(self)

    def close(self) -> None:
        self._sessions.kw["bind"].dispose()

    @contextmanager
    def writing(self) -> Iterator[Session]:
        """A transaction, on disk when the block ends; one at a time in this process, SQLite sees to others."""
        with self._writing, self._writes.begin() as session:
            yield session

    @contextmanager
    def reading(self) -> Iterator[Session]:
        """A look at the database."""
        with self._sessions() as session:
            yield session

    # --- sources --------------------------------------------------------------------------------------------

    def add_source(self, stream: BinaryIO, name: str) -> tuple[str, Picture]:
        """Keep a file and check that it is an image that can be read.

        Raises
        ------
        FileError
            It cannot; nothing is then kept.
        """
        name = _printable(name)[-300:]
        digest, picture = self._put_away(stream, lambda path: read(path, name=name, fmt=None, limits=self.limits))
        self._noted(digest, t.Blob(name=name, format=picture.format, **vars(info_of(picture))))
        self.sources.remember(digest, picture)
        return digest, picture

    def add_model_source(self, stream: BinaryIO, name: str) -> str:
        """Keep a model behind a weave and check that it can be read; its digest.

        Raises
        ------
        FileError
            It cannot; nothing is then kept.
        """
        name = _printable(name)[-300:]
        digest, model = self._put_away(stream, lambda path: read_model(path, name))
        self._noted(digest, t.Blob(name=name, format=model.format, width=0, height=0))
        return digest

    def _put_away(self, stream: BinaryIO, work: Callable[[Path], R]) -> tuple[str, R]:
        """A file put away, and what is read in it; put away no longer where nothing can be."""
        digest = self.blobs.put(stream)
        path = self.blobs.path(digest)
        try:
            return digest, work(path)
        except LoomError:
            if not self.knows(digest):
                path.unlink(missing_ok=True)
            self.blobs.added(digest)
            raise

    def _noted(self, digest: str, facts: t.Blob) -> None:
        with self._writing, self._writes.begin() as session:
            if session.get(t.Blob, digest) is None:
                facts.digest, facts.bytes = digest, self.blobs.path(digest).stat().st_size
                session.add(facts)
        self.blobs.added(digest)

    def knows(self, digest: str) -> bool:
        """Whether a file is among the sources."""
        with self._sessions() as session:
            return session.get(t.Blob, digest) is not None

    def blob(self, digest: str) -> t.Blob:
        with self._sessions() as session:
            found = session.get(t.Blob, digest)
        if found is None:
            raise KeyError(digest)
        return found

    def source_ref(self, digest: str) -> SourceRef:
        """How a weave refers to a stored file.

        Raises
        ------
        Missing
        """
        try:
            b = self.blob(digest)
        except KeyError:
            raise Missing("this file is not stored", digest[:12], "Choose it again.") from None
        return SourceRef(name=b.name, format=b.format, width=b.width, height=b.height, bytes=b.bytes)

    # --- materials ------------------------------------------------------------------------------------------

    def create(self, name: str, weave: Weave, label: str = "Begun", origin: Origin | None = None, ident: str = "") -> State:
        """A new material; whoever might be ended and begin again names its id, so that it is made once."""
        ident = ident or secrets.token_hex(6)
        with self._writing, self._writes.begin() as session:
            session.add(t.Material(id=ident, name=_name(name), head_id=0, **asdict(origin or Origin())))
            session.flush()
            entry = t.Entry(material_id=ident, label=label, weave=self._kept(session, weave))
            session.add(entry)
            session.flush()
            self._material(session, ident).head_id = entry.id
            return self._state(session, ident)

    def get(self, ident: str) -> State:
        """A material as it stands.

        Raises
        ------
        Missing
        """
        with self._sessions() as session:
            return self._state(session, ident)

    def materials(self, *, binned: bool = False) -> list[State]:
        """Materials, the one changed last first."""
        return [self.get(line.id) for line in self.listed(binned=binned)]

    def listed(self, *, binned: bool = False) -> list[Listed]:
        """As `materials`, without their weaves: nothing is read but a line each."""
        with self._sessions() as session:
            condition = t.Material.deleted_at.is_not(None) if binned else t.Material.deleted_at.is_(None)
            rows = session.scalars(select(t.Material).where(condition).order_by(t.Material.updated_at.desc()))
            return [_listed(m) for m in rows]

    def last_readable(self, ident: str) -> State:
        """Back to the newest state before the present one that can be read, where that one cannot.

        Raises
        ------
        LoomError
            None can be read.
        """
        with self._writing, self._writes.begin() as session:
            material = self._material(session, ident)
            at: t.Entry | None = session.get(t.Entry, material.head_id)
            while at is not None:
                try:
                    self._weave(session, at)
                except Unreadable:
                    at = session.get(t.Entry, at.parent_id) if at.parent_id else None
                    continue
                material.head_id = at.id
                return self._state(session, ident)
        raise Unreadable("no state of this material can be read", ident, "Use a copy of the data folder, or put it in the bin.")

    def change(self, ident: str, base: int, weave: Weave, label: str) -> State:
        """A new state on top of ``base``.

        Raises
        ------
        Conflict
            The material had moved on from ``base``; the change is then kept beside the line.
        Missing
        """
        with self._writing, self._writes.begin() as session:
            material = self._material(session, ident)
            parent = self._entry(session, ident, base)
            entry = t.Entry(
                material_id=ident,
                parent_id=base,
                label=label[:300],
                weave=self._kept(session, weave),
                aside=material.head_id != base,
            )
            session.add(entry)
            session.flush()
            if entry.aside:
                kept = entry.id
            else:
                parent.redo_id = entry.id
                material.head_id, material.updated_at = entry.id, t.now()
                return self._state(session, ident)
        raise Conflict(kept)

    def undo(self, ident: str) -> State:
        """Back to the state before; at the first one, nothing happens."""
        return self._move(ident, lambda session, head: head.parent_id)

    def redo(self, ident: str) -> State:
        """Forward again, along the way that was left last."""
        return self._move(ident, lambda session, head: head.redo_id)

    def go_to(self, ident: str, entry_id: int) -> State:
        """To any state of the history; redo then leads along the way to it, as does undo."""

        def there(session: Session, head: t.Entry) -> int:
            entry = self._entry(session, ident, entry_id)
            below = entry
            while below.parent_id is not None:
                above = self._entry(session, ident, below.parent_id)
                above.redo_id = below.id
                below = above
            return entry.id

        return self._move(ident, there)

    def _move(self, ident: str, to: Callable[[Session, t.Entry], int | None]) -> State:
        with self._writing, self._writes.begin() as session:
            material = self._material(session, ident)
            target = to(session, self._entry(session, ident, material.head_id))
            if target is not None:
                material.head_id, material.updated_at = target, t.now()
            return self._state(session, ident)

    def history(self, ident: str) -> list[HistoryLine]:
        """Every state there ever was, oldest first."""
        with self._sessions() as session:
            head = self._material(session, ident).head_id
            entries = select(t.Entry).options(defer(t.Entry.weave)).where(t.Entry.material_id == ident).order_by(t.Entry.id)
            rows = {e.id: e for e in session.scalars(entries)}
        line, at = set(), rows.get(head)
        while at is not None:
            line.add(at.id)
            at = rows.get(at.parent_id or 0)
        return [HistoryLine(e.id, e.parent_id, e.label, e.created_at, e.aside, e.id in line) for e in rows.values()]

    def weave_at(self, ident: str, entry_id: int) -> Weave:
        """The weave of any state."""
        with self._sessions() as session:
            return self._weave(session, self._entry(session, ident, entry_id))

    def rename(self, ident: str, name: str) -> State:
        with self._writing, self._writes.begin() as session:
            material = self._material(session, ident)
            material.name, material.updated_at = _name(name), t.now()
            return self._state(session, ident)

    def duplicate(self, ident: str) -> State:
        """A copy of the present state, with a history of its own."""
        state = self.get(ident)
        return self.create(f"{state.name} copy", state.weave, f"Copied from {state.name}", state.origin)

    def set_origin(self, ident: str, origin: Origin) -> State:
        """Say where a material came from.

        Raises
        ------
        LoomError
            ``sale`` is none of its words.
        """
        if origin.sale not in SALE:
            raise LoomError("this is not an answer", f"sale: {origin.sale}", f"Choose {', '.join(SALE)}.")
        with self._writing, self._writes.begin() as session:
            material = self._material(session, ident)
            material.author, material.origin = origin.author.strip()[:200], origin.origin.strip()[:500]
            material.licence, material.sale = origin.licence.strip()[:200], origin.sale
            material.note = origin.note.strip()[:5000]
            return self._state(session, ident)

    def put_in_bin(self, ident: str) -> Listed:
        """Out of sight, and nothing lost; also where its state cannot be read."""
        with self._writing, self._writes.begin() as session:
            material = self._material(session, ident)
            material.deleted_at = t.now()
            return _listed(material)

    def restore(self, ident: str) -> Listed:
        with self._writing, self._writes.begin() as session:
            material = self._material(session, ident)
            material.deleted_at, material.updated_at = None, t.now()
            return _listed(material)

    # --- decisions and deliveries ---------------------------------------------------------------------------

    def get_decision(self, key: str) -> Decision | None:
        with self._sessions() as session:
            kept = session.get(t.KeptDecision, key)
        if kept is None:
            return None
        try:
            return Decision.from_bytes(kept.body)
        except (ValueError, KeyError, TypeError, EOFError, OSError, zipfile.BadZipFile):  # made again, as any decision can be
            with self._writing, self._writes.begin() as session:
                session.execute(delete(t.KeptDecision).where(t.KeptDecision.key == key))
            return None

    def put_decision(self, key: str, decision: Decision) -> None:
        with self._writing, self._writes.begin() as session:
            if session.get(t.KeptDecision, key) is None:
                session.add(t.KeptDecision(key=key, body=decision.to_bytes()))

    def forget_decisions(self, keep: int = 4000) -> int:
        """Remove all but the newest decisions: any of them can be made again.

        Returns
        -------
        int
            How many were removed.
        """
        newest = select(t.KeptDecision.key).order_by(t.KeptDecision.created_at.desc()).limit(keep)
        with self._writing, self._writes.begin() as session:
            done = session.execute(delete(t.KeptDecision).where(t.KeptDecision.key.not_in(newest)))
        return int(getattr(done, "rowcount", 0))

    def add_delivery(self, material: str, file: str, profile: str, size: int) -> t.Delivery:
        path = self.folder / "deliveries" / file
        row = t.Delivery(
            id=secrets.token_hex(6),
            material_id=material,
            file=file,
            profile=profile,
            size=size,
            bytes=path.stat().st_size,
        )
        with self._writing, self._writes.begin() as session:
            session.add(row)
        return row

    def delivery(self, ident: str) -> t.Delivery:
        with self._sessions() as session:
            found = session.get(t.Delivery, ident)
        if found is None:
            raise Missing("there is no such delivery", ident, "Deliver again.")
        return found

    def deliveries(self, material: str) -> list[t.Delivery]:
        with self._sessions() as session:
            return list(
                session.scalars(
                    select(t.Delivery).where(t.Delivery.material_id == material).order_by(t.Delivery.created_at.desc())
                )
            )

    def forget_delivery(self, ident: str) -> None:
        """Throw a delivery away: the row first, so that no list names a file that is gone.

        Raises
        ------
        Missing
        """
        path = self.delivery_path(self.delivery(ident))
        with self._writing, self._writes.begin() as session:
            session.delete(session.get_one(t.Delivery, ident))
        path.unlink(missing_ok=True)

    def delivery_path(self, row: t.Delivery) -> Path:
        return self.folder / "deliveries" / row.file

    # --- rows -----------------------------------------------------------------------------------------------

    def _material(self, session: Session, ident: str) -> t.Material:
        found = session.get(t.Material, ident)
        if found is None:
            raise Missing("there is no such material", ident, "It may be in another data folder; look in the library.")
        return found

    def _entry(self, session: Session, ident: str, entry_id: int) -> t.Entry:
        found = session.get(t.Entry, entry_id)
        if found is None or found.material_id != ident:
            raise Missing("there is no such state in its history", str(entry_id), "Load the material again.")
        return found

    def _kept(self, session: Session, weave: Weave) -> str:
        """The text of a weave, its long pieces put beside it."""
        text, pieces = packed(weave)
        for digest, body in pieces.items():
            session.execute(insert(t.Piece).values(digest=digest, body=body).on_conflict_do_nothing())
        return text

    def _weave(self, session: Session, entry: t.Entry) -> Weave:
        def fetch(wanted: set[str]) -> dict[str, str]:
            found: dict[str, str] = {}
            names = sorted(wanted)
            for k in range(0, len(names), 500):
                some = names[k : k + 500]
                found.update({p.digest: p.body for p in session.scalars(select(t.Piece).where(t.Piece.digest.in_(some)))})
            return found

        try:
            return unpacked(entry.weave, fetch)
        except (ValueError, KeyError, TypeError, AttributeError, RecursionError, LoomError):
            raise Unreadable(
                "this state cannot be read", f"state {entry.id}", "Go back to an earlier one: they are all kept."
            ) from None

    def _state(self, session: Session, ident: str) -> State:
        m = self._material(session, ident)
        e = self._entry(session, ident, m.head_id)
        return State(
            id=m.id,
            name=m.name,
            head=e.id,
            weave=self._weave(session, e),
            label=e.label,
            parent=e.parent_id,
            can_undo=e.parent_id is not None,
            can_redo=e.redo_id is not None,
            created_at=m.created_at,
            updated_at=m.updated_at,
            deleted_at=m.deleted_at,
            origin=_origin(m),
        )

    def count(self, *, binned: bool = False) -> int:
        """Materials, those in the bin included; or only those."""
        wanted = select(func.count()).select_from(t.Material)
        with self._sessions() as session:
            return int(session.scalar(wanted.where(t.Material.deleted_at.is_not(None)) if binned else wanted) or 0)


def _listed(m: t.Material) -> Listed:
    return Listed(m.id, m.name, m.head_id, m.updated_at, m.deleted_at, _origin(m))


def _origin(m: t.Material) -> Origin:
    return Origin(m.author, m.origin, m.licence, m.sale, m.note)


def _printable(text: str) -> str:
    """A text that any database and file can hold: halves of characters become marks of doubt."""
    return text.encode("utf-8", "replace").decode("utf-8")


def _name(name: str) -> str:
    clean = " ".join(_printable(name).split())[:200]
    if not clean:
        raise LoomError("a material needs a name", "", "Type one.")
    return clean


def default_folder() -> Path:
    """The user's data folder for Silent Loom."""
    base = os.environ.get("XDG_DATA_HOME") or os.environ.get("LOCALAPPDATA") or str(Path.home() / ".local" / "share")
    return Path(base) / "silent-loom"
