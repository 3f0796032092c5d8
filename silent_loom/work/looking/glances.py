"""Small pictures of maps that were seen once, kept on disk: a state that is gone back to shows at once, whatever it costs."""

from __future__ import annotations

import os
import struct
import tempfile
import threading
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.bounded_memory import Memory
from silent_loom.core.base.errors import LoomError, WeaveError
from silent_loom.core.base.images import Image
from silent_loom.core.files.place import drop, place
from silent_loom.core.moving.resample import at_most
from silent_loom.core.screen.display import rgba
from silent_loom.core.weave.rows.model import Weave
from silent_loom.core.weave.threads import ThreadSpec
from silent_loom.work.desk import Desk
from silent_loom.work.looking.sight import Sight

GLANCE = 256
"""Texels along the longer side of what is kept."""
ENOUGH = 200
"""Pictures of fewer texels along the longer side are not worth keeping."""
MOST = 3000
"""As many are kept, some 20 kB each."""
WAITING = 16
"""More are not put aside to be kept: they will be seen again."""
_FACTS = struct.Struct("<dd?")


class Glances:
    """Pictures by what they show: equal questions have equal names, and what is older than a change is never found.

    Lossy, for a passing look alone: the picture that is asked for takes its place as soon as it is there.
    """

    def __init__(self, desk: Desk) -> None:
        self.desk = desk
        self.folder = desk.store.folder / "glances"
        self._there: Memory[str, bool] = Memory(MOST)
        self._aside = ThreadPoolExecutor(1, thread_name_prefix="glances")
        self._lock, self._waiting, self._written = threading.Lock(), 0, 0

    def seen(self, weave: Weave, thread: str, below: str | None, image: Image, meaning: ThreadSpec) -> None:
        """Keep a small picture of a map that somebody sees, unless there is one."""
        if max(image.width, image.height) < ENOUGH:
            return
        name = self._name(weave, thread, below, meaning)
        if self._there.get(name):
            return
        with self._lock:
            if self._waiting >= WAITING:
                return
            self._waiting += 1
        self._aside.submit(self._keep, name, image, meaning)

    def find(
        self, ident: str, thread: str, *, below: str | None = None, sight: Sight | None = None, entry: int | None = None
    ) -> tuple[NDArray[np.uint8], tuple[float, float], bool] | None:
        """The picture of a map that was seen before: RGBA codes, the sheet in mm, whether its edges meet; or None."""
        if sight is not None and sight.chart:
            return None
        weave = self.desk.store.get(ident).weave if entry is None else self.desk.store.weave_at(ident, entry)
        if sight is not None:
            weave = self.desk.seen(weave, sight)
        try:
            path = self.folder / self._name(weave, thread, below, self.desk.evaluator.meaning(weave, thread, below=below))
            body = path.read_bytes()
        except (OSError, WeaveError):  # never seen, or nothing there to see
            return None
        codes: Any = cv2.imdecode(np.frombuffer(body[_FACTS.size :], np.uint8), cv2.IMREAD_COLOR)
        if codes is None:
            return None
        with suppress(OSError):
            os.utime(path)  # the oldest are thrown away first
        wide, high, wraps = _FACTS.unpack_from(body)
        solid = np.full((*codes.shape[:2], 4), 255, np.uint8)
        solid[..., :3] = codes[..., ::-1]
        return solid, (wide, high), wraps

    def close(self) -> None:
        self._aside.shutdown(cancel_futures=True)

    def _name(self, weave: Weave, thread: str, below: str | None, meaning: ThreadSpec) -> str:
        key = self.desk.evaluator.key(weave, thread, GLANCE, below=below)
        return f"{key}.{meaning.low:g}_{meaning.high:g}"

    def _keep(self, name: str, image: Image, meaning: ThreadSpec) -> None:
        try:
            path = self.folder / name
            if not path.is_file():
                codes = rgba(at_most(image, GLANCE), meaning)[..., 2::-1]
                _, body = cv2.imencode(".webp", np.ascontiguousarray(codes), [cv2.IMWRITE_WEBP_QUALITY, 85])
                self._write(path, _FACTS.pack(*image.size_mm, image.wraps) + body.tobytes())
            self._there.put(name, True)
        except (OSError, LoomError):
            pass  # a full disk: nothing is lost, the next look computes it
        finally:
            with self._lock:
                self._waiting -= 1

    def _write(self, path: Path, body: bytes) -> None:
        self.folder.mkdir(exist_ok=True)
        handle, partial = tempfile.mkstemp(dir=self.folder, prefix=".part-")
        try:
            with os.fdopen(handle, "wb") as out:
                out.write(body)
            place(partial, path, replace=True)
        finally:
            drop(partial)  # where the disk was full
        self._written += 1
        if self._written % 100 == 1:
            self._thin()

    def _thin(self) -> None:
        kept = sorted((p for p in self.folder.iterdir() if not p.name.startswith(".")), key=_age)
        for path in kept[: max(0, len(kept) - MOST)]:
            drop(path)
            self._there.put(path.name, False)


def _age(path: Path) -> float:
    try:
        return path.stat().st_mtime
    except OSError:
        return 0.0
