"""Source files by SHA-256: written whole or not at all, never changed."""

from __future__ import annotations

import hashlib
import os
import tempfile
from pathlib import Path
from typing import BinaryIO

from silent_loom.core.files.place import drop


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
        """Where a blob lies, whether or not it does."""
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
        handle, partial = tempfile.mkstemp(prefix=".part-", dir=self.folder)
        try:
            with os.fdopen(handle, "wb") as out:
                while block := stream.read(1 << 20):
                    digest.update(block)
                    out.write(block)
                out.flush()
                os.fsync(out.fileno())
            path = self.path(digest.hexdigest())
            path.parent.mkdir(exist_ok=True)
            os.replace(partial, path)  # the same content under the same name: nothing is lost by replacing
            _sync_folder(path.parent)
            return digest.hexdigest()
        finally:
            drop(partial)


def _sync_folder(folder: Path) -> None:
    if os.name == "posix":
        handle = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)
