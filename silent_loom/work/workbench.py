"""Answers for the screen: maps, figures, deliveries of stored materials, one owner of the cores at a time."""

from __future__ import annotations

import logging
import os
import shutil
import struct
import tempfile
import threading
import time
import zipfile
from collections import OrderedDict
from collections.abc import Callable
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, TypeVar

import numpy as np

from silent_loom.core.delivery.files import deliver_as_made, needed
from silent_loom.core.delivery.names import file_name
from silent_loom.core.delivery.profile import profile
from silent_loom.core.derive import depth_of, measure
from silent_loom.core.display import histogram, rgba, shown
from silent_loom.core.errors import Cancelled, WeaveError
from silent_loom.core.files.place import drop, place
from silent_loom.core.files.write import is_constant, png_bytes, quantise
from silent_loom.core.images import Image, Kind
from silent_loom.core.parallel import Lane, Task
from silent_loom.core.picture import lit
from silent_loom.core.tiling.repetition_meter import repetition
from silent_loom.core.weave import registry, threads
from silent_loom.core.weave.cache import Cache
from silent_loom.core.weave.evaluate import Evaluator, Plan
from silent_loom.core.weave.model import Weave
from silent_loom.store.store import Store, StoredDecisions
from silent_loom.work.jobs import Job, Jobs

log = logging.getLogger(__name__)
R = TypeVar("R")
PICTURE_MAPS = ("base", "normal", "roughness", "metallic", "occlusion")
FIGURE_SIZE = 1024


@dataclass(frozen=True)
class Draft:
    """Settings of one row that are being tried: not yet a state in the history."""

    step_id: str
    settings: dict[str, Any] = field(default_factory=dict)

    def on(self, weave: Weave) -> Weave:
        return weave.with_settings(self.step_id, self.settings)


