"""What a receiver has of a delivery: opened once, kept while somebody looks at it."""

from __future__ import annotations

import shutil
import tempfile
import threading
import zipfile
import zlib
from dataclasses import dataclass
from pathlib import Path

from silent_loom.core.base.errors import LoomError, NotMade
from silent_loom.core.base.images import Image
from silent_loom.core.delivery.proving.receiver import MISTAKES, Received, mistaken, receive
from silent_loom.core.moving.resample import at_most
from silent_loom.core.weave import threads
from silent_loom.core.weave.threads import ThreadSpec
from silent_loom.store.store import Store
from silent_loom.work.views import form_bytes

KEPT = 2
"""Deliveries that are kept open."""


@dataclass(frozen=True)
class Opened:
    """A delivery as its receiver has it."""

    received: Received
    entry: int | None
    """The state of the material that was delivered; None where its manifest does not say."""


class Receiving:
    """Opens deliveries of a store, from their zips alone."""

    def __init__(self, store: Store) -> None:
        self._store = store
        self._alone = threading.Lock()
        self._opened: dict[str, Opened] = {}

    def open(self, delivery: str) -> Opened:
        """A delivery, opened.

        Raises
        ------
        LoomError
            The zip is gone, or was changed.
        """
        row = self._store.delivery(delivery)
        with self._alone:
            if delivery not in self._opened:
                with tempfile.TemporaryDirectory(prefix=".part-", dir=self._store.folder / "deliveries") as folder:
                    taken_out(self._store.delivery_path(row), Path(folder), row.file)
                    got = receive(Path(folder))
                state = got.manifest.get("state")
                self._opened[delivery] = Opened(got, None if state is None else int(state))
                while len(self._opened) > KEPT:
                    self._opened.pop(next(iter(self._opened)))
            return self._opened[delivery]

    def maps(self, delivery: str, mistake: str = "") -> tuple[dict[str, Image], dict[str, ThreadSpec]]:
        """Its maps, with a usual mistake made on purpose, and what they mean.

        Raises
        ------
        LoomError
            There is no such mistake.
        """
        got = self.open(delivery).received.unpacked
        if mistake and mistake not in MISTAKES:
            raise LoomError(f"there is no mistake called '{mistake}'", "mistake", f"There are {', '.join(MISTAKES)}.")
        return (mistaken(got.maps, mistake) if mistake else dict(got.maps)), got.meanings

    def one(self, delivery: str, thread: str, size: int, mistake: str = "") -> tuple[Image, ThreadSpec]:
        """One map at a size at most.

        Raises
        ------
        NotMade
            The delivery has no such map.
        """
        maps, meanings = self.maps(delivery, mistake)
        if thread not in maps:
            raise NotMade(f"{threads.spec(thread).title} is not in the delivery", thread, "Look at another map.")
        return at_most(maps[thread], size), meanings[thread]

    def form(self, delivery: str, size: int, mistake: str = "") -> bytes:
        """Everything the form view draws with, as `Views.form` gives it."""
        maps, meanings = self.maps(delivery, mistake)
        small = {n: at_most(m, size) for n, m in maps.items()}
        return form_bytes(small, lambda n: meanings.get(n) or threads.spec(n), "")

    def forget(self, delivery: str) -> None:
        """A delivery that was thrown away."""
        with self._alone:
            self._opened.pop(delivery, None)


def taken_out(path: Path, folder: Path, called: str) -> list[str]:
    """Files of a zip, put flat into a folder; their names.

    Raises
    ------
    LoomError
        It is gone, or damaged.
    """
    try:
        with zipfile.ZipFile(path) as archive:
            names = []
            for info in archive.infolist():
                name = Path(info.filename).name  # never outside of the folder
                if info.is_dir() or not name:
                    continue
                with archive.open(info) as source, (folder / name).open("wb") as out:
                    shutil.copyfileobj(source, out)
                names.append(name)
            return names
    except FileNotFoundError:
        raise LoomError("the file of this delivery is gone from the data folder", called, "Deliver again.") from None
    except (zipfile.BadZipFile, zlib.error, NotImplementedError):
        raise LoomError("this delivery is damaged", called, "Deliver again.") from None
