"""Answers for a thread at a size: lazily, incrementally, and the same whatever was asked before."""

from __future__ import annotations

import hashlib
import json
import math
import threading
import time
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import Any

from silent_loom.core.errors import NotMade, WeaveError
from silent_loom.core.images import Image
from silent_loom.core.parallel import IDLE, Task
from silent_loom.core.weave import registry, threads
from silent_loom.core.weave.cache import Cache
from silent_loom.core.weave.decision import NONE, Decision, DecisionStore, InMemory
from silent_loom.core.weave.mixing import mix
from silent_loom.core.weave.model import StepEntry, Weave
from silent_loom.core.weave.settings import Settings
from silent_loom.core.weave.step import DECISION_SIZE, AnyStep, CarryStep, Geometry, MapStep, Sheet, Sources, Texels


@dataclass(frozen=True)
class Row:
    """One step of a weave, made ready."""

    entry: StepEntry
    step: AnyStep
    settings: Settings
    before: Geometry
    after: Geometry
    reads: tuple[str, ...]
    writes: tuple[str, ...]
    present: tuple[str, ...]
    """Threads that exist above the row."""
    error: WeaveError | None = None
    settings_key: str = ""
    """The settings, in one canonical piece of text."""


@dataclass(frozen=True)
class Plan:
    """Every step that is on, in order, with the sheet before and after it."""

    rows: tuple[Row, ...]
    geometry: Geometry
    threads: tuple[str, ...]
    keys: dict[Any, str] = field(default_factory=dict, compare=False, repr=False)
    """Keys found so far; a plan never changes."""

    def source_texels(self) -> int | None:
        """Texels along the longer side of the finished sheet that its sources hold; None where nothing comes from a file."""
        found = [max(r.after.native) / max(r.after.size_mm) for r in self.rows if r.after.native and not r.before.native]
        return round(max(found) * max(self.geometry.size_mm)) if found else None

    def error(self) -> WeaveError | None:
        return next((r.error for r in self.rows if r.error), None)


@dataclass
class Costs:
    """Seconds spent in each step, by id of its row, the latest time it ran."""

    seconds: dict[str, float] = field(default_factory=dict)
    _alone: threading.Lock = field(default_factory=threading.Lock, repr=False, compare=False)

    def put(self, key: str, seconds: float) -> None:
        with self._alone:
            self.seconds.pop(key, None)
            self.seconds[key] = seconds
            if len(self.seconds) > MOST_TOLD:
                self.seconds.pop(next(iter(self.seconds)))

    def told(self) -> list[tuple[str, float]]:
        """What is known now; another computation may add to it meanwhile."""
        with self._alone:
            return list(self.seconds.items())


MOST_TOLD = 5000
"""Costs and computations that are remembered: a server may run for weeks."""


def _hash(*parts: Any) -> str:
    return hashlib.sha256(json.dumps(parts, sort_keys=True, default=str).encode()).hexdigest()[:32]


