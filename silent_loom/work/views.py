"""Maps as a screen asks for them: whole, in blocks, close up, as values and as counts."""

from __future__ import annotations

import struct
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.errors import NotMade, WeaveError
from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.parallel import IDLE, Rank, Task
from silent_loom.core.files.codes import quantise
from silent_loom.core.files.png import png_bytes
from silent_loom.core.screen.changes import SIDE, changed_blocks
from silent_loom.core.screen.display import histogram, rgba, rgba_blocks, shown
from silent_loom.core.screen.reading import Part, seen
from silent_loom.core.weave import threads
from silent_loom.core.weave.answers.windows import window
from silent_loom.core.weave.rows.model import Weave
from silent_loom.core.weave.threads import ThreadSpec
from silent_loom.work.cards import PICTURE_MAPS
from silent_loom.work.desk import Desk
from silent_loom.work.looking.glances import Glances

PROBED = 4096
"""Texels along the longer side up to which a value is read from a picture of all of the map."""


@dataclass(frozen=True)
class MapFacts:
    """What a screen needs to know of a map's bytes."""

    width: int
    height: int
    size_mm: tuple[float, float]
    wraps: bool
    key: str
    """Equal for equal pictures."""
    blocks: NDArray[np.bool_] | None = None
    """The blocks that are answered, when it is not the whole picture."""


class Views:
    """Maps of stored materials."""

    def __init__(self, desk: Desk) -> None:
        self.desk, self.glances = desk, Glances(desk)

    def map_rgba(
        self,
        ident: str,
        thread: str,
        size: int,
        *,
        below: str | None = None,
        have: str = "",
        part: Part = "",
        clipped: bool = False,
        **how: Any,
    ) -> tuple[bytes, MapFacts]:
        """A map as RGBA bytes, row by row, and its facts.

        Of a picture that a view has already, given by the key in its facts, only what changed is answered: nothing, or the
        blocks that differ, as long as the older picture is kept and most of it is the same. ``part``
        and ``clipped`` as in `seen`.
        """

        def work(weave: Weave, task: Task) -> tuple[bytes, MapFacts]:
            evaluator = self.desk.evaluator_for(weave, how.get("draft"), size)
            meaning = evaluator.meaning(weave, thread, below=below)
            key = evaluator.key(weave, thread, size, below=below)
            read = f".{part}{'!' if clipped else ''}" if part or clipped else ""
            look = f"{key}.{meaning.low:g}_{meaning.high:g}{read}"
            image = evaluator.ask(weave, thread, size, task, below=below)
            facts = MapFacts(image.width, image.height, image.size_mm, image.wraps, look)
            if how.get("draft") is None and not charted(how):
                self.glances.seen(weave, thread, below, image, meaning)
            if have == look:
                return b"", replace(facts, blocks=np.zeros((0, 0), np.bool_))
            if read:
                return seen(image, meaning, part, clipped, task).tobytes(), facts
            had, _, range_then = have.partition(".")
            older = evaluator.cache.get(had) if range_then == look.partition(".")[2] else None
            blocks = changed_blocks(older, image, task=task) if older is not None else None
            if blocks is None or blocks.mean() > 0.5:
                return rgba(image, meaning, task).tobytes(), facts
            return rgba_blocks(image, meaning, blocks, SIDE), replace(facts, blocks=blocks)

        return self.desk.answer(ident, work, **how)

    def glance(self, ident: str, thread: str, **of: Any) -> tuple[bytes, MapFacts] | None:
        """A small picture of a map that was seen before, at once and without the lane; its facts have no key."""
        found = self.glances.find(ident, thread, **of)
        if found is None:
            return None
        codes, size_mm, wraps = found
        return codes.tobytes(), MapFacts(codes.shape[1], codes.shape[0], size_mm, wraps, "")

    def map_key(self, ident: str, thread: str, size: int, *, below: str | None = None, entry: int | None = None) -> str:
        """Changes exactly when the PNG of a map does."""
        weave = self.desk.store.get(ident).weave if entry is None else self.desk.store.weave_at(ident, entry)
        meaning = self.desk.evaluator.meaning(weave, thread, below=below)
        return f"{self.desk.evaluator.key(weave, thread, size, below=below)}.{meaning.low:g}_{meaning.high:g}"

    def map_png(self, ident: str, thread: str, size: int, *, below: str | None = None, **how: Any) -> bytes:
        """A map as a PNG for an image element."""

        def work(weave: Weave, task: Task) -> bytes:
            image = self.desk.evaluator.ask(weave, thread, size, task, below=below)
            colour = image.kind in (Kind.COLOUR, Kind.ID)
            meaning = self.desk.evaluator.meaning(weave, thread, below=below)
            self.glances.seen(weave, thread, below, image, meaning)
            codes, _ = quantise(shown(image, meaning), "8", colour=colour, task=task)
            return png_bytes(codes, colour=colour, fast=True)

        return self.desk.answer(ident, work, rank=Rank.ASIDE, early=True, **how)

    def form(self, ident: str, size: int, *, unlit: str = "", **how: Any) -> bytes:
        """What the form view draws with, in one piece.

        Little-endian: width, height (uint32), repeat in mm across and down, depth in mm (float32), then base colour and
        occlusion-roughness-metallic as RGBA bytes, the alpha of the base opacity and that of the others specular weight, normal
        as RGBA half floats (0…1 for −1…1), height over depth as half floats (0…1). With ``unlit`` the base is another thread,
        as a flat picture shows it.
        """

        def work(weave: Weave, task: Task) -> bytes:
            evaluator = self.desk.evaluator_for(weave, how.get("draft"), size)
            plan = evaluator.plan(weave)
            present = [t for t in (*PICTURE_MAPS, "height", "specular", "opacity") if t in plan.threads]
            present += [unlit] if unlit and unlit not in present else []
            if not present:
                raise NotMade("nothing is made here", "", "Switch on a step that brings something in.")
            maps = evaluator.ask_many(weave, present, size, task)
            return form_bytes(maps, plan.spec, unlit, task)

        return self.desk.answer(ident, work, **how)

    def probe(
        self, ident: str, thread: str, u: float, v: float, size: int, *, below: str | None = None, **how: Any
    ) -> dict[str, Any]:
        """Exact values at a place, given as parts of the sheet; colour as linear light and as sRGB codes."""

        def work(weave: Weave, task: Task) -> dict[str, Any]:
            evaluator = self.desk.evaluator_for(weave, how.get("draft"), PROBED)
            if size > PROBED and below is None:  # of a bake nobody else asked for, only this place
                width, height = evaluator.plan(weave).geometry.at_longer_side(size)
                x, y = int(u * width) % width, int(v * height) % height
                texel = window(evaluator, weave, thread, size, (x, y, x + 1, y + 1), task).image
            else:
                image = evaluator.ask(weave, thread, min(size, PROBED), task, below=below)
                width, height = image.width, image.height
                x, y = int(u * width) % width, int(v * height) % height
                texel = image.with_pixels(image.pixels[y : y + 1, x : x + 1])
            values, meaning = texel.pixels[0, 0], evaluator.meaning(weave, thread, below=below)
            codes = rgba(texel, meaning)[0, 0, :3]
            return {"x": x, "y": y, "width": width, "height": height, "values": [float(c) for c in values],
                    "codes": codes.tolist(), "unit": meaning.unit, "kind": str(texel.kind)}  # fmt: skip

        return self.desk.answer(ident, work, **how)

    def counts(self, ident: str, thread: str, size: int, *, above: str | None = None, **how: Any) -> list[list[int]]:
        """Histogram of a thread, or of it right above a row."""

        def work(weave: Weave, task: Task) -> list[list[int]]:
            below = None
            if above is not None:
                rows = [r.entry.id for r in self.desk.evaluator.plan(weave).rows]
                at = rows.index(above) if above in rows else 0
                if at == 0:
                    return []
                below = rows[at - 1]
            try:
                image = self.desk.evaluator.ask(weave, thread, size, task, below=below)
            except WeaveError:
                return []
            return histogram(image, self.desk.evaluator.meaning(weave, thread, below=below))

        return self.desk.answer(ident, work, rank=Rank.ASIDE, **how)


