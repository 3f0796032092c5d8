"""One server to a data folder: a second one is told where the first is."""

from __future__ import annotations

import os
from importlib import import_module
from pathlib import Path

from silent_loom.core.base.errors import LoomError

fcntl = import_module("fcntl") if os.name == "posix" else None
"""Elsewhere the system itself keeps a second server from deleting what is open."""


class FolderLock:
    """Held as long as the process lives, however it ends.

    Parameters
    ----------
    folder : path
        The data folder; must be there.

    Raises
    ------
    LoomError
        Another process holds it: says at which address.
    """

    def __init__(self, folder: Path) -> None:
        self.path = folder / "in-use"
        self._handle = os.open(self.path, os.O_RDWR | os.O_CREAT, 0o644)
        if fcntl is None:
            return
        try:
            fcntl.flock(self._handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            address = os.read(self._handle, 200).decode("utf-8", "replace").strip()
            os.close(self._handle)
            raise LoomError(
                "this data folder is in use by a Silent Loom that is running already",
                str(folder),
                f"Use that one{f', at {address}' if address else ''}, or start this one with another --data.",
            ) from None

    def say(self, address: str) -> None:
        """Note where this server is, for a second one to tell."""
        os.ftruncate(self._handle, 0)
        os.pwrite(self._handle, address.encode(), 0)

    def release(self) -> None:
        os.close(self._handle)
