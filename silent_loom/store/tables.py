"""Tables."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import Boolean, DateTime, Dialect, ForeignKey, Index, Integer, LargeBinary, String, Text, TypeDecorator
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column

LONG_AGO = datetime(1970, 1, 1, tzinfo=UTC)


class Moment(TypeDecorator[datetime]):
    """A date; one that cannot be read is long ago, so that a single bad one hides nothing else."""

    impl = DateTime(timezone=True)
    cache_ok = True

    def result_processor(self, dialect: Dialect, coltype: object) -> Callable[[Any], Any] | None:
        read = super().result_processor(dialect, coltype)

        def process(value: Any) -> Any:
            try:
                return value if read is None else read(value)
            except (ValueError, TypeError):
                return LONG_AGO

        return process


class Words(TypeDecorator[str]):
    """A text; what is none is told as one."""

    impl = String
    cache_ok = True

    def process_result_value(self, value: Any, dialect: Dialect) -> Any:
        if value is None or isinstance(value, str):
            return value
        return value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)


def now() -> datetime:
    return datetime.now(UTC)


class Base(DeclarativeBase):
    pass


class Material(Base):
    """A material; its present state is the weave of its head entry."""

    __tablename__ = "materials"
    id: Mapped[str] = mapped_column(String(16), primary_key=True)
    name: Mapped[str] = mapped_column(Words(200))
    created_at: Mapped[datetime] = mapped_column(Moment, default=now)
    updated_at: Mapped[datetime] = mapped_column(Moment, default=now)
    deleted_at: Mapped[datetime | None] = mapped_column(Moment, default=None)
    head_id: Mapped[int] = mapped_column(Integer, default=0)
    author: Mapped[str] = mapped_column(Words(200), default="")
    origin: Mapped[str] = mapped_column(Words(500), default="")
    licence: Mapped[str] = mapped_column(Words(200), default="")
    sale: Mapped[str] = mapped_column(Words(10), default="unknown")
    note: Mapped[str] = mapped_column(Text, default="")


class Entry(Base):
    """One state in a material's history. Entries form a tree and are never changed or removed while it exists."""

    __tablename__ = "entries"
    id: Mapped[int] = mapped_column(Integer, primary_key=True, autoincrement=True)
    material_id: Mapped[str] = mapped_column(ForeignKey("materials.id", ondelete="CASCADE"))
    parent_id: Mapped[int | None] = mapped_column(Integer, default=None)
    redo_id: Mapped[int | None] = mapped_column(Integer, default=None)
    """Where redo goes: the child that was left last."""
    label: Mapped[str] = mapped_column(Words(300))
    weave: Mapped[str] = mapped_column(Text)
    created_at: Mapped[datetime] = mapped_column(Moment, default=now)
    aside: Mapped[bool] = mapped_column(Boolean, default=False)
    """Kept beside the line because another window had gone on from the same state."""
    __table_args__ = (Index("entries_by_material", "material_id", "id"),)


class Piece(Base):
    """A long part of weaves, as a stroke is, kept once for all states that hold it (see `pieces`)."""

    __tablename__ = "pieces"
    digest: Mapped[str] = mapped_column(String(64), primary_key=True)
    body: Mapped[str] = mapped_column(Text)


class Blob(Base):
    """Facts of a source file; its bytes lie beside the database under its hash."""

    __tablename__ = "blobs"
    digest: Mapped[str] = mapped_column(String(64), primary_key=True)
    name: Mapped[str] = mapped_column(Words(300))
    format: Mapped[str] = mapped_column(String(16))
    bytes: Mapped[int] = mapped_column(Integer)
    width: Mapped[int] = mapped_column(Integer)
    height: Mapped[int] = mapped_column(Integer)
    focal_px: Mapped[float] = mapped_column(default=0.0)
    focal_error: Mapped[float] = mapped_column(default=0.0)
    alpha: Mapped[bool] = mapped_column(Boolean, default=False)
    created_at: Mapped[datetime] = mapped_column(Moment, default=now)


class KeptDecision(Base):
    """A step's decision, by its key."""

    __tablename__ = "decisions"
    key: Mapped[str] = mapped_column(String(64), primary_key=True)
    body: Mapped[bytes] = mapped_column(LargeBinary)
    created_at: Mapped[datetime] = mapped_column(Moment, default=now)


