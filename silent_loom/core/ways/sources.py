"""Files behind a weave, straight from disk."""

from __future__ import annotations

import hashlib
import threading
from collections import OrderedDict
from collections.abc import Callable
from pathlib import Path

from silent_loom.core.base.bounded_memory import Memory
from silent_loom.core.base.errors import WeaveError
from silent_loom.core.files import Limits, Picture, read
from silent_loom.core.form.model import Model
from silent_loom.core.form.reading.table import read_model
from silent_loom.core.weave.rows.model import SourceRef
from silent_loom.core.weave.step import SourceInfo, info_of


def digest_of(path: Path) -> str:
    """SHA-256 of a file, in hexadecimal."""
    with path.open("rb") as stream:
        return hashlib.file_digest(stream, "sha256").hexdigest()


MODELS = 3
"""Models that are kept in memory."""


class FileSources:
    """Decodes files by content hash and keeps the last few decoded.

    Parameters
    ----------
    find : callable
        From a digest to (path, name, format); raises KeyError when there is none.
    keep_bytes : int
        Bound on decoded samples kept; the last one is kept whatever its size.
    """

    def __init__(
        self, find: Callable[[str], tuple[Path, str, str]], keep_bytes: int = 256 << 20, limits: Limits | None = None
    ) -> None:
        self._find, self._keep, self._limits = find, keep_bytes, limits
        self._pictures: OrderedDict[str, Picture] = OrderedDict()
        self._models: Memory[str, Model] = Memory(MODELS)
        self._infos: dict[str, SourceInfo] = {}
        self._reading: dict[str, threading.Lock] = {}
        self._lock = threading.Lock()

    def picture(self, digest: str) -> Picture:
        """The decoded file.

        Raises
        ------
        WeaveError
            There is no such source.
        FileError
            It cannot be decoded.
        """
        with self._lock:
            alone = self._reading.setdefault(digest, threading.Lock())
        with alone:  # who wants the same file waits for it; who wants another one does not
            with self._lock:
                if digest in self._pictures:
                    self._pictures.move_to_end(digest)
                    return self._pictures[digest]
            try:
                path, name, fmt = self._find(digest)
            except KeyError:
                raise WeaveError(
                    "the photo behind this material is missing", digest[:12], "Choose it again in the photo step."
                ) from None
            try:
                picture = read(path, name=name, fmt=fmt, limits=self._limits)
                self.remember(digest, picture)
            finally:
                with self._lock:
                    self._reading.pop(digest, None)
            return picture

    def remember(self, digest: str, picture: Picture) -> None:
        """Keep a picture that was decoded elsewhere."""
        with self._lock:
            self._infos[digest] = info_of(picture)
            self._pictures[digest] = picture
            while len(self._pictures) > 1 and sum(p.samples.nbytes for p in self._pictures.values()) > self._keep:
                self._pictures.popitem(last=False)

    def info(self, digest: str) -> SourceInfo:
        """Size, focal length and alpha; decodes only the first time."""
        found = self._infos.get(digest)
        return found if found is not None else info_of(self.picture(digest))

    def model(self, digest: str) -> Model:
        """A model behind a weave.

        Raises
        ------
        WeaveError
            There is no such source.
        FileError
            It cannot be read.
        """

        def work() -> Model:
            try:
                path, name, _ = self._find(digest)
            except KeyError:
                raise WeaveError("the model behind this material is missing", digest[:12], "Choose it again.") from None
            return read_model(path, name)

        return self._models.answer(digest, work)


def reference(path: Path, picture: Picture) -> SourceRef:
    """How a weave refers to a file."""
    return SourceRef(name=path.name, format=picture.format, width=picture.width, height=picture.height, bytes=path.stat().st_size)
