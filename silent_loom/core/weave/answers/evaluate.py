"""Answers for a thread at a size: lazily, incrementally, and the same whatever was asked before."""

from __future__ import annotations

import hashlib
import json
import math
import threading
import time
from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Any

from silent_loom.core.base.errors import NotMade, WeaveError
from silent_loom.core.base.images import Image
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.weave import threads
from silent_loom.core.weave.answers import masks
from silent_loom.core.weave.answers.cache import Cache
from silent_loom.core.weave.answers.carrying import carried
from silent_loom.core.weave.answers.holding import Holding, Place
from silent_loom.core.weave.answers.mixing import mix
from silent_loom.core.weave.answers.plan import Plan, Row, planned
from silent_loom.core.weave.answers.unmixed import drawn
from silent_loom.core.weave.answers.windows import Box, Window, Windows
from silent_loom.core.weave.decision import NONE, Decision, DecisionStore, InMemory
from silent_loom.core.weave.rows import tree
from silent_loom.core.weave.rows.model import Weave
from silent_loom.core.weave.step import DECISION_SIZE, CarryStep, Geometry, MapStep, Sheet, Sources, Texels
from silent_loom.core.weave.threads import ThreadSpec


@dataclass
class Costs:
    """Seconds spent in each step, by id of its row, the latest time it ran, and bytes of what it made then."""

    seconds: dict[str, float] = field(default_factory=dict)
    sizes: dict[str, int] = field(default_factory=dict)
    _alone: threading.Lock = field(default_factory=threading.Lock, repr=False, compare=False)

    def put(self, key: str, seconds: float, size: int = 0) -> None:
        with self._alone:
            for kept, value in ((self.seconds, seconds), (self.sizes, size)):
                kept.pop(key, None)
                kept[key] = value  # type: ignore[assignment]
                if len(kept) > MOST_TOLD:
                    kept.pop(next(iter(kept)))

    def told(self) -> list[tuple[str, float]]:
        """What is known now; another computation may add to it meanwhile."""
        with self._alone:
            return list(self.seconds.items())

    def memory(self) -> list[tuple[str, int]]:
        """Bytes of what each step made."""
        with self._alone:
            return list(self.sizes.items())


