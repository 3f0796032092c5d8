"""The database file: opened in WAL mode, brought to the newest schema, every transaction on disk before it is confirmed."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import sqlalchemy as sa
from sqlalchemy.orm import Session, sessionmaker

from silent_loom.core.errors import LoomError

NEWEST = "0001"


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
        The file is not a database, or is from a newer version.
    """
    engine = sa.create_engine(f"sqlite:///{path}")
    sa.event.listen(engine, "connect", _on_connect)

    # Writers take their lock at once: two windows queue up, and neither fails half-way for having read first.
    @sa.event.listens_for(engine, "begin")
    def _begin(connection: sa.Connection) -> None:
        connection.exec_driver_sql("BEGIN IMMEDIATE" if connection.get_execution_options().get("writes") else "BEGIN")

    sa.event.listen(engine, "connect", lambda c, _r: setattr(c, "isolation_level", None))
    try:
        with engine.connect() as connection:
            have = connection.exec_driver_sql("SELECT name FROM sqlite_master WHERE name='alembic_version'").first()
            at = connection.exec_driver_sql("SELECT version_num FROM alembic_version").scalar() if have else None
            connection.rollback()
            if at != NEWEST:
                _upgrade(connection)
    except sa.exc.DatabaseError as error:
        raise LoomError(
            f"this is not a Silent Loom database, or it is damaged ({error.orig})",
            str(path),
            "Start with another data folder.",
        ) from None
    return sessionmaker(engine, expire_on_commit=False), sessionmaker(
        engine.execution_options(writes=True), expire_on_commit=False
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