class Workbench:
    """Everything that computes for one store.

    Parameters
    ----------
    store : Store
    cache_bytes : int
        Bound on computed maps kept.
    """

    def __init__(self, store: Store, cache_bytes: int = 1536 << 20) -> None:
        self.store = store
        self.lane = Lane()
        self.jobs = Jobs(self.lane)
        self.decisions = StoredDecisions(store)
        self.evaluator = Evaluator(store.sources, Cache(cache_bytes), self.decisions)
        # A control above a cut that is being dragged: its first small answer decides at half the size
        self.quick = Evaluator(store.sources, self.evaluator.cache, None, decision_size=512)
        self.ready = threading.Event()
        """Set when all kernels are compiled or loaded."""
        self._views: dict[str, tuple[int, Task]] = {}
        self._views_lock = threading.Lock()
        self._figures: OrderedDict[str, dict[str, Any]] = OrderedDict()

    def close(self) -> None:
        self.jobs.close()

    # --- one question at a time, the newest first -------------------------------------------------------------

    @contextmanager
    def _asking(self, view: str, sequence: int, passing: bool) -> Any:
        """A task for a question from one view; an older question of the same view is given up."""
        task = Task(lane=self.lane, urgent=True)
        if view:
            with self._views_lock:
                last, older = self._views.get(view, (-1, task))
                if sequence < last:
                    raise Cancelled
                older.cancel() if older is not task else None
                self._views[view] = (sequence, task)
                if len(self._views) > 256:
                    self._views.pop(next(iter(self._views)))
        self.decisions.passing(passing)
        try:
            with self.lane.hold(task):
                yield task
        finally:
            self.decisions.passing(False)

    def answer(
        self,
        ident: str,
        work: Callable[[Weave, Task], R],
        *,
        draft: Draft | None = None,
        view: str = "",
        sequence: int = 0,
        entry: int | None = None,
    ) -> R:
        """Run a question on a material's weave (with a draft laid over it) in the lane.

        Raises
        ------
        Cancelled
            A newer question of the same view came in.
        """
        weave = self.store.get(ident).weave if entry is None else self.store.weave_at(ident, entry)
        if draft is not None:
            weave = draft.on(weave)
        with self._asking(view, sequence, draft is not None) as task:
            return work(weave, task)

    def _for(self, weave: Weave, draft: Draft | None, size: int) -> Evaluator:
        """The evaluator that answers: the quick one for small passing answers to changes above a step that cuts."""
        if draft is None or size > 512:
            return self.evaluator
        at = weave.index(draft.step_id)
        below = any(
            e.on and registry.step(e.step).geometric and registry.step(e.step).decision_scale > 0 for e in weave.steps[at:]
        )
        return self.quick if below else self.evaluator

    # --- maps -------------------------------------------------------------------------------------------------

    def map_rgba(
        self, ident: str, thread: str, size: int, *, below: str | None = None, **how: Any
    ) -> tuple[bytes, dict[str, Any]]:
        """A map as RGBA bytes, row by row, and its facts."""

        def work(weave: Weave, task: Task) -> tuple[bytes, dict[str, Any]]:
            image = self._for(weave, how.get("draft"), size).ask(weave, thread, size, task, below=below)
            facts = {"width": image.width, "height": image.height, "size_mm": image.size_mm, "wraps": image.wraps}
            return rgba(image, thread, depth_of(weave), task).tobytes(), facts

        return self.answer(ident, work, **how)

    def map_png(self, ident: str, thread: str, size: int, *, below: str | None = None, **how: Any) -> bytes:
        """A map as a PNG for an image element."""

        def work(weave: Weave, task: Task) -> bytes:
            image = self.evaluator.ask(weave, thread, size, task, below=below)
            colour = image.kind is Kind.COLOUR
            codes, _ = quantise(shown(image, thread, depth_of(weave)), "8", colour=colour, task=task)
            return png_bytes(codes, colour=colour, fast=True)

        return self.answer(ident, work, **how)

    def form(self, ident: str, size: int, **how: Any) -> bytes:
        """What the form view draws with, in one piece.

        Little-endian: width, height (uint32), repeat in mm across and down, depth in mm (float32), then base colour and
        occlusion-roughness-metallic as RGBA bytes, normal as RGBA half floats (0…1 for −1…1), height over depth as half
        floats (0…1).
        """

        def work(weave: Weave, task: Task) -> bytes:
            plan = self.evaluator.plan(weave)
            present = [t for t in ("base", "height", "normal", "roughness", "metallic", "occlusion") if t in plan.threads]
            maps = self._for(weave, how.get("draft"), size).ask_many(weave, present, size, task)
            first = next(iter(maps.values()))
            w, h, depth = first.width, first.height, depth_of(weave)

            def get(name: str) -> Image:
                return maps.get(name) or threads.neutral(name, w, h, first.size_mm, first.wraps)

            orm = np.concatenate([get(t).pixels for t in ("occlusion", "roughness", "metallic")], 2)
            packed, _ = quantise(orm, "8", colour=False, task=task)
            solid = np.full((h, w, 4), 255, np.uint8)
            solid[..., :3] = packed
            normal = np.ones((h, w, 4), np.float16)
            normal[..., :3] = shown(get("normal"), "normal", depth)
            height = shown(get("height"), "height", depth).astype(np.float16)
            head = struct.pack("<IIfff", w, h, first.size_mm[0], first.size_mm[1], depth)
            return head + rgba(get("base"), "base", depth, task).tobytes() + solid.tobytes() + normal.tobytes() + height.tobytes()

        return self.answer(ident, work, **how)

    def probe(self, ident: str, thread: str, u: float, v: float, size: int, **how: Any) -> dict[str, Any]:
        """Exact values at a place, given as parts of the sheet; colour as linear light and as sRGB codes."""

        def work(weave: Weave, task: Task) -> dict[str, Any]:
            image = self.evaluator.ask(weave, thread, size, task)
            x, y = int(u * image.width) % image.width, int(v * image.height) % image.height
            values = image.pixels[y, x]
            codes = rgba(image.with_pixels(image.pixels[y : y + 1, x : x + 1]), thread, depth_of(weave))[0, 0, :3]
            return {"x": x, "y": y, "width": image.width, "height": image.height, "values": [float(c) for c in values],
                    "codes": codes.tolist(), "unit": threads.spec(thread).unit, "kind": str(image.kind)}  # fmt: skip

        return self.answer(ident, work, **how)

    def counts(self, ident: str, thread: str, size: int, *, above: str | None = None, **how: Any) -> list[list[int]]:
        """Histogram of a thread, or of it right above a row."""

        def work(weave: Weave, task: Task) -> list[list[int]]:
            below = None
            if above is not None:
                rows = [r.entry.id for r in self.evaluator.plan(weave).rows]
                at = rows.index(above) if above in rows else 0
                if at == 0:
                    return []
                below = rows[at - 1]
            try:
                image = self.evaluator.ask(weave, thread, size, task, below=below)
            except WeaveError:
                return []
            return histogram(image, thread, depth_of(weave))

        return self.answer(ident, work, **how)

    # --- figures and warnings -----------------------------------------------------------------------------------

    def figures(self, ident: str, **how: Any) -> dict[str, Any]:
        """Seams, evenness, repetition, and what is odd about each map."""

        def work(weave: Weave, task: Task) -> dict[str, Any]:
            plan = self.evaluator.plan(weave)
            key = self.evaluator.key(weave, "base", FIGURE_SIZE) if "base" in plan.threads else ""
            known = self._figures.get(key)
            if known is None and key:
                finished = self.evaluator.ask(weave, "base", FIGURE_SIZE, task)
                known = {
                    **measure(self.evaluator, weave, FIGURE_SIZE, task),
                    "repetition": round(repetition(finished), 3),
                }
                self._figures[key] = known
                while len(self._figures) > 64:
                    self._figures.popitem(last=False)
            return {
                "sheet": known or {},
                "maps": self._map_notes(plan, weave, known or {}, task),
                "ranges": self._ranges(plan, weave, task),
                "rows": self._row_notes(plan, weave, task),
            }

        return self.answer(ident, work, **how)

    def _row_notes(self, plan: Plan, weave: Weave, task: Task) -> dict[str, Any]:
        notes: dict[str, Any] = {}
        for row in plan.rows:
            if row.error is not None:
                notes[row.entry.id] = {"error": str(row.error), "warnings": [], "figures": {}}
                continue
            try:
                decision = self.evaluator.decision(weave, row.entry.id, task)
            except WeaveError:
                continue
            notes[row.entry.id] = {"warnings": list(decision.warnings), "figures": decision.figures}
        return notes

    def _ranges(self, plan: Plan, weave: Weave, task: Task) -> dict[str, tuple[float, float]]:
        """1st and 99th percentile of every map of plain numbers, in its own unit."""
        found: dict[str, tuple[float, float]] = {}
        for thread in plan.threads:
            try:
                image = self.evaluator.ask(weave, thread, 256, task)
            except WeaveError:
                continue
            if image.kind is Kind.DATA:
                low, high = np.percentile(image.pixels, [1, 99])
                found[thread] = (round(float(low), 3), round(float(high), 3))
        return found

    def _map_notes(self, plan: Plan, weave: Weave, sheet: dict[str, Any], task: Task) -> dict[str, list[str]]:
        notes: dict[str, list[str]] = {}
        depth = depth_of(weave)
        for thread in plan.threads:
            try:
                image = self.evaluator.ask(weave, thread, 256, task)
            except WeaveError as error:
                notes[thread] = [error.what]
                continue
            said: list[str] = []
            if is_constant(image.pixels):
                value = image.pixels.reshape(-1, image.pixels.shape[2])[0]
                said.append("constant " + " ".join(f"{v:.2f}".rstrip("0").rstrip(".") for v in value))
            elif thread in ("base", "height", "roughness", "metallic", "occlusion"):
                seen = shown(image, thread, depth)
                cut = float(((seen < -1e-3) | (seen > 1.001)).mean())
                if cut > 0.001:
                    said.append(f"clipped {100 * cut:.1f} %")
            if thread == "base":
                # Dielectrics lie at about sRGB 50 to 240; judged by the middle of the picture, not by its extremes
                codes, _ = quantise(image.pixels, "8", colour=True)
                low, high = np.percentile(codes.max(2), [10, 90])
                if high < 50:
                    said.append("darker than real surfaces")
                if low > 240:
                    said.append("brighter than real surfaces")
                worst = max(sheet.get("seam_x_after", 0), sheet.get("seam_y_after", 0))
                if worst > 1:
                    said.append(f"seam {worst:.2f}")
            if thread == "metallic" and not is_constant(image.pixels):
                half = float(((image.pixels > 0.2) & (image.pixels < 0.8)).mean())
                if half > 0.25:
                    said.append(f"{100 * half:.0f} % half metal")
            if not image.wraps:
                said.append("not seamless")
            notes[thread] = said
        return notes

    # --- pictures -----------------------------------------------------------------------------------------------

    def card(self, ident: str, entry: int) -> bytes:
        """The picture of a material for its card, PNG, kept on disk by what it shows."""
        path = self.store.folder / "pictures" / f"{ident}-{entry}.png"
        if path.is_file():
            return path.read_bytes()

        def work(weave: Weave, task: Task) -> bytes:
            plan = self.evaluator.plan(weave)
            maps = self.evaluator.ask_many(weave, [t for t in PICTURE_MAPS if t in plan.threads], 512, task)
            return png_bytes(lit(maps, 480, 360, 1.0), colour=True)

        body = self.answer(ident, work, entry=entry)
        path.parent.mkdir(exist_ok=True)
        handle, partial = tempfile.mkstemp(dir=path.parent, prefix=".part-")
        with os.fdopen(handle, "wb") as out:
            out.write(body)
        place(partial, path, replace=True)
        for old in path.parent.glob(f"{ident}-*.png"):
            if old != path:
                drop(old)
        return body

    # --- delivery -----------------------------------------------------------------------------------------------

    def deliver(self, ident: str, profile_name: str, size: int) -> Job:
        """A job that makes a zip of a material as it stands now."""
        wanted, state = profile(profile_name), self.store.get(ident)
        weave = state.weave
        if (error := self.evaluator.plan(weave).error()) is not None:
            raise error

        def work(task: Task) -> dict[str, Any]:
            plan = self.evaluator.plan(weave)
            names = needed(wanted, plan.threads)

            def make(thread: str) -> Image:
                with self.lane.hold(task):
                    return self.evaluator.ask(weave, thread, size, task.part(0, 0))

            folder = Path(tempfile.mkdtemp(prefix=".part-", dir=self.store.folder / "deliveries"))
            try:
                title = file_name(state.name)
                about = {"material": state.name, "sources": [{"file": s.name, "sha256": d} for d, s in weave.sources.items()]}
                manifest = deliver_as_made(
                    folder / "set",
                    title,
                    names,
                    make,
                    wanted,
                    depth_mm=depth_of(weave),
                    about=lambda: about,
                    task=task.part(0, 0.95),
                )
                task.report(0.96, "packing the zip")
                partial = folder / "set.zip"
                with zipfile.ZipFile(partial, "w", zipfile.ZIP_STORED) as out:  # the pictures are compressed already
                    for file in sorted((folder / "set").iterdir()):
                        task.checkpoint()
                        out.write(file, f"{title}/{file.name}")
                zipped = self._free_name(f"{title}_{wanted.name}_{size}_{time.strftime('%Y%m%d-%H%M%S')}")
                place(partial, self.store.folder / "deliveries" / zipped)
                row = self.store.add_delivery(ident, zipped, wanted.name, size)
                return {"delivery": row.id, "file": zipped, "bytes": row.bytes, "manifest": manifest}
            finally:
                shutil.rmtree(folder, ignore_errors=True)

        return self.jobs.add(f"{state.name}: {wanted.title}, {size}", ident, work)

    def _free_name(self, stem: str) -> str:
        folder, name, n = self.store.folder / "deliveries", f"{stem}.zip", 2
        while (folder / name).exists():
            name, n = f"{stem}_{n}.zip", n + 1
        return name
