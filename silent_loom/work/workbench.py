"""Answers for the screen: maps, figures, deliveries of stored materials, one owner of the cores at a time."""

from __future__ import annotations

import hashlib
import logging
import os
import struct
import tempfile
import threading
from collections import OrderedDict
from collections.abc import Callable
from contextlib import contextmanager
from dataclasses import asdict, dataclass, field, replace
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.changes import SIDE, changed_blocks
from silent_loom.core.delivery.profile import profile
from silent_loom.core.derive import closing, measure, seam_lines, with_suggestion
from silent_loom.core.display import histogram, rgba, rgba_blocks, shown
from silent_loom.core.errors import Cancelled, WeaveError
from silent_loom.core.files.codes import quantise
from silent_loom.core.files.place import drop, place
from silent_loom.core.files.png import png_bytes
from silent_loom.core.images import Floats, Image, Kind
from silent_loom.core.parallel import Lane, Rank, Task
from silent_loom.core.photo.report import Cure, Report, report
from silent_loom.core.photo.whole_repeats import WholeRepeats, whole_repeats
from silent_loom.core.picture import lit
from silent_loom.core.prepare import Preparation
from silent_loom.core.resample import enlarge
from silent_loom.core.tiling.repetition_meter import copies, repetition, spots
from silent_loom.core.tiling.seam_meter import heat, seams
from silent_loom.core.weave import registry, threads
from silent_loom.core.weave.cache import Cache
from silent_loom.core.weave.edit import set_values
from silent_loom.core.weave.evaluate import Evaluator
from silent_loom.core.weave.model import Weave
from silent_loom.store.jobs import StoredJobs
from silent_loom.store.store import Store
from silent_loom.store.stored import StoredDecisions
from silent_loom.work.break_up import cell_sizes, cells
from silent_loom.work.few import Few
from silent_loom.work.jobs import Job, Jobs
from silent_loom.work.notes import map_notes, ranges, row_notes
from silent_loom.work.photos import upright_jpeg
from silent_loom.work.zipping import zipped

log = logging.getLogger(__name__)
R = TypeVar("R")
PICTURE_MAPS = tuple(t.name for t in threads.THREADS.values() if t.lights)
FIGURE_SIZE = 1024
PROBED = 4096
"""Texels along the longer side up to which a value is read from a picture of all of the map."""
CARD_SIZE, CARD_LOOK = 512, "1"
"""Texels of the maps that a card is drawn from, and the version of how it is drawn."""


@dataclass(frozen=True)
class Draft:
    """Settings of one row that are being tried: not yet a state in the history."""

    step_id: str
    settings: dict[str, Any] = field(default_factory=dict)

    def on(self, weave: Weave) -> Weave:
        return set_values(weave, self.step_id, self.settings)


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