class Evaluator:
    """Evaluates weaves.

    Parameters
    ----------
    sources : Sources
        Files behind the weaves.
    cache : Cache, optional
    decisions : DecisionStore, optional
    decision_size : int
        Texels along the longer side at which steps decide.
    finer : float
        How many times finer than the answer a map's step may ask for its inputs at most; for passing answers, where what
        a threshold makes of fine detail is not worth waiting for.
    """

    def __init__(
        self,
        sources: Sources,
        cache: Cache | None = None,
        decisions: DecisionStore | None = None,
        decision_size: int = DECISION_SIZE,
        finer: float = math.inf,
    ) -> None:
        self.sources = sources
        self.cache = Cache() if cache is None else cache
        self.decisions = decisions or InMemory()
        self.decision_size = decision_size
        self.finer = finer
        self.costs = Costs()
        self._plans: tuple[tuple[Weave, Plan], ...] = ()
        self.computed: list[tuple[str, str]] = []
        """Row ids and threads in the order in which they were computed; for tests and the cost bars."""

    # --- planning -------------------------------------------------------------------------------------------

    def plan(self, weave: Weave) -> Plan:
        """Make every row ready; nothing is computed, though sources may be opened for their size.

        A row that cannot run (a wrong setting, a missing thread) carries its error; rows above it still work.
        """
        for known, made in self._plans:
            if known is weave:  # weaves never change
                return made
        plan = self._planned(weave)
        if plan.error() is None:  # an error may lie in a file that somebody puts back
            self._plans = ((weave, plan), *self._plans[:3])
        return plan

    def _planned(self, weave: Weave) -> Plan:
        rows: list[Row] = []
        geometry, present = Geometry(), []  # type: tuple[Geometry, list[str]]
        for entry in weave.steps:
            if not entry.on:
                continue
            step = registry.step(entry.step)
            error: WeaveError | None = None
            try:
                settings = registry.settings_of(entry.step, entry.settings)
            except WeaveError as found:
                settings, error = step.Settings.model_construct(), found
            if step.idle(settings) and error is None:
                continue
            before = geometry
            reads, writes = step.reads(settings), step.writes(settings)
            if error is None:
                missing = [t for t in (*reads, *([entry.mask] if entry.mask else [])) if t not in present]
                if missing:
                    error = WeaveError(
                        f"it needs {threads.spec(missing[0]).title.lower()}, which no step above it makes",
                        step.title,
                        "Move it down, or add a step that makes it above.",
                    )
                elif step.geometric and not present:
                    error = WeaveError("nothing comes into it", step.title, "Switch a step on above it that brings something in.")
                else:
                    try:
                        geometry = step.geometry(settings, geometry, self.sources)
                    except WeaveError as found:
                        error = found
            rows.append(
                Row(
                    entry,
                    step,
                    settings,
                    before,
                    geometry,
                    reads,
                    writes,
                    tuple(present),
                    error,
                    settings.model_dump_json(),
                )
            )
            if error is None:
                present += [t for t in writes if t not in present]
        return Plan(tuple(rows), geometry, tuple(present))

    # --- asking ---------------------------------------------------------------------------------------------

    def ask(self, weave: Weave, thread: str, size: int, task: Task = IDLE, *, below: str | None = None) -> Image:
        """A thread of a weave.

        Parameters
        ----------
        weave : Weave
        thread : str
        size : int
            Texels along the longer side of the finished sheet.
        task : Task
            For cancelling and progress.
        below : str, optional
            Id of a row: the thread as it is right below that row, at the pitch of the whole answer.

        Raises
        ------
        WeaveError
            The thread does not exist there, or a step it depends on cannot run.
        Cancelled
        """
        return self.ask_many(weave, [thread], size, task, below=below)[thread]

    def ask_many(
        self, weave: Weave, names: Iterable[str], size: int, task: Task = IDLE, *, below: str | None = None
    ) -> dict[str, Image]:
        """Several threads at once, each computed only as far as needed."""
        plan = self.plan(weave)
        at, geometry = self._place(plan, weave, below)
        texels = geometry.at_longer_side(size)
        answers: dict[str, Image] = {}
        wanted = list(names)
        for i, name in enumerate(wanted):
            task.report(i / len(wanted), threads.spec(name).title)
            answers[name] = self._value(plan, at, name, texels, task)
        return answers

    @contextmanager
    def holding(self, weave: Weave, names: Iterable[str], size: int) -> Iterator[None]:
        """While the block runs, keep what several of these threads are made from, whatever the cache's bound.

        A base colour of 8192² alone is larger than most bounds; without this, everything above it would be computed anew for
        each map that reads it.
        """
        plan = self.plan(weave)
        shared = self._shared(plan, names, plan.geometry.at_longer_side(size))
        self.cache.hold(shared)
        try:
            yield
        finally:
            self.cache.release(shared)

    def _shared(self, plan: Plan, names: Iterable[str], texels: Texels) -> set[str]:
        """Keys of values that are asked for more than once when some threads are made."""
        wanted: dict[str, int] = {}
        todo: list[tuple[int, str, Texels]] = [(len(plan.rows), name, texels) for name in names]
        while todo:
            at, thread, size = todo.pop()
            key = self._key(plan, at, thread, size)
            wanted[key] = wanted.get(key, 0) + 1
            if wanted[key] > 1:
                continue
            i = self._maker(plan, at, thread)
            row = plan.rows[i]
            inputs = self._input_texels(row, size)
            if row.step.geometric:
                todo.append((i, thread, inputs))
                continue
            todo += [(i, t, inputs) for t in row.reads]
            todo += [(i, t, other) for other in row.step.coarser(row.settings, row.after, size) for t in row.reads]
            if self._mixes(row.entry):
                todo += [(i, t, size) for t in (row.entry.mask, thread) if t and t in row.present]
        return {key for key, count in wanted.items() if count > 1}

    @staticmethod
    def _place(plan: Plan, weave: Weave, below: str | None) -> tuple[int, Geometry]:
        """How many rows lie above a place, and the sheet there."""
        if below is None:
            return len(plan.rows), plan.geometry
        # A row that is off, or changes nothing, shows what comes into it
        upto = {e.id for e in weave.steps[: weave.index(below) + 1]}
        at = sum(r.entry.id in upto for r in plan.rows)
        if at == 0:
            raise WeaveError("nothing is made this far up", below, "Look further down.")
        return at, plan.rows[at - 1].after

    def coming_in(self, weave: Weave, step_id: str, thread: str, size: int, task: Task = IDLE) -> Image:
        """A thread as it comes into a row, at the pitch that this thread's answer of this size needs there."""
        plan = self.plan(weave)
        above = {e.id for e in weave.steps[: weave.index(step_id)]}
        i = sum(r.entry.id in above for r in plan.rows)  # a row that is off, or changes nothing, is not in the plan
        texels: Texels = plan.geometry.at_longer_side(size)
        at = self._maker(plan, len(plan.rows), thread)
        while at >= i:  # what other threads ask for may be finer
            texels = self._input_texels(plan.rows[at], texels)
            at = self._maker(plan, at, thread)
        return self._value(plan, i, thread, texels, task)

    def decision(self, weave: Weave, step_id: str, task: Task = IDLE) -> Decision:
        """What a row decided (made now, if it was not yet)."""
        plan = self.plan(weave)
        for i, row in enumerate(plan.rows):
            if row.entry.id == step_id:
                if row.error:
                    raise row.error
                return self._decide(plan, i, task)
        return NONE

    def key(self, weave: Weave, thread: str, size: int, *, below: str | None = None) -> str:
        """Key of an answer: equal exactly when nothing that it depends on has changed."""
        plan = self.plan(weave)
        at, geometry = self._place(plan, weave, below)
        return self._key(plan, at, thread, geometry.at_longer_side(size))

    # --- keys -----------------------------------------------------------------------------------------------

    def _maker(self, plan: Plan, at: int, thread: str) -> int:
        """Index of the last row above ``at`` that writes or carries a thread, or −1."""
        for i in range(at - 1, -1, -1):
            row = plan.rows[i]
            if thread in row.writes or (row.step.geometric and thread in row.present):
                return i
        return -1

    def _input_texels(self, row: Row, texels: Texels) -> Texels:
        asked = row.step.demand(row.settings, row.before, row.after, texels)
        most = self.finer * max(texels)
        return asked if row.step.geometric or max(asked) <= most else row.after.at_longer_side(round(most))

    def _key(self, plan: Plan, at: int, thread: str, texels: Texels) -> str:
        memo = plan.keys
        place = (at, thread, texels)
        if place in memo:
            return memo[place]
        i = self._maker(plan, at, thread)
        if i < 0:
            raise NotMade(f"nothing makes {threads.spec(thread).title.lower()}", "weave", "Add a step that writes it.")
        row = plan.rows[i]
        if row.error:
            raise row.error
        step, entry = row.step, row.entry
        inputs = self._input_texels(row, texels)
        parts: list[Any] = [step.name, step.version, row.settings_key, thread, texels, row.after.size_mm]
        if step.geometric:
            parts.append(self._key(plan, i, thread, inputs))
        else:
            parts += [[t, self._key(plan, i, t, inputs)] for t in row.reads]
            if self._mixes(entry):
                parts += [entry.mix, entry.amount, self._key(plan, i, entry.mask, texels) if entry.mask else None]
                parts += [self._key(plan, i, thread, texels) if thread in row.present else None]
        if step.decides:
            parts.append(self._decision_key(plan, i))
        memo[place] = _hash(*parts)
        return memo[place]

    def _decision_key(self, plan: Plan, i: int) -> str:
        if ("decision", i) in plan.keys:
            return plan.keys["decision", i]
        row = plan.rows[i]
        texels = self._decision_texels(row)
        plan.keys["decision", i] = _hash(
            "decision",
            row.step.name,
            row.step.version,
            row.settings_key,
            row.before.size_mm,
            [[t, self._key(plan, i, t, texels)] for t in self._decision_reads(row)],
        )
        return plan.keys["decision", i]

    def _decision_texels(self, row: Row) -> Texels:
        return row.before.at_longer_side(max(16, round(self.decision_size * row.step.decision_scale)))

    def _decision_reads(self, row: Row) -> tuple[str, ...]:
        if not row.step.geometric:
            return row.reads
        if row.step.decision_scale == 0:
            return ()
        weights = getattr(row.settings, "weights", None)
        weigh = weights() if callable(weights) else {}
        return tuple(t for t in row.present if weigh.get(t, threads.spec(t).weight) > 0)

    @staticmethod
    def _mixes(entry: StepEntry) -> bool:
        return entry.mask is not None or entry.amount < 1 or entry.mix != "replace"

    # --- computing ------------------------------------------------------------------------------------------

    def _decide(self, plan: Plan, i: int, task: Task) -> Decision:
        row = plan.rows[i]
        if not row.step.decides:
            return NONE
        key = self._decision_key(plan, i)
        kept = self.decisions.get(key)
        if kept is not None:
            return kept
        texels = self._decision_texels(row)
        inputs = {t: self._value(plan, i, t, texels, task) for t in self._decision_reads(row)}
        task.checkpoint()
        started = time.perf_counter()
        decision = row.step.decide(row.settings, inputs, row.before, task)
        self._spent(row, f"{row.entry.id}:decide", started)
        self.decisions.put(key, decision)
        return decision

    def _count(self, row: str, thread: str) -> None:
        self.computed.append((row, thread))
        if len(self.computed) > MOST_TOLD:
            del self.computed[: MOST_TOLD // 2]

    def _spent(self, row: Row, key: str, started: float) -> None:
        self.costs.put(key, time.perf_counter() - started)

    def _value(self, plan: Plan, at: int, thread: str, texels: Texels, task: Task) -> Image:
        key = self._key(plan, at, thread, texels)
        kept = self.cache.get(key)
        if kept is not None:
            return kept
        i = self._maker(plan, at, thread)
        row = plan.rows[i]
        step, entry = row.step, row.entry
        inputs = self._input_texels(row, texels)
        decision = self._decide(plan, i, task)
        smaller = step.coarser(row.settings, row.after, texels)
        coarser = tuple({t: self._value(plan, i, t, size, task) for t in row.reads} for size in smaller)
        sheet = Sheet(row.before, row.after, texels, self.sources, coarser)
        if isinstance(step, CarryStep):
            image = self._value(plan, i, thread, inputs, task)
            task.checkpoint()
            started = time.perf_counter()
            result = step.carry(row.settings, image, decision, sheet, task)
            self._spent(row, f"{entry.id}:{thread}", started)
            self._count(entry.id, thread)
            self.cache.put(key, result)
            return result
        assert isinstance(step, MapStep)
        read = {t: self._value(plan, i, t, inputs, task) for t in row.reads}
        task.checkpoint()
        started = time.perf_counter()
        made = step.run(row.settings, read, decision, sheet, task)
        wanted: Image | None = None
        for name, image in made.items():
            if self._mixes(entry):
                mask = self._value(plan, i, entry.mask, texels, task) if entry.mask else None
                before = (
                    self._value(plan, i, name, texels, task)
                    if name in row.present
                    else threads.neutral(name, image.width, image.height, image.size_mm, image.wraps)
                )
                image = mix(before, image, entry.mix, entry.amount, mask)
            if image.size_mm != sheet.size_mm or image.wraps != row.after.wraps:
                image = Image(image.pixels, image.kind, sheet.size_mm, row.after.wraps)
            self.cache.put(self._key(plan, i + 1, name, texels), image)
            if name == thread:
                wanted = image
        self._spent(row, f"{entry.id}:{thread}", started)
        self._count(entry.id, thread)
        if wanted is None:
            raise WeaveError(f"it did not make {thread}", step.title)
        return wanted
