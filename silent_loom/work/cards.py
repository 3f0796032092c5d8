"""Small pictures of materials under light, kept on disk by what they show."""

from __future__ import annotations

import hashlib
import os
import tempfile
from typing import Any

from silent_loom.core.base.bounded_memory import Memory
from silent_loom.core.base.errors import NotMade
from silent_loom.core.base.parallel import IDLE, Rank, Task
from silent_loom.core.files.place import drop, place
from silent_loom.core.files.png import png_bytes
from silent_loom.core.screen.picture import lit
from silent_loom.core.weave import threads
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.model import Weave
from silent_loom.work.desk import Desk

PICTURE_MAPS = tuple(t.name for t in threads.THREADS.values() if t.lights)
"""Maps that change how a surface looks under light."""
CARD_SIZE, CARD_LOOK = 512, "1"
"""Texels of the maps that a card is drawn from, and the version of how it is drawn."""


def pictured(
    evaluator: Evaluator, weave: Weave, task: Task = IDLE, texels: int = CARD_SIZE, width: int = 480, height: int = 360
) -> bytes:
    """A weave under light, PNG."""
    plan = evaluator.plan(weave)
    shown = [t for t in PICTURE_MAPS if t in plan.threads]
    if not shown:
        raise NotMade("this weave makes no map that light falls on", "weave", "Add a step that brings something in.")
    maps = evaluator.ask_many(weave, shown, texels, task)
    return png_bytes(lit(maps, width, height, 1.0), colour=True)


class Cards:
    """Pictures for the library."""

    def __init__(self, desk: Desk) -> None:
        self.desk = desk
        self.facts: Memory[int, dict[str, Any]] = Memory(2000)

    def card_key(self, ident: str, entry: int) -> str:
        """Changes exactly when the picture of a card does."""
        weave = self.desk.store.weave_at(ident, entry)
        plan = self.desk.evaluator.plan(weave)
        keys = [self.desk.evaluator.key(weave, t, CARD_SIZE) for t in PICTURE_MAPS if t in plan.threads]
        return hashlib.sha256("".join([CARD_LOOK, *keys]).encode()).hexdigest()[:24]

    def card(self, ident: str, entry: int) -> bytes:
        """The picture of a material for its card, PNG, kept on disk by what it shows."""
        return self._picture(ident, entry, alone=True)

    def snapshot(self, ident: str, entry: int) -> bytes:
        """The same of any state; kept beside that of the card."""
        return self._picture(ident, entry, alone=False)

    def _picture(self, ident: str, entry: int, alone: bool) -> bytes:
        folder = self.desk.store.folder / ("pictures" if alone else "snapshots")
        path = folder / f"{ident}-{self.card_key(ident, entry)}.png"
        if path.is_file():
            return path.read_bytes()

        def work(weave: Weave, task: Task) -> bytes:
            return pictured(self.desk.evaluator, weave, task)

        body = self.desk.answer(ident, work, entry=entry, rank=Rank.ASIDE, early=True)
        path.parent.mkdir(exist_ok=True)
        handle, partial = tempfile.mkstemp(dir=path.parent, prefix=".part-")
        try:
            with os.fdopen(handle, "wb") as out:
                out.write(body)
            place(partial, path, replace=True)
        finally:
            drop(partial)  # where the disk was full
        if not alone:
            return body
        for old in path.parent.glob(f"{ident}-*.png"):
            if old != path:
                drop(old)
        return body
