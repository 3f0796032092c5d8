"""Errors that an artist can act on: what happened, where, and what to do."""

from __future__ import annotations


class LoomError(Exception):
    """Something the artist can mend.

    Parameters
    ----------
    what : str
        What happened, in one clause.
    where : str
        The file, step or setting it happened to; empty when there is only one candidate.
    todo : str
        What to do about it, as a sentence.
    """

    def __init__(self, what: str, where: str = "", todo: str = "") -> None:
        self.what, self.where, self.todo = what, where, todo
        super().__init__(str(self))

    def __str__(self) -> str:
        head = f"{self.where}: {self.what}" if self.where else self.what
        line = f"{head}. {self.todo}" if self.todo else head
        return " ".join(line.split())


class FileError(LoomError):
    """A file cannot be read or written."""


class WeaveError(LoomError):
    """A weave cannot be evaluated as it stands."""


class SettingError(WeaveError):
    """A setting is unknown or out of range."""


class Cancelled(Exception):
    """A newer request, or the artist, made this computation unnecessary."""