class Delivery(Base):
    """A finished zip."""

    __tablename__ = "deliveries"
    id: Mapped[str] = mapped_column(String(16), primary_key=True)
    material_id: Mapped[str] = mapped_column(ForeignKey("materials.id", ondelete="CASCADE"))
    file: Mapped[str] = mapped_column(Words(300))
    profile: Mapped[str] = mapped_column(String(50))
    size: Mapped[int] = mapped_column(Integer)
    bytes: Mapped[int] = mapped_column(Integer)
    created_at: Mapped[datetime] = mapped_column(Moment, default=now)


class StoredJob(Base):
    """A job: what is to be done, how far it is, and what came of it."""

    __tablename__ = "jobs"
    id: Mapped[str] = mapped_column(String(16), primary_key=True)
    kind: Mapped[str] = mapped_column(String(40))
    title: Mapped[str] = mapped_column(Words(300))
    material_id: Mapped[str] = mapped_column(String(16), default="")
    settings: Mapped[str] = mapped_column(Text, default="{}")
    state: Mapped[str] = mapped_column(String(10))
    words: Mapped[str] = mapped_column(String(300), default="")
    error: Mapped[str] = mapped_column(Text, default="")
    result: Mapped[str] = mapped_column(Text, default="{}")
    log: Mapped[str] = mapped_column(Text, default="[]")
    seconds: Mapped[float] = mapped_column(default=0.0)
    created_at: Mapped[datetime] = mapped_column(Moment, default=now)
    __table_args__ = (Index("jobs_by_state", "state", "created_at"),)


class Snapshot(Base):
    """A state of a material that has a name; states are never removed, so it needs nothing but the entry."""

    __tablename__ = "snapshots"
    id: Mapped[str] = mapped_column(String(16), primary_key=True)
    material_id: Mapped[str] = mapped_column(ForeignKey("materials.id", ondelete="CASCADE"))
    entry_id: Mapped[int] = mapped_column(Integer)
    name: Mapped[str] = mapped_column(Words(200))
    created_at: Mapped[datetime] = mapped_column(Moment, default=now)
    __table_args__ = (Index("snapshots_by_material", "material_id", "created_at"),)


class Model(Base):
    """A model to look at materials on; its file lies beside the database under its hash."""

    __tablename__ = "models"
    id: Mapped[str] = mapped_column(String(16), primary_key=True)
    name: Mapped[str] = mapped_column(Words(200))
    digest: Mapped[str] = mapped_column(String(64))
    format: Mapped[str] = mapped_column(String(8))
    corners: Mapped[int] = mapped_column(Integer)
    triangles: Mapped[int] = mapped_column(Integer)
    unit: Mapped[str] = mapped_column(String(8), default="")
    up: Mapped[str] = mapped_column(String(1), default="")
    created_at: Mapped[datetime] = mapped_column(Moment, default=now)


class Recipe(Base):
    """A recipe of the artist's own; what it says stands in its versions."""

    __tablename__ = "recipes"
    id: Mapped[str] = mapped_column(String(16), primary_key=True)
    name: Mapped[str] = mapped_column(Words(120))
    title: Mapped[str] = mapped_column(Words(200))
    says: Mapped[str] = mapped_column(Text, default="")
    words: Mapped[str] = mapped_column(Text, default="")
    version: Mapped[int] = mapped_column(Integer, default=1)
    created_at: Mapped[datetime] = mapped_column(Moment, default=now)
    deleted_at: Mapped[datetime | None] = mapped_column(Moment, default=None)


class RecipeVersion(Base):
    """What a recipe said at one time; materials that were made then are brought up to date from here."""

    __tablename__ = "recipe_versions"
    recipe_id: Mapped[str] = mapped_column(ForeignKey("recipes.id", ondelete="CASCADE"), primary_key=True)
    version: Mapped[int] = mapped_column(Integer, primary_key=True)
    weave: Mapped[str] = mapped_column(Text)
    picture: Mapped[bytes | None] = mapped_column(LargeBinary, default=None)


class MadeOf(Base):
    """Which recipe a material was made of, and which version it follows."""

    __tablename__ = "made_of"
    material_id: Mapped[str] = mapped_column(ForeignKey("materials.id", ondelete="CASCADE"), primary_key=True)
    recipe_id: Mapped[str] = mapped_column(ForeignKey("recipes.id", ondelete="CASCADE"))
    version: Mapped[int] = mapped_column(Integer)
    __table_args__ = (Index("made_of_by_recipe", "recipe_id"),)
