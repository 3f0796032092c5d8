"""Errors that an artist can act on: what happened, where, and what to do."""

from __future__ import annotations

import errno


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


class Full(LoomError):
    """A disk is full, or may not be written: nothing of what was there is touched."""


REFUSALS = {
    errno.ENOSPC: ("the disk is full", "Make room and try again: what was saved before is kept."),
    errno.EDQUOT: ("there is no room left for you on this disk", "Make room and try again: what was saved before is kept."),
    errno.EROFS: ("this disk cannot be written", "Choose another folder: nothing was changed."),
    errno.EACCES: ("you have no right to write there", "Check the rights, or choose another folder: nothing was changed."),
    errno.EPERM: ("you have no right to write there", "Check the rights, or choose another folder: nothing was changed."),
    errno.ENAMETOOLONG: ("this name is too long", "Shorten it."),
    errno.ENOTDIR: ("a part of this path is a file, not a folder", "Name another folder."),
    errno.EISDIR: ("this is a folder", "Name a file."),
}
"""What a system refuses, and what to do about it."""


def refusal(error: OSError, where: str = "") -> LoomError:
    """What a system refused, in words for an artist.

    >>> print(refusal(PermissionError(13, "Permission denied"), "out/slate.png"))
    out/slate.png: you have no right to write there. Check the rights, or choose another folder: nothing was changed.
    """
    place = where or str(error.filename or "")
    if error.errno in REFUSALS:
        what, todo = REFUSALS[error.errno]
        kind = Full if error.errno in (errno.ENOSPC, errno.EDQUOT, errno.EROFS, errno.EACCES, errno.EPERM) else LoomError
        return kind(what, place, todo)
    return LoomError(f"the system refuses ({error.strerror or error})", place, "Check the path, the disk and their rights.")


class WeaveError(LoomError):
    """A weave cannot be evaluated as it stands."""


class NotMade(WeaveError):
    """A thread is asked for that no row makes, at least not as the weave stands now."""


class SettingError(WeaveError):
    """A setting is unknown or out of range."""


class Cancelled(Exception):
    """A newer request, or the artist, made this computation unnecessary."""
