"""Source files by SHA-256: written whole or not at all, never changed."""

from __future__ import annotations

import hashlib
import os
import tempfile
from pathlib import Path
from typing import BinaryIO

from silent_loom.core.files.place import drop
from silent_loom.store.sweep import ADDING, PART


class Blobs:
    """A folder of files named by their content.

    Parameters
    ----------
    folder : path
        Made when it is not there.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        folder.mkdir(parents=True, exist_ok=True)

    def path(self, digest: str) -> Path:
        """Where a blob lies, whether or not it does.

        Raises
        ------
        KeyError
            This is no SHA-256.
        """
        if len(digest) != 64 or not set(digest) <= set("0123456789abcdef"):
            raise KeyError(digest)
        return self.folder / digest[:2] / digest

    def put(self, stream: BinaryIO) -> str:
        """Keep what a stream holds.

        Returns
        -------
        str
            Its SHA-256. The file is on disk, by name, when this returns.
        """
        digest = hashlib.sha256()
        handle, partial = tempfile.mkstemp(prefix=PART, dir=self.folder)
        try:
            with os.fdopen(handle, "wb") as out:
                while block := stream.read(1 << 20):
                    digest.update(block)
                    out.write(block)
                out.flush()
                os.fsync(out.fileno())
            path = self.path(digest.hexdigest())
            if not path.is_file():
                self._mark(digest.hexdigest()).touch()
            path.parent.mkdir(exist_ok=True)
            os.replace(partial, path)  # the same content under the same name: nothing is lost by replacing
            _sync_folder(path.parent)
            return digest.hexdigest()
        finally:
            drop(partial)

    def added(self, digest: str) -> None:
        """The database knows of a blob now, or it was taken back: it is no longer being added."""
        self._mark(digest).unlink(missing_ok=True)

    def _mark(self, digest: str) -> Path:
        return self.folder / f"{ADDING}{digest}"


def _sync_folder(folder: Path) -> None:
    if os.name == "posix":
        handle = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)
