"""Files that were opened and wait for their table to be confirmed."""

from __future__ import annotations

import secrets
import shutil
import tempfile
import threading
import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path, PurePath
from typing import Any, BinaryIO

from silent_loom.core.base.errors import FileError, LoomError
from silent_loom.core.opening.folder import SUFFIXES, short_name, unpack
from silent_loom.core.opening.own import MANIFEST
from silent_loom.core.opening.recognised import SPECULAR_COLOUR, FoundSet, find
from silent_loom.core.steps.photo.mapset import MapSource
from silent_loom.core.weave import registry, threads
from silent_loom.core.weave.rows.model import SourceRef
from silent_loom.core.weave.rows.recipes import begun
from silent_loom.store.states import State
from silent_loom.store.store import Store

KEEP_SECONDS = 3600


@dataclass(frozen=True)
class Opened:
    """Files in a waiting room, and what was found in them."""

    token: str
    folder: Path
    sets: list[FoundSet]
    made: float


class Openings:
    """Waiting rooms beside the store; forgotten after an hour."""

    def __init__(self, store: Store) -> None:
        self.store = store
        self._rooms: dict[str, Opened] = {}
        self._lock = threading.Lock()

    def take(self, files: Sequence[tuple[str, BinaryIO]]) -> Opened:
        """Take files and zips in and tell what they are.

        Raises
        ------
        FileError
            One cannot be read, or a zip tries something; nothing is kept then.
        """
        self._forget()
        folder = Path(tempfile.mkdtemp(prefix=".opened-", dir=self.store.folder))
        try:
            pictures: list[Path] = []
            for i, (name, stream) in enumerate(files):
                base = short_name(PurePath(name.replace("\\", "/")).name, f"file_{i}")
                room = folder / str(i)
                room.mkdir()
                target = room / base
                with target.open("xb") as out:
                    shutil.copyfileobj(stream, out)
                if base.lower().endswith(".zip"):
                    pictures += unpack(target, room / "unpacked", None)
                    target.unlink()
                elif base == MANIFEST or target.suffix.lower() in SUFFIXES:
                    pictures.append(target)
                elif len(files) == 1:
                    raise FileError("this is no picture and no zip", base, f"Pictures end in {', '.join(sorted(SUFFIXES))}.")
            if not any(p.name != MANIFEST for p in pictures):
                raise FileError("there is no picture among these files", "", f"Pictures end in {', '.join(sorted(SUFFIXES))}.")
            opened = Opened(secrets.token_hex(8), folder, find(pictures), time.monotonic())
        except BaseException:
            shutil.rmtree(folder, ignore_errors=True)
            raise
        with self._lock:
            self._rooms[opened.token] = opened
        return opened

    def make(
        self, token: str, name: str, maps: Sequence[dict[str, Any]], width_mm: float, depth_mm: float, repeats: bool
    ) -> State:
        """A material from the confirmed table.

        Parameters
        ----------
        maps : sequence of dict
            path (as the table gave it), channel, thread, invert, green_down.

        Raises
        ------
        LoomError
        """
        with self._lock:
            opened = self._rooms.get(token)
        if opened is None:
            raise LoomError("these files are no longer here", "", "Open them again.")
        known = {f.path: f for s in opened.sets for f in s.files}
        sources: dict[str, SourceRef] = {}
        rows: list[dict[str, Any]] = []
        for row in maps:
            path = str(row.get("path", ""))
            if path not in known:
                raise LoomError("this file was not opened", PurePath(path).name, "Open it again.")
            with Path(path).open("rb") as stream:
                digest, _ = self.store.add_source(stream, known[path].file)
            sources[digest] = self.store.source_ref(digest).model_copy(update={"name": known[path].file})
            helper = {"kind": "colour"} if row.get("thread") == SPECULAR_COLOUR else {}
            rows.append(
                {**helper, **{k: row[k] for k in ("thread", "channel", "invert", "green_down") if k in row}, "source": digest}
            )
        try:
            checked = [MapSource.model_validate(r).model_dump() for r in rows]
        except ValueError as error:
            raise LoomError(
                "the table is not complete", str(error).split("\n")[1].strip(), "Choose a map for each row."
            ) from None
        chosen = [r["thread"] for r in checked]
        strange = next((t for t in chosen if t not in threads.THREADS and t != SPECULAR_COLOUR), None)
        if strange is not None:
            raise LoomError("the table is not complete", f"'{strange}' is no map", f"Choose one of {', '.join(threads.THREADS)}.")
        twice = sorted({t for t in chosen if chosen.count(t) > 1})
        if twice:
            raise LoomError(f"there are two sources for {twice[0]}", name, "Leave one of them out.")
        values = {"maps": checked, "width_mm": width_mm, "depth_mm": depth_mm, "repeats": repeats}
        weave = begun(
            "set",
            {"maps": values["maps"]},
            {registry.able("maps"): values, **{name: {"depth_mm": depth_mm} for name in registry.all_able("depth")}},
            sources,
            when=() if repeats else ("open",),
        )
        return self.store.create(name, weave, f"Opened from {len(sources)} files")

    def _forget(self) -> None:
        with self._lock:
            for token, opened in list(self._rooms.items()):
                if time.monotonic() - opened.made > KEEP_SECONDS:
                    shutil.rmtree(opened.folder, ignore_errors=True)
                    del self._rooms[token]

    def close(self) -> None:
        """Leave nothing behind."""
        with self._lock:
            for opened in self._rooms.values():
                shutil.rmtree(opened.folder, ignore_errors=True)
            self._rooms.clear()


def made_from(names: Sequence[str]) -> list[dict[str, str]]:
    """Maps that an opened set lacks and what they will be made from, in the order in which that is done.

    >>> made_from(["base", "normal"])[0]
    {'map': 'Height', 'from': 'normal'}
    """
    maps = [{"thread": n, "source": "0" * 64, "kind": "colour" if n == SPECULAR_COLOUR else ""} for n in dict.fromkeys(names)]
    found: dict[str, dict[str, str]] = {}
    for row in begun("set", {"maps": maps}).rows():
        step, settings = registry.step(row.step), registry.settings_of(row.step, row.settings)
        if step.geometric or registry.can(row.step, "maps"):
            continue
        reads = " and ".join(threads.spec(t).title.lower() for t in step.reads(settings)) or "one value"
        for name in step.writes(settings):
            if name not in names:
                found.setdefault(name, {"map": threads.spec(name).title, "from": reads})
    return list(found.values())
