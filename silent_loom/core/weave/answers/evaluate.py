"""Answers for a thread at a size: lazily, incrementally, and the same whatever was asked before."""

from __future__ import annotations

import math
import time
from collections.abc import Iterable, Mapping

from silent_loom.core.base.errors import NotMade, WeaveError
from silent_loom.core.base.images import Image
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.weave import threads
from silent_loom.core.weave.answers import masks
from silent_loom.core.weave.answers.cache import Cache
from silent_loom.core.weave.answers.carrying import carried
from silent_loom.core.weave.answers.costs import MOST_TOLD, Costs
from silent_loom.core.weave.answers.holding import Holding
from silent_loom.core.weave.answers.inputs import Inputs, Mixing, Place, asked_texels, decided_on, inputs_of
from silent_loom.core.weave.answers.keys import decision_key, key_of
from silent_loom.core.weave.answers.mixing import mix
from silent_loom.core.weave.answers.plan import Plan, Row, planned
from silent_loom.core.weave.answers.unmixed_patterns import drawn
from silent_loom.core.weave.decision import NONE, Decision, DecisionStore, InMemory
from silent_loom.core.weave.rows import tree
from silent_loom.core.weave.rows.model import Weave
from silent_loom.core.weave.step import DECISION_SIZE, CarryStep, Geometry, MapStep, Sheet, Sources, Texels
from silent_loom.core.weave.threads import ThreadSpec