def charted(how: Mapping[str, Any]) -> bool:
    """Whether a test chart lies in place of the photo: what is shown then is not the material's."""
    return bool(how.get("sight") and how["sight"].chart)


def form_bytes(maps: Mapping[str, Image], meaning: Callable[[str], ThreadSpec], unlit: str, task: Task = IDLE) -> bytes:
    """What the form view draws with, packed as `Views.form` says."""
    first = next(iter(maps.values()))
    w, h, depth = first.width, first.height, meaning("height").depth

    def get(name: str) -> Image:
        return maps.get(name) or threads.neutral(meaning(name), w, h, first.size_mm, first.wraps)

    orm = np.concatenate([get(t).pixels for t in ("occlusion", "roughness", "metallic")], 2)
    packed, _ = quantise(orm, "8", colour=False, task=task)
    solid = np.full((h, w, 4), 255, np.uint8)
    solid[..., :3] = packed
    alphas = np.concatenate([get(t).pixels for t in ("specular", "opacity")], 2)
    weights, _ = quantise(alphas, "8", colour=False, task=task)
    solid[..., 3] = weights[..., 0]
    base = rgba(get(unlit or "base"), meaning(unlit or "base"), task)
    base[..., 3] = weights[..., 1]
    normal = np.ones((h, w, 4), np.float16)
    normal[..., :3] = shown(get("normal"), meaning("normal"))
    height = shown(get("height"), meaning("height")).astype(np.float16)
    head = struct.pack("<IIfff", w, h, first.size_mm[0], first.size_mm[1], depth)
    return head + base.tobytes() + solid.tobytes() + normal.tobytes() + height.tobytes()
