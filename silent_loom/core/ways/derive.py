"""From one photo to a delivered map set in one call: what the command line and the demo use."""

from __future__ import annotations

import threading
import time
from collections.abc import Sequence
from concurrent.futures import Future
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from silent_loom.core.base.errors import LoomError, WeaveError
from silent_loom.core.base.images import Image
from silent_loom.core.base.kernels import load_kernels
from silent_loom.core.base.parallel import IDLE, Task, both
from silent_loom.core.delivery.completing import completed
from silent_loom.core.delivery.files import Order, deliver_as_made
from silent_loom.core.delivery.fitting import fit
from silent_loom.core.delivery.names import file_name
from silent_loom.core.delivery.packing import needed
from silent_loom.core.delivery.placing import check_folder
from silent_loom.core.delivery.profile import Profile, of_maps
from silent_loom.core.delivery.shelf import profile
from silent_loom.core.files import Limits, Picture, read
from silent_loom.core.report.suggesting import with_suggestion
from silent_loom.core.ways.map_files import LEAST
from silent_loom.core.ways.measuring import FIGURES, measure
from silent_loom.core.ways.sources import FileSources, digest_of, reference
from silent_loom.core.ways.squared import squared
from silent_loom.core.ways.starting import Start, weave_for
from silent_loom.core.ways.woven import put_through
from silent_loom.core.weave import registry
from silent_loom.core.weave.answers.cache import Cache
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.answers.plan import Plan
from silent_loom.core.weave.rows.model import StepEntry, Weave


@dataclass(frozen=True)
class Wish:
    """What is wanted of a photo.

    Attributes
    ----------
    size : int
        Texels along the longer side of the finished repeat.
    profile_name : str
    maps : sequence of str
        The maps to write, those of the profile if none are named; steps that make them are added where they are missing.
    name : str, optional
        What the files are called; the photo's own name otherwise.
    repeats : bool
        Crop to a whole number of repeats of the motif: see `whole_repeats`.
    report : bool
        Measure seams and evenness, too.
    """

    size: int = 1024
    profile_name: str = "plain"
    maps: Sequence[str] = ()
    name: str | None = None
    repeats: bool = False
    report: bool = False


def derive(
    photo: Path,
    out: Path,
    start: Start = Start(),
    wish: Wish = Wish(),
    *,
    woven: Weave | None = None,
    force: bool = False,
    limits: Limits | None = None,
    reading: Future[Picture] | None = None,
    task: Task = IDLE,
) -> dict[str, Any]:
    """Derive a map set from a photo and deliver it.

    Parameters
    ----------
    photo, out : path
        The photo, and the folder for the files; empty or new unless ``force``.
    start : Start
        What is said of the photo.
    wish : Wish
        What is wanted of it.
    woven : Weave, optional
        Put the photo through this weave instead of a new one; what is said of corners, sizes and steps is then in it.
    reading : Future, optional
        The photo, where reading it has begun already: see `read_ahead`.

    Returns
    -------
    dict
        The report: seam and evenness figures (None unless asked for), depth_mm, extent_mm, repeat_mm_x, repeat_mm_y,
        size (width and height), seconds by step, warnings, files.

    Raises
    ------
    LoomError
        Anything that the artist can mend; nothing is then left half written.
    """
    started = time.perf_counter()
    wanted: Profile = profile(wish.profile_name)
    check_folder(out, force)
    task.report(0.0, "reading the photo")
    threading.Thread(target=_load, name="kernels", daemon=True).start()
    picture, digest, sources = _brought(photo, reading, limits)
    seconds = {"read": time.perf_counter() - started}
    weave = weave_for(picture, photo, digest, start) if woven is None else put_through(woven, digest, reference(photo, picture))
    making = _Making(Evaluator(sources, Cache(700 << 20)), weave, wish.size, task)
    kept = making.keep_repeats() if wish.repeats else None
    asks = woven is None and start.seamless in ("suggested", "motif")
    why = making.suggest(str(start.seamless)) if asks else ""
    if not wish.maps:
        making.complete(wanted)
    else:
        wanted = of_maps(wanted, making.add_makers(wish.maps).threads, list(dict.fromkeys(wish.maps)))
    warnings = [*picture.warnings, *making.beyond()]
    named, source = wish.name or file_name(photo.stem), {"file": photo.name, "sha256": digest}
    manifest = making.deliver(out, named, wanted, source, warnings, force, task.part(0.05, 0.8 if wish.report else 1.0))
    seconds |= making.seconds()
    figures: dict[str, Any] = dict.fromkeys(FIGURES)
    if wish.report:
        t = time.perf_counter()
        task.report(0.85, "measuring")
        figures.update(measure(making.evaluator, making.weave, wish.size, task))
        seconds["measure"] = time.perf_counter() - t
    seconds["total"] = time.perf_counter() - started
    task.report(1.0, "done")
    return {
        **figures,
        **making.sizes(),
        "extent_mm": start.extent_mm,
        "seamless_why": why,
        "repeats": kept,
        "seconds": {k: round(v, 4) for k, v in seconds.items()},
        "warnings": [*warnings, *manifest["warnings"]],
        "files": [f["file"] for f in manifest["files"]],
    }


def _brought(photo: Path, reading: Future[Picture] | None, limits: Limits | None) -> tuple[Picture, str, FileSources]:
    """A photo, its SHA-256, and the sources of a weave that begins with it."""
    picture = read(photo, limits=limits) if reading is None else reading.result()
    if min(picture.width, picture.height) < LEAST:
        raise LoomError(
            f"{picture.width} × {picture.height} pixels are too few to be a surface", photo.name, f"At least {LEAST} each way."
        )
    digest = digest_of(photo)
    sources = FileSources(lambda d: (photo, photo.name, picture.format), limits=limits)
    sources.remember(digest, picture)
    return picture, digest, sources