SHALLOW = 40
"""Rows that may ask those above them by calls within calls; longer weaves are walked by a loop, from above."""


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
            answers[name] = self.value_at(plan, (at, name, texels), task)
        return answers

    def holding(self, weave: Weave, names: Iterable[str], size: int) -> Holding:
        """While the block runs, keep what several of these threads are made from, whatever the cache's bound.

        A base colour of 8192² alone is larger than most bounds; without this, everything above it would be computed anew for
        each map that reads it. Say which map is done (`Holding.made`), and what it alone still needed is let go.
        """
        plan = self.plan(weave)
        tops = {name: (len(plan.rows), name, plan.geometry.at_longer_side(size)) for name in names}
        return Holding(
            self.cache, tops, lambda place: self.key_at(plan, place), lambda place: [*self.inputs(plan, place).places()]
        )

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
            texels = asked_texels(plan.rows[at], texels, self.finer)
            at = plan.maker(at, thread)
        return self.value_at(plan, (i, thread, texels), task)

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
        return self.key_at(plan, (at, thread, geometry.at_longer_side(size)))

    def meaning(self, weave: Weave, thread: str, *, below: str | None = None) -> ThreadSpec:
        """What a thread means, and the range in which it is shown, on the finished sheet or below a row."""
        plan = self.plan(weave)
        return plan.spec(thread, self._place(plan, weave, below)[0])

    # --- what values are made of ----------------------------------------------------------------------------

    def inputs(self, plan: Plan, place: Place) -> Inputs:
        """What a value is made of: see `inputs.inputs_of`."""
        if (known := plan.inputs.get(place)) is None:
            known = plan.inputs[place] = inputs_of(plan, place, self.finer, self.decision_size)
        return known

    def key_at(self, plan: Plan, place: Place) -> str:
        """Key of a thread above the row at a position."""
        return key_of(plan, place, self.inputs)

    def _decision_key(self, plan: Plan, i: int) -> str:
        return decision_key(plan, i, decided_on(plan.rows[i], i, self.decision_size), self.inputs)

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
        on = decided_on(row, i, self.decision_size)
        inputs = {t: self.value_at(plan, place, task) for t, place in on.items()}
        task.checkpoint()
        started = time.perf_counter()
        decision = row.step.decide(row.settings, inputs, row.laid or row.before, task)
        self._spent(f"{row.entry.id}:decide", started)
        self.decisions.put(key, decision)
        return decision

    def _count(self, row: str, thread: str) -> None:
        self.computed.append((row, thread))
        if len(self.computed) > MOST_TOLD:
            del self.computed[: MOST_TOLD // 2]

    def _spent(self, key: str, started: float, *made: Image) -> None:
        self.costs.put(key, time.perf_counter() - started, sum(i.pixels.nbytes for i in made))

    def value_at(self, plan: Plan, place: Place, task: Task) -> Image:
        """A thread above the row at a position, all of it."""
        kept = self.cache.get(self.key_at(plan, place))
        if kept is not None:
            return kept
        if self.inputs(plan, place).row < SHALLOW:
            return self._computed(plan, place, task)
        held: dict[Place, list[str]] = {}
        try:
            self._compute_above(plan, place, held, task)
            return self._computed(plan, place, task)
        finally:
            for keys in held.values():
                self.cache.release(keys)

    def _compute_above(self, plan: Plan, wanted: Place, held: dict[Place, list[str]], task: Task) -> None:
        """Everything that a value is made of, made from above by a loop; what is held meanwhile is noted."""
        todo = [wanted]
        while todo:
            place = todo[-1]
            if place != wanted and self.cache.get(self.key_at(plan, place)) is not None:
                self.cache.release(held.pop(place, []))
                todo.pop()
                continue
            missing = [] if place in held else self._missing(plan, place)
            if missing:
                held[place] = [self.key_at(plan, p) for p in missing]
                self.cache.hold(held[place])
                todo += missing
                continue
            if place != wanted:
                self._computed(plan, place, task)
            else:
                todo.pop()

    def _missing(self, plan: Plan, place: Place) -> list[Place]:
        """What has to be made before a value: what it is made of, and what its row decides on where it has not yet."""
        inputs = self.inputs(plan, place)
        needs = list(inputs.places())
        if plan.rows[inputs.row].step.decides and self.decisions.get(self._decision_key(plan, inputs.row)) is None:
            needs += inputs.decides_on.values()
        return [p for p in dict.fromkeys(needs) if self.cache.get(self.key_at(plan, p)) is None]

    def _computed(self, plan: Plan, place: Place, task: Task) -> Image:
        """A value, made now and kept."""
        inputs = self.inputs(plan, place)
        row = plan.rows[inputs.row]
        if row.ends_group:
            inside = self.value_at(plan, inputs.reads[place[1]], task)
            result = self._mixed(plan, place, row, inside, inputs.mixing, task)
            self.cache.put(self.key_at(plan, place), result)
            return result
        decision = self.decision_at(plan, inputs.row, task)
        coarser = tuple({t: self.value_at(plan, p, task) for t, p in size.items()} for size in inputs.coarser)
        read = {t: self.value_at(plan, p, task) for t, p in inputs.reads.items()}
        sheet = Sheet(row.before, row.after, place[2], self.sources, coarser, row.present)
        task.checkpoint()
        task.doing(row.step.title)
        if isinstance(row.step, CarryStep):
            return self._carried(plan, place, row, read[place[1]], decision, sheet, task)
        return self._run(plan, place, row, read, decision, sheet, task)

    def _carried(self, plan: Plan, place: Place, row: Row, image: Image, decision: Decision, sheet: Sheet, task: Task) -> Image:
        """A thread as a row that moves pixels carries it."""
        assert isinstance(row.step, CarryStep)
        started = time.perf_counter()
        result = carried(row.step, row.settings, place[1], image, decision, sheet, task)
        self._spent(f"{row.entry.id}:{place[1]}", started, result)
        self._count(row.entry.id, place[1])
        self.cache.put(self.key_at(plan, place), result)
        return result

    def _run(
        self, plan: Plan, place: Place, row: Row, read: dict[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> Image:
        """A thread as a row writes it; what else the row writes is kept, too."""
        step, (_, thread, texels), i = row.step, place, self.inputs(plan, place).row
        assert isinstance(step, MapStep)
        started = time.perf_counter()

        def made() -> Mapping[str, Image]:
            if row.laid is None:
                return step.run(row.settings, read, decision, sheet, task)
            return sheet.laid_of(row.laid, lambda own: step.run(row.settings, read, decision, own, task), task)

        written = drawn(self.cache, row, texels, made)
        wanted: Image | None = None
        for name, image in written.items():
            at = (i + 1, name, texels)
            if row.mixes(name):
                image = self._mixed(plan, at, row, image, self.inputs(plan, at).mixing, task)
            if image.size_mm != sheet.size_mm or image.wraps != row.after.wraps:
                image = Image(image.pixels, image.kind, sheet.size_mm, row.after.wraps)
            self.cache.put(self.key_at(plan, at), image)
            if name == thread:
                wanted = image
        self._spent(f"{row.entry.id}:{thread}", started, *written.values())
        self._count(row.entry.id, thread)
        if wanted is None:
            raise WeaveError(f"it did not make {thread}", step.title)
        return wanted

    def _mixed(self, plan: Plan, place: Place, row: Row, image: Image, mixing: Mixing | None, task: Task) -> Image:
        """What a row, or a group, made of a thread, mixed with what came in."""
        if mixing is None:
            return image
        entry = row.entry
        weight = None
        if mixing.mask is not None and entry.mask is not None:
            weight = masks.weight(entry.mask, self.value_at(plan, mixing.mask, task), task)
        if mixing.before is not None:
            before = self.value_at(plan, mixing.before, task)
        else:
            before = threads.neutral(plan.spec(place[1], mixing.start), image.width, image.height, image.size_mm, image.wraps)
        return mix(before, image, entry.mix, entry.amount, weight)


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
