"""A material as it stands, as it is listed, and as its history tells it."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from silent_loom.core.base.errors import LoomError
from silent_loom.core.weave.rows.model import Weave


class Conflict(LoomError):
    """Another window had gone on from the same state; the change is kept beside the line.

    Attributes
    ----------
    kept : int
        The entry that holds the change.
    """

    def __init__(self, kept: int) -> None:
        self.kept = kept
        super().__init__(
            "this material was changed in another window",
            "",
            "Your change is kept in its history, beside the line: load the newest, or go to yours.",
        )


class Missing(LoomError):
    """No such material, entry or delivery."""


class Unreadable(LoomError):
    """A state of a material that cannot be read: damaged, or of a newer version."""


SALE = ("unknown", "yes", "no")


@dataclass(frozen=True)
class Origin:
    """Where a material came from.

    Attributes
    ----------
    licence : str
        SPDX identifier, or own words.
    sale : str
        May what is made from it be sold: 'unknown', 'yes' or 'no'.
    """

    author: str = ""
    origin: str = ""
    licence: str = ""
    sale: str = "unknown"
    note: str = ""


@dataclass(frozen=True)
class State:
    """A material as it stands.

    Attributes
    ----------
    head : int
        Entry that the weave belongs to; a change must name it as its base.
    """

    id: str
    name: str
    head: int
    weave: Weave
    label: str
    parent: int | None
    can_undo: bool
    can_redo: bool
    created_at: datetime
    updated_at: datetime
    deleted_at: datetime | None
    origin: Origin


@dataclass(frozen=True)
class Listed:
    """A material as a list needs it."""

    id: str
    name: str
    head: int
    updated_at: datetime
    deleted_at: datetime | None
    origin: Origin


@dataclass(frozen=True)
class HistoryLine:
    """One entry of a material's history."""

    id: int
    parent: int | None
    label: str
    created_at: datetime
    aside: bool
    on_line: bool
    """Between the first entry and the head."""
