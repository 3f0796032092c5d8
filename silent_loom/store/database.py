"""The database file: opened in WAL mode, brought to the newest schema, every transaction on disk before it is confirmed."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from typing import Any

import sqlalchemy as sa
from sqlalchemy.orm import Session, sessionmaker

from silent_loom.core.base.errors import Full, LoomError

NEWEST = "0007"
"""The revision that this version of the program needs; a test holds it against the migrations."""


def _on_connect(connection: Any, _record: Any) -> None:
    cursor = connection.cursor()
    cursor.execute("PRAGMA journal_mode=WAL")
    cursor.execute("PRAGMA synchronous=FULL")
    cursor.execute("PRAGMA foreign_keys=ON")
    cursor.execute("PRAGMA busy_timeout=10000")
    cursor.close()


def open_database(path: Path) -> tuple[sessionmaker[Session], sessionmaker[Session]]:
    """Sessions for reading and for writing on a database file, made or brought up to date.

    Raises
    ------
    LoomError
        The file is not a database, is somebody else's, cannot be written, or is from a newer version.
    """
    fresh = not path.exists() or path.stat().st_size == 0
    engine = sa.create_engine(f"sqlite:///{path}")
    sa.event.listen(engine, "connect", _on_connect)

    # Writers take their lock at once: two windows queue up, and neither fails half-way for having read first.
    @sa.event.listens_for(engine, "begin")
    def _begin(connection: sa.Connection) -> None:
        connection.exec_driver_sql("BEGIN IMMEDIATE" if connection.get_execution_options().get("writes") else "BEGIN")

    sa.event.listen(engine, "connect", lambda c, _r: setattr(c, "isolation_level", None))
    try:
        with engine.connect() as connection:
            tables = set(connection.exec_driver_sql("SELECT name FROM sqlite_master WHERE type = 'table'").scalars())
            have = "alembic_version" in tables
            if tables and not have | ("materials" in tables):
                raise LoomError("this database belongs to another program", str(path), "Start with another data folder (--data).")
            at = connection.exec_driver_sql("SELECT version_num FROM alembic_version").scalar() if have else None
            connection.rollback()
            if at != NEWEST:
                _upgrade(connection)
    except sa.exc.DatabaseError as error:
        engine.dispose()
        if fresh:  # made by this very try
            for name in (path, path.with_name(f"{path.name}-wal"), path.with_name(f"{path.name}-shm")):
                with suppress(OSError):
                    name.unlink(missing_ok=True)
        raise refused(error, str(path)) from None
    return sessionmaker(engine, expire_on_commit=False), sessionmaker(
        engine.execution_options(writes=True), expire_on_commit=False
    )


def refused(error: sa.exc.DatabaseError, where: str = "") -> LoomError:
    """What a database says, in words for an artist: a disk that is full or may not be written is nobody's damage."""
    said = str(error.orig).lower()
    if "disk is full" in said or "disk i/o" in said:
        return Full("the disk is full", where, "Make room and try again: what was saved before is kept.")
    if "readonly" in said or "unable to open" in said:
        return Full(
            "the data folder cannot be written", where, "Check its rights, or choose another with --data: nothing was changed."
        )
    if "locked" in said:
        return LoomError("the database is in use by another process", where, "Try again when that one is done.")
    return LoomError(
        f"this is not a Silent Loom database, or it is damaged ({error.orig})",
        where,
        "Put back a copy of it, or start with another data folder.",
    )


def _upgrade(connection: sa.Connection) -> None:
    from alembic import command  # a fifth of a second to load, and seldom needed
    from alembic.config import Config
    from alembic.util import CommandError

    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.attributes["connection"] = connection
    try:
        command.upgrade(config, "head")
        connection.commit()
    except CommandError as error:
        raise LoomError(
            f"the data folder is from a newer version ({error})", "", "Use the newer version, or another data folder."
        ) from None