class Workbench:
    """Everything that computes for one store.

    Parameters
    ----------
    store : Store
    cache_bytes : int
        Bound on computed maps kept.
    preparation : Preparation, optional
        What compiles kernels ahead. Whatever would need one that is not ready waits before it takes the lane, so that nothing
        else has to wait with it.
    """

    def __init__(self, store: Store, cache_bytes: int = 1536 << 20, preparation: Preparation | None = None) -> None:
        self.store = store
        self.lane = Lane()
        self.jobs = Jobs(self.lane, StoredJobs(store))
        self.jobs.can("deliver", self._delivered)
        self.decisions = StoredDecisions(store)
        self.evaluator = Evaluator(store.sources, Cache(cache_bytes), self.decisions)
        # A control above a cut that is being dragged: its first small answers decide at half the size
        self.quick = Evaluator(store.sources, self.evaluator.cache, None, decision_size=512, finer=2)
        self.preparation = preparation
        self.seeded = threading.Event()
        """Set when the materials of the demo are in the store, if they are wanted."""
        self._views: dict[str, tuple[int, Task]] = {}
        self._views_lock = threading.Lock()
        self._figures: OrderedDict[str, dict[str, Any]] = OrderedDict()
        self._reports: OrderedDict[str, Report] = OrderedDict()
        self.card_facts: Few[int, dict[str, Any]] = Few(2000)

    def close(self) -> None:
        self.jobs.close()

    # --- one question at a time, the newest first -------------------------------------------------------------

    @contextmanager
    def _asking(self, view: str, sequence: int, passing: bool, rank: Rank, early: bool) -> Any:
        """A task for a question from one view; an older question of the same view is given up."""
        self._wait_for_kernels(early or rank > Rank.ASIDE)
        task = Task(lane=self.lane, rank=rank)
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

    def _wait_for_kernels(self, early: bool) -> None:
        """Until what pictures need is compiled; until everything is, where it is not to come early."""
        if self.preparation is not None and not self.preparation.ended:
            if early:
                self.preparation.wait_for_first()
            else:
                self.preparation.wait_for_all()

    def answer(
        self,
        ident: str,
        work: Callable[[Weave, Task], R],
        *,
        draft: Draft | None = None,
        view: str = "",
        sequence: int = 0,
        entry: int | None = None,
        rank: Rank = Rank.TABLE,
        early: bool = False,
    ) -> R:
        """Run a question on a material's weave (with a draft laid over it, which goes before all others) in the lane.

        What is seen beside the picture waits for all kernels on a first start, unless it is to come ``early``.

        Raises
        ------
        Cancelled
            A newer question of the same view came in.
        """
        weave = self.store.get(ident).weave if entry is None else self.store.weave_at(ident, entry)
        if draft is not None:
            weave = draft.on(weave)
        with self._asking(view, sequence, draft is not None, rank if draft is None else Rank.HAND, early) as task:
            return work(weave, task)

    def _for(self, weave: Weave, draft: Draft | None, size: int) -> Evaluator:
        """The evaluator that answers: the quick one for small passing answers to changes above a step that cuts."""
        if draft is None or size > 512:
            return self.evaluator
        at = weave.index(draft.step_id)
        cuts = (registry.known(e.step) for e in weave.rows()[at:] if e.on)
        below = any(step is not None and step.geometric and step.decides and step.decision_scale > 0 for step in cuts)
        return self.quick if below else self.evaluator

    # --- maps -------------------------------------------------------------------------------------------------

    def map_rgba(
        self, ident: str, thread: str, size: int, *, below: str | None = None, have: str = "", **how: Any
    ) -> tuple[bytes, MapFacts]:
        """A map as RGBA bytes, row by row, and its facts.

        Of a picture that a view has already, given by the key in its facts, only what changed is answered: nothing, or the
        blocks that differ, as long as the older picture is kept and most of it is the same.
        """

        def work(weave: Weave, task: Task) -> tuple[bytes, MapFacts]:
            evaluator = self._for(weave, how.get("draft"), size)
            meaning = evaluator.meaning(weave, thread, below=below)
            key = evaluator.key(weave, thread, size, below=below)
            look = f"{key}.{meaning.low:g}_{meaning.high:g}"
            image = evaluator.ask(weave, thread, size, task, below=below)
            facts = MapFacts(image.width, image.height, image.size_mm, image.wraps, look)
            if have == look:
                return b"", replace(facts, blocks=np.zeros((0, 0), np.bool_))
            had, _, range_then = have.partition(".")
            older = evaluator.cache.get(had) if range_then == look.partition(".")[2] else None
            blocks = changed_blocks(older, image, task=task) if older is not None else None
            if blocks is None or blocks.mean() > 0.5:
                return rgba(image, meaning, task).tobytes(), facts
            return rgba_blocks(image, meaning, blocks, SIDE), replace(facts, blocks=blocks)

        return self.answer(ident, work, **how)

    def map_key(self, ident: str, thread: str, size: int, *, below: str | None = None, entry: int | None = None) -> str:
        """Changes exactly when the PNG of a map does."""
        weave = self.store.get(ident).weave if entry is None else self.store.weave_at(ident, entry)
        meaning = self.evaluator.meaning(weave, thread, below=below)
        return f"{self.evaluator.key(weave, thread, size, below=below)}.{meaning.low:g}_{meaning.high:g}"

    def map_png(self, ident: str, thread: str, size: int, *, below: str | None = None, **how: Any) -> bytes:
        """A map as a PNG for an image element."""

        def work(weave: Weave, task: Task) -> bytes:
            image = self.evaluator.ask(weave, thread, size, task, below=below)
            colour = image.kind in (Kind.COLOUR, Kind.ID)
            meaning = self.evaluator.meaning(weave, thread, below=below)
            codes, _ = quantise(shown(image, meaning), "8", colour=colour, task=task)
            return png_bytes(codes, colour=colour, fast=True)

        return self.answer(ident, work, rank=Rank.ASIDE, early=True, **how)

    def form(self, ident: str, size: int, **how: Any) -> bytes:
        """What the form view draws with, in one piece.

        Little-endian: width, height (uint32), repeat in mm across and down, depth in mm (float32), then base colour and
        occlusion-roughness-metallic as RGBA bytes, normal as RGBA half floats (0…1 for −1…1), height over depth as half
        floats (0…1).
        """

        def work(weave: Weave, task: Task) -> bytes:
            plan = self.evaluator.plan(weave)
            present = [t for t in (*PICTURE_MAPS, "height") if t in plan.threads]
            if not present:
                raise WeaveError("nothing is made here", "", "Switch a step on that brings something in.")
            maps = self._for(weave, how.get("draft"), size).ask_many(weave, present, size, task)
            first = next(iter(maps.values()))
            w, h, depth = first.width, first.height, plan.spec("height").depth

            def get(name: str) -> Image:
                return maps.get(name) or threads.neutral(plan.spec(name), w, h, first.size_mm, first.wraps)

            orm = np.concatenate([get(t).pixels for t in ("occlusion", "roughness", "metallic")], 2)
            packed, _ = quantise(orm, "8", colour=False, task=task)
            solid = np.full((h, w, 4), 255, np.uint8)
            solid[..., :3] = packed
            normal = np.ones((h, w, 4), np.float16)
            normal[..., :3] = shown(get("normal"), plan.spec("normal"))
            height = shown(get("height"), plan.spec("height")).astype(np.float16)
            head = struct.pack("<IIfff", w, h, first.size_mm[0], first.size_mm[1], depth)
            return (
                head
                + rgba(get("base"), plan.spec("base"), task).tobytes()
                + solid.tobytes()
                + normal.tobytes()
                + height.tobytes()
            )

        return self.answer(ident, work, **how)

    def probe(self, ident: str, thread: str, u: float, v: float, size: int, **how: Any) -> dict[str, Any]:
        """Exact values at a place, given as parts of the sheet; colour as linear light and as sRGB codes."""

        def work(weave: Weave, task: Task) -> dict[str, Any]:
            width, height = self.evaluator.plan(weave).geometry.at_longer_side(size)
            x, y = int(u * width) % width, int(v * height) % height
            if size > PROBED:  # of a bake nobody else asked for, only this place
                texel = self.evaluator.window(weave, thread, size, (x, y, x + 1, y + 1), task).image
            else:
                image = self.evaluator.ask(weave, thread, size, task)
                texel = image.with_pixels(image.pixels[y : y + 1, x : x + 1])
            values, meaning = texel.pixels[0, 0], self.evaluator.meaning(weave, thread)
            codes = rgba(texel, meaning)[0, 0, :3]
            return {"x": x, "y": y, "width": width, "height": height, "values": [float(c) for c in values],
                    "codes": codes.tolist(), "unit": meaning.unit, "kind": str(texel.kind)}  # fmt: skip

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
            return histogram(image, self.evaluator.meaning(weave, thread, below=below))

        return self.answer(ident, work, rank=Rank.ASIDE, **how)

    # --- what is wrong, and what mends it -----------------------------------------------------------------------

    def photo_report(self, ident: str, **how: Any) -> Report:
        """What is right and wrong with the photo of a material; kept by its file and width."""

        def work(weave: Weave, task: Task) -> Report:
            row = next((r for r in self.evaluator.plan(weave).rows if "photo" in r.step.can), None)
            if row is None or row.error is not None:
                raise WeaveError("this material has no photo", "photo report", "Begin one from a photo.")
            key = f"{row.settings.source}:{row.before.size_mm}:{row.settings.width_mm}"  # type: ignore[attr-defined]
            known = self._reports.get(key)
            if known is None:
                picture = self.store.sources.picture(row.settings.source)  # type: ignore[attr-defined]
                known = report(picture, row.settings.width_mm, task)  # type: ignore[attr-defined]
                self._reports[key] = known
                while len(self._reports) > 16:
                    self._reports.popitem(last=False)
            return known

        return self.answer(ident, work, **how)

    def findings(self, ident: str, **how: Any) -> dict[str, Any]:
        """The photo report for JSON; ``mended_by`` of a finding is the title of the row that does what mends it, or None."""
        found = self.photo_report(ident, **how).as_dict()
        rows = [r for r in self.evaluator.plan(self.store.get(ident).weave).rows if r.entry.on and r.error is None]
        for finding in found["findings"]:
            cure = Cure(**finding["cure"]) if finding["cure"] else None
            by = (r.step.title for r in rows if cure and r.step.name == cure.step and cure.done_by(r.settings.model_dump()))
            finding["mended_by"] = next(by, None)
        return found

    def light_picture(self, ident: str, step_id: str | None, **how: Any) -> bytes:
        """The illumination of a photo, or the one that an Even light row takes out, as a grey PNG; middle grey is even."""
        if step_id is None:
            light = self.photo_report(ident, **how).light
        else:

            def work(weave: Weave, task: Task) -> Floats:
                arrays = self.evaluator.decision(weave, step_id, task).arrays
                if "log_light" not in arrays:
                    raise WeaveError("this row takes no light out", step_id, "Switch it on.")
                return np.exp(arrays["log_light"])

            light = self.answer(ident, work, **how)
        big = enlarge(np.ascontiguousarray(light, np.float32), light.shape[1] * 4, light.shape[0] * 4, False)
        codes = np.clip(np.rint(128 * np.log2(np.maximum(big, 1e-3)) / 2 + 128), 0, 255).astype(np.uint8)
        return png_bytes(codes[..., None], colour=False, fast=True)

    def suggestion(self, ident: str, method: str, **how: Any) -> tuple[str, dict[str, Any], str]:
        """Row, settings and reason for the seamless step of a material: by what suits, or the motif's grid."""

        def work(weave: Weave, task: Task) -> tuple[str, dict[str, Any], str]:
            told, why = with_suggestion(self.evaluator, weave, method, task)
            entry = told.able("close")
            assert entry is not None
            return entry.id, entry.settings, why

        return self.answer(ident, work, **how)

    def whole_repeats(self, ident: str, **how: Any) -> WholeRepeats:
        """A material's weave with its photo cropped to whole repeats."""
        return self.answer(ident, lambda weave, task: whole_repeats(self.evaluator, weave, task), **how)

    def seam_heat(self, ident: str, size: int, **how: Any) -> bytes:
        """Where joins still show, as a PNG with alpha: nothing up to a figure of 0.6, then yellow to red."""

        def work(weave: Weave, task: Task) -> bytes:
            finished = self.evaluator.ask(weave, "base", size, task)
            known, laid = seam_lines(self.evaluator, weave, finished, size, task)
            found = seams(replace(finished, wraps=True), known, open_sheet=laid, search=False, task=task)
            figure = heat(finished, found, known)
            level = np.clip((figure - 0.6) / 1.4, 0, 1)
            out = np.zeros((*figure.shape, 4), np.uint8)
            out[..., 0] = 235
            out[..., 1] = (200 * (1 - level)).astype(np.uint8)
            out[..., 2] = 40
            out[..., 3] = np.where(figure > 0, 60 + 180 * level, 0).astype(np.uint8)
            return png_bytes(out, colour=True, fast=True)

        return self.answer(ident, work, **how)

    def spots(self, ident: str, **how: Any) -> dict[str, Any]:
        """Patches that repetition will show, and the figures of repetition; ``alike`` is how much of what came in looks alike
        by itself, where that is known."""

        def work(weave: Weave, task: Task) -> dict[str, Any]:
            finished = self.evaluator.ask(weave, "base", 512, task)
            found = spots(finished)
            known = closing(self.evaluator, weave, 512, task)
            alike = None
            if known is not None:  # as large a part of it: windows are a part of the sheet
                whole, (w, h) = known[2], (finished.width, finished.height)
                alike = round(copies(replace(whole, pixels=np.ascontiguousarray(whole.pixels[:h, :w]))), 3)
            return {
                "repetition": round(repetition(finished), 3),
                "copied": round(copies(finished), 3),
                "alike": alike,
                "spots": [asdict(s) for s in found],
            }

        return self.answer(ident, work, **how)

    def cells(self, ident: str, step_id: str, what: str, size: int, **how: Any) -> bytes:
        """The cells of a break-up row by themselves, or a test chart repeated ('before') or through them, as a PNG."""
        return self.answer(ident, lambda weave, task: cells(self.evaluator, weave, step_id, what, size, task), **how)

    def cell_sizes(self, ident: str, step_id: str, **how: Any) -> list[dict[str, Any]]:
        """The sheet of a break-up row with cells of three sizes: a picture each, how much repeats, and how much is seen twice."""
        return self.answer(ident, lambda weave, task: cell_sizes(self.evaluator, weave, step_id, task), **how)

    def pick(self, ident: str, step_id: str, u: float, v: float, **how: Any) -> list[float]:
        """Linear light around a place of what comes into a row: mean of nine texels at 1024."""

        def work(weave: Weave, task: Task) -> list[float]:
            image = self.evaluator.coming_in(weave, step_id, "base", 1024, task)
            x, y = int(u * image.width) % image.width, int(v * image.height) % image.height
            part = image.pixels[max(0, y - 1) : y + 2, max(0, x - 1) : x + 2]
            return [round(float(c), 6) for c in part.reshape(-1, 3).mean(0)]

        return self.answer(ident, work, **how)

    def photo(self, ident: str, step_id: str, size: int) -> bytes:
        """The photo of a row as it came, upright, as JPEG; decoded and made smaller in the lane, like everything else."""
        digest = str(self.store.get(ident).weave.entry(step_id).settings.get("source", ""))
        task = Task(lane=self.lane, rank=Rank.ASIDE)
        with self.lane.hold(task):
            return upright_jpeg(self.store.sources.picture(digest), size)

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
                "maps": map_notes(self.evaluator, plan, weave, known or {}, task),
                "ranges": ranges(self.evaluator, plan, weave, task),
                "rows": row_notes(self.evaluator, plan, weave, task),
            }

        return self.answer(ident, work, rank=Rank.ASIDE, **how)

    # --- pictures -----------------------------------------------------------------------------------------------

    def card_key(self, ident: str, entry: int) -> str:
        """Changes exactly when the picture of a card does."""
        weave = self.store.weave_at(ident, entry)
        plan = self.evaluator.plan(weave)
        keys = [self.evaluator.key(weave, t, CARD_SIZE) for t in PICTURE_MAPS if t in plan.threads]
        return hashlib.sha256("".join([CARD_LOOK, *keys]).encode()).hexdigest()[:24]

    def card(self, ident: str, entry: int) -> bytes:
        """The picture of a material for its card, PNG, kept on disk by what it shows."""
        path = self.store.folder / "pictures" / f"{ident}-{self.card_key(ident, entry)}.png"
        if path.is_file():
            return path.read_bytes()

        def work(weave: Weave, task: Task) -> bytes:
            plan = self.evaluator.plan(weave)
            maps = self.evaluator.ask_many(weave, [t for t in PICTURE_MAPS if t in plan.threads], CARD_SIZE, task)
            return png_bytes(lit(maps, 480, 360, 1.0), colour=True)

        body = self.answer(ident, work, entry=entry, rank=Rank.ASIDE, early=True)
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
        if (error := self.evaluator.plan(state.weave).error()) is not None:
            raise error
        settings = {"entry": state.head, "profile": wanted.name, "size": size}
        return self.jobs.add("deliver", f"{state.name}: {wanted.title}, {size}", ident, settings)

    def _delivered(self, job: Job) -> dict[str, Any]:
        """Do a job of delivering: the state that it was asked of, whatever the material has become since."""
        state = self.store.get(job.material)
        then = replace(state, head=job.settings["entry"], weave=self.store.weave_at(job.material, job.settings["entry"]))
        self._wait_for_kernels(early=False)
        wanted = profile(job.settings["profile"])
        return zipped(self.store, self.evaluator, self.lane, then, wanted, job.settings["size"], job.task)