SHALLOW = 40
"""Rows that may ask those above them by calls within calls; longer weaves are walked by a loop, from above."""

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
        plan = planned(weave, self.sources)
        if plan.error() is None:  # an error may lie in a file that somebody puts back
            self._plans = ((weave, plan), *self._plans[:3])
        return plan

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
            task.report(i / len(wanted), plan.spec(name, at).title)
            answers[name] = self.value_at(plan, at, name, texels, task)
        return answers

    def holding(self, weave: Weave, names: Iterable[str], size: int) -> Holding:
        """While the block runs, keep what several of these threads are made from, whatever the cache's bound.

        A base colour of 8192² alone is larger than most bounds; without this, everything above it would be computed anew for
        each map that reads it. Say which map is done (`Holding.made`), and what it alone still needed is let go.
        """
        plan = self.plan(weave)
        tops = {name: (len(plan.rows), name, plan.geometry.at_longer_side(size)) for name in names}
        return Holding(self.cache, tops, lambda place: self.key_at(plan, *place), lambda place: self._needs(plan, place))

    @staticmethod
    def _place(plan: Plan, weave: Weave, below: str | None) -> tuple[int, Geometry]:
        """How many rows lie above a place, and the sheet there."""
        if below is None:
            return len(plan.rows), plan.geometry
        # A row that is off, or changes nothing, shows what comes into it
        at = _rows_upto(plan, weave, below, True)
        if at == 0:
            raise NotMade("nothing is made this far up", below, "Look further down.")
        return at, plan.rows[at - 1].after

    def coming_in(self, weave: Weave, step_id: str, thread: str, size: int, task: Task = IDLE) -> Image:
        """A thread as it comes into a row, at the pitch that this thread's answer of this size needs there."""
        plan = self.plan(weave)
        i = _rows_upto(plan, weave, step_id, False)
        texels: Texels = plan.geometry.at_longer_side(size)
        at = plan.maker(len(plan.rows), thread)
        while at >= i:  # what other threads ask for may be finer
            texels = self._input_texels(plan.rows[at], texels)
            at = plan.maker(at, thread)
        return self.value_at(plan, i, thread, texels, task)

    def decision(self, weave: Weave, step_id: str, task: Task = IDLE) -> Decision:
        """What a row decided (made now, if it was not yet)."""
        plan = self.plan(weave)
        for i, row in enumerate(plan.rows):
            if row.entry.id == step_id:
                if row.error:
                    raise row.error
                return self.decision_at(plan, i, task)
        return NONE

    def key(self, weave: Weave, thread: str, size: int, *, below: str | None = None) -> str:
        """Key of an answer: equal exactly when nothing that it depends on has changed."""
        plan = self.plan(weave)
        at, geometry = self._place(plan, weave, below)
        return self.key_at(plan, at, thread, geometry.at_longer_side(size))

    def meaning(self, weave: Weave, thread: str, *, below: str | None = None) -> ThreadSpec:
        """What a thread means, and the range in which it is shown, on the finished sheet or below a row."""
        plan = self.plan(weave)
        return plan.spec(thread, self._place(plan, weave, below)[0])

    # --- keys -----------------------------------------------------------------------------------------------

    def _input_texels(self, row: Row, texels: Texels) -> Texels:
        asked = row.step.demand(row.settings, row.before, row.after, texels)
        most = self.finer * max(texels)
        return asked if row.step.geometric or max(asked) <= most else row.after.at_longer_side(round(most))

    def _needs(self, plan: Plan, place: Place) -> list[Place]:
        """What a value is made of, apart from what its row decides on."""
        at, thread, texels = place
        i = plan.maker(at, thread)
        if i < 0 or plan.rows[i].error:
            return []
        row = plan.rows[i]
        inputs = self._input_texels(row, texels)
        found: list[Place] = [(i, thread, inputs)] if row.step.geometric or row.ends_group else []
        found += [(i, t, inputs) for t in row.reads]
        found += [(i, t, other) for other in row.step.coarser(row.settings, row.after, texels) for t in row.reads]
        if row.mixes(thread):
            start = row.first if row.ends_group else i
            above = plan.threads_at(start)
            found += [(start, t, texels) for t in (row.entry.mask.thread if row.entry.mask else "", thread) if t in above]
        return found

    def _decided_on(self, plan: Plan, place: Place) -> list[Place]:
        """What the row that makes a value decides on."""
        i = plan.maker(place[0], place[1])
        if i < 0 or plan.rows[i].error or not plan.rows[i].step.decides:
            return []
        texels = self._decision_texels(plan.rows[i])
        return [(i, t, texels) for t in self._decision_reads(plan.rows[i])]

    def key_at(self, plan: Plan, at: int, thread: str, texels: Texels) -> str:
        """Key of a thread above the row at a position."""
        memo, todo = plan.keys, [(at, thread, texels)]
        while todo:  # from above, so that no key asks for one that is not there yet
            place = todo[-1]
            missing = [] if place in memo else [*self._needs(plan, place), *self._decided_on(plan, place)]
            missing = [p for p in missing if p not in memo]
            if missing:
                todo += missing
                continue
            if place not in memo:
                memo[place] = self._made_key(plan, *place)
            todo.pop()
        return memo[at, thread, texels]

    def _made_key(self, plan: Plan, at: int, thread: str, texels: Texels) -> str:
        i = plan.maker(at, thread)
        if i < 0:
            raise NotMade(f"nothing makes {threads.spec(thread).title.lower()}", "weave", "Add a step that writes it.")
        row = plan.rows[i]
        if row.error:
            raise row.error
        step, entry = row.step, row.entry
        inputs = self._input_texels(row, texels)
        parts: list[Any] = [step.name, step.version, row.settings_key, thread, texels, row.after.size_mm]
        if step.geometric:
            parts.append(self.key_at(plan, i, thread, inputs))
        else:
            parts += [[t, self.key_at(plan, i, t, inputs)] for t in row.reads]
            if row.ends_group:
                parts.append(self.key_at(plan, i, thread, inputs))
            if row.mixes(thread):
                start = row.first if row.ends_group else i
                parts += [entry.mix, entry.amount]
                if entry.mask:
                    parts += [self.key_at(plan, start, entry.mask.thread, texels), entry.mask.model_dump_json()]
                parts += [self.key_at(plan, start, thread, texels) if thread in plan.threads_at(start) else None]
        if step.decides:
            parts.append(self._decision_key(plan, i))
        return _hash(*parts)

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
            [[t, self.key_at(plan, i, t, texels)] for t in self._decision_reads(row)],
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
        weighed = (t for t, meaning in row.present.items() if weigh.get(t, meaning.weight) > 0)
        return tuple(dict.fromkeys((*weighed, *row.reads)))

    # --- computing ------------------------------------------------------------------------------------------

    def decision_at(self, plan: Plan, i: int, task: Task) -> Decision:
        """What the row at a position decided, made now if it was not yet."""
        row = plan.rows[i]
        if not row.step.decides:
            return NONE
        key = self._decision_key(plan, i)
        kept = self.decisions.get(key)
        if kept is not None:
            return kept
        texels = self._decision_texels(row)
        inputs = {t: self.value_at(plan, i, t, texels, task) for t in self._decision_reads(row)}
        task.checkpoint()
        started = time.perf_counter()
        decision = row.step.decide(row.settings, inputs, row.before, task)
        self._spent(f"{row.entry.id}:decide", started)
        self.decisions.put(key, decision)
        return decision

    def _count(self, row: str, thread: str) -> None:
        self.computed.append((row, thread))
        if len(self.computed) > MOST_TOLD:
            del self.computed[: MOST_TOLD // 2]

    def _spent(self, key: str, started: float, *made: Image) -> None:
        self.costs.put(key, time.perf_counter() - started, sum(i.pixels.nbytes for i in made))

    def value_at(self, plan: Plan, at: int, thread: str, texels: Texels, task: Task) -> Image:
        """A thread above the row at a position, all of it."""
        kept = self.cache.get(self.key_at(plan, at, thread, texels))
        if kept is not None:
            return kept
        if plan.maker(at, thread) < SHALLOW:
            return self._made(plan, at, thread, texels, task)
        held: dict[Place, list[str]] = {}
        try:
            self._make_above(plan, (at, thread, texels), held, task)
            return self._made(plan, at, thread, texels, task)
        finally:
            for keys in held.values():
                self.cache.release(keys)

    def _make_above(self, plan: Plan, wanted: Place, held: dict[Place, list[str]], task: Task) -> None:
        """Everything that a value is made of, made from above by a loop; what is held meanwhile is noted."""
        todo = [wanted]
        while todo:
            place = todo[-1]
            if place != wanted and self.cache.get(self.key_at(plan, *place)) is not None:
                self.cache.release(held.pop(place, []))
                todo.pop()
                continue
            missing = [] if place in held else self._missing(plan, place)
            if missing:
                held[place] = [self.key_at(plan, *p) for p in missing]
                self.cache.hold(held[place])
                todo += missing
                continue
            if place != wanted:
                self._made(plan, *place, task)
            todo.pop() if place == wanted else None

    def _missing(self, plan: Plan, place: Place) -> list[Place]:
        """What has to be made before a value: what it is made of, and what its row decides on where it has not yet."""
        needs = self._needs(plan, place)
        i = plan.maker(place[0], place[1])
        if plan.rows[i].step.decides and self.decisions.get(self._decision_key(plan, i)) is None:
            needs += self._decided_on(plan, place)
        return [p for p in dict.fromkeys(needs) if self.cache.get(self.key_at(plan, *p)) is None]

    def _made(self, plan: Plan, at: int, thread: str, texels: Texels, task: Task) -> Image:
        key = self.key_at(plan, at, thread, texels)
        i = plan.maker(at, thread)
        row = plan.rows[i]
        step, entry = row.step, row.entry
        inputs = self._input_texels(row, texels)
        if row.ends_group:
            inside = self.value_at(plan, i, thread, inputs, task)
            result = self._mixed(plan, row.first, row, thread, inside, texels, task)
            self.cache.put(key, result)
            return result
        decision = self.decision_at(plan, i, task)
        smaller = step.coarser(row.settings, row.after, texels)
        coarser = tuple({t: self.value_at(plan, i, t, size, task) for t in row.reads} for size in smaller)
        sheet = Sheet(row.before, row.after, texels, self.sources, coarser, row.present)
        if isinstance(step, CarryStep):
            image = self.value_at(plan, i, thread, inputs, task)
            task.checkpoint()
            task.doing(step.title)
            started = time.perf_counter()
            result = carried(step, row.settings, thread, image, decision, sheet, task)
            self._spent(f"{entry.id}:{thread}", started, result)
            self._count(entry.id, thread)
            self.cache.put(key, result)
            return result
        assert isinstance(step, MapStep)
        read = {t: self.value_at(plan, i, t, inputs, task) for t in row.reads}
        task.checkpoint()
        task.doing(step.title)
        started = time.perf_counter()
        made = drawn(self.cache, row, texels, lambda: step.run(row.settings, read, decision, sheet, task))
        wanted: Image | None = None
        for name, image in made.items():
            if row.mixes(name):
                image = self._mixed(plan, i, row, name, image, texels, task)
            if image.size_mm != sheet.size_mm or image.wraps != row.after.wraps:
                image = Image(image.pixels, image.kind, sheet.size_mm, row.after.wraps)
            self.cache.put(self.key_at(plan, i + 1, name, texels), image)
            if name == thread:
                wanted = image
        self._spent(f"{entry.id}:{thread}", started, *made.values())
        self._count(entry.id, thread)
        if wanted is None:
            raise WeaveError(f"it did not make {thread}", step.title)
        return wanted

    def _mixed(self, plan: Plan, start: int, row: Row, name: str, image: Image, texels: Texels, task: Task) -> Image:
        """What a row made, or a group from ``start`` on, mixed with what came in."""
        entry = row.entry
        weight = None
        if entry.mask is not None:
            weight = masks.weight(entry.mask, self.value_at(plan, start, entry.mask.thread, texels, task), task)
        if name in plan.threads_at(start):
            before = self.value_at(plan, start, name, texels, task)
        else:
            before = threads.neutral(plan.spec(name, start), image.width, image.height, image.size_mm, image.wraps)
        return mix(before, image, entry.mix, entry.amount, weight)

    # --- a part of a sheet ------------------------------------------------------------------------------------

    def window(self, weave: Weave, thread: str, size: int, box: Box, task: Task = IDLE) -> Window:
        """A part of a thread as it is at a size, without computing all of it where the last steps look only around a place.

        Parameters
        ----------
        size : int
            Texels along the longer side of the whole finished sheet.
        box : tuple of int
            Left, top, right and bottom in texels of the whole; beyond its edges it goes on at the other side where the sheet
            wraps, and ends there where not.
        """
        plan = self.plan(weave)
        return Windows(self, plan).window(len(plan.rows), thread, plan.geometry.at_longer_side(size), box, task)


def _rows_upto(plan: Plan, weave: Weave, row_id: str, with_it: bool) -> int:
    """How many rows of a plan lie above a row or a group, and with it; what is off, or changes nothing, is not in the plan."""
    entry = weave.at(row_id)
    where = {e.id: i for i, e in enumerate(weave.rows())}
    inside = [where[e.id] for e in tree.steps_of(entry)]
    if not inside:
        raise WeaveError("there is no row in this group", row_id, "Put one into it.")
    groups = {p.entry.id for p in tree.walk((entry,)) if tree.is_group(p.entry)}

    def above(row: Row) -> bool:
        if row.ends_group:
            last = weave.index(row.entry.id)
            return last < inside[0] or (with_it and (last < inside[-1] or row.entry.id in groups))
        return where[row.entry.id] < inside[0] or (with_it and where[row.entry.id] <= inside[-1])

    return sum(above(row) for row in plan.rows)