class _Making:
    """One weave on its way to files."""

    def __init__(self, evaluator: Evaluator, weave: Weave, size: int, task: Task) -> None:
        self.evaluator, self.weave, self.size, self.task = evaluator, weave, size, task
        self._last: Image | None = None
        self._asked = size
        self._ended = time.perf_counter()

    def keep_repeats(self) -> tuple[int, int]:
        """Crop to whole repeats of the motif, and say how many."""
        from silent_loom.core.report.whole_repeats import whole_repeats

        whole = whole_repeats(self.evaluator, self.weave, self.task.part(0, 0))
        self.weave = whole.weave
        return whole.repeats

    def suggest(self, method: str) -> str:
        """Let the step that closes the sheet be set by what suits it, and say why."""
        self.weave, why = with_suggestion(self.evaluator, self.weave, method, self.task.part(0, 0))
        return why

    def plan(self) -> Plan:
        plan = self.evaluator.plan(self.weave)
        if (error := plan.error()) is not None:
            raise error
        return plan

    def add_makers(self, maps: Sequence[str]) -> Plan:
        """Add the steps that make maps which nothing makes yet.

        Raises
        ------
        WeaveError
            There is no step that makes one of them.
        """
        for name in maps:
            if name in self.plan().threads:
                continue
            step = registry.maker(name)
            if step is None:
                have = ", ".join(self.plan().threads)
                raise WeaveError(f"nothing makes '{name}' out of the others", "maps", f"There is {have}; see docs/steps.md.")
            self.weave = self.weave.model_copy(
                update={"steps": (*self.weave.steps, StepEntry(step=step, settings=registry.asked_for(name)))}
            )
        return self.plan()

    def complete(self, wanted: Profile) -> None:
        """Add the steps that make what a profile asks for: see `completed`."""
        self.plan()
        self.weave = completed(self.evaluator, self.weave, wanted)

    def beyond(self) -> list[str]:
        """A word where the size is more than the source holds."""
        holds = self.plan().source_texels()
        if holds is None or self.size <= BEYOND * holds:
            return []
        return [f"{self.size} texels are more than the photo holds (about {holds}): larger files, no more detail"]

    def deliver(
        self, out: Path, named: str, wanted: Profile, source: dict[str, str], warnings: list[str], force: bool, task: Task
    ) -> dict[str, Any]:
        """Make the maps that a profile needs, one after the other, and write them; what steps warn of joins the warnings."""
        threads = self.plan().threads

        def about() -> dict[str, Any]:
            warnings.extend(self.warnings_of_steps())
            return {"source": source, "warnings_of_steps": warnings, "weave": self.weave.model_dump(mode="json")}

        names = needed(wanted, threads)
        size_mm = self.plan().geometry.size_mm
        how = fit(wanted, size_mm, self.size)
        self._asked = how.ask
        whole = squared(self.map, names, wanted, size_mm, task.part(0, 0))
        with self.evaluator.holding(self.weave, names, how.ask) as kept:

            def make(thread: str) -> Image:
                image = whole(thread)
                kept.made(thread)
                return image

            return deliver_as_made(
                out, named, names, make, wanted, meanings=threads, about=about, order=Order(how), force=force, task=task
            )

    def map(self, thread: str) -> Image:
        """One map at the size that is asked for."""
        if self._last is None:
            _both_ends(self.evaluator, self.weave, self._asked, self.task.part(0, 0))
        self._last = self.evaluator.ask(self.weave, thread, self._asked, self.task.part(0, 0))
        self._ended = time.perf_counter()
        return self._last

    def warnings_of_steps(self) -> list[str]:
        rows = self.plan().rows
        return [
            f"{row.step.title}: {w}"
            for row in rows
            for w in self.evaluator.decision(self.weave, row.entry.id, self.task).warnings
        ]

    def seconds(self) -> dict[str, float]:
        """Seconds by step, and those of writing that were left when the last map was made."""
        names = {r.entry.id: r.step.name for r in self.plan().rows}
        found: dict[str, float] = {}
        for key, spent in self.evaluator.costs.told():
            step = names.get(key.split(":")[0], key)
            found[step] = found.get(step, 0.0) + spent
        found["write"] = time.perf_counter() - self._ended
        return found

    def sizes(self) -> dict[str, Any]:
        """Depth, repeat and size of what was made."""
        assert self._last is not None
        return {
            "depth_mm": self.plan().spec("height").depth,
            "repeat_mm_x": round(self._last.size_mm[0], 6),
            "repeat_mm_y": round(self._last.size_mm[1], 6),
            "size": [self._last.width, self._last.height],
        }


def _load() -> None:
    from silent_loom.core.files import codes, png  # noqa: F401 - left until later by who calls them

    load_kernels(UNUSUAL)


def _both_ends(evaluator: Evaluator, weave: Weave, size: int, task: Task) -> None:
    """Straighten the whole photo while the steps below decide on a small one: neither needs the other."""
    rows = [r for r in evaluator.plan(weave).rows if r.error is None]
    level = next((i for i, r in enumerate(rows[:-1]) if "straighten" in r.step.can), None)
    closes = next((r.entry.id for r in rows if "close" in r.step.can), None)
    if level is not None and closes is not None:
        below, closing = rows[level + 1].entry.id, closes
        both(lambda: evaluator.coming_in(weave, below, "base", size, task), lambda: evaluator.decision(weave, closing, task))


BEYOND = 1.2
"""How much larger than its source a set may be before that is said."""
UNUSUAL = frozenset({"breaking", "fade", "gauss", "gradient", "patchfill", "quilt", "repair", "seam_meter"})
"""Modules whose kernels a starting weave calls only with other settings or figures: loaded when they are."""
