"""One owner of the cores at a time: whoever asks of a stored material is answered here, the newest question first."""

from __future__ import annotations

import threading
from collections.abc import Callable
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from typing import Any, TypeVar

from silent_loom.core.base.askers import present
from silent_loom.core.base.errors import Cancelled
from silent_loom.core.base.parallel import Lane, Rank, Task
from silent_loom.core.ways.prepare import Preparation
from silent_loom.core.weave import registry
from silent_loom.core.weave.answers.cache import Cache
from silent_loom.core.weave.answers.chart_in_weave import ChartEvaluator
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.edit import set_values
from silent_loom.core.weave.rows.model import Weave
from silent_loom.store.store import Store
from silent_loom.store.stored import StoredDecisions
from silent_loom.work.looking.sight import Sight

R = TypeVar("R")


@dataclass(frozen=True)
class Draft:
    """Settings of one row that are being tried: not yet a state in the history."""

    step_id: str
    settings: dict[str, Any] = field(default_factory=dict)

    def on(self, weave: Weave) -> Weave:
        return set_values(weave, self.step_id, self.settings)


class Desk:
    """What everything that computes for one store shares: the lane, the evaluators, who asks what.

    Parameters
    ----------
    store : Store
    cache_bytes : int
        Bound on computed maps kept.
    preparation : Preparation, optional
        What compiles kernels ahead. Whatever would need one that is not ready waits before it takes the lane, so that nothing
        else has to wait with it.
    """

    def __init__(self, store: Store, cache_bytes: int, preparation: Preparation | None = None) -> None:
        self.store = store
        self.lane = Lane()
        self.decisions = StoredDecisions(store)
        self.evaluator = Evaluator(store.sources, Cache(cache_bytes), self.decisions)
        # A control above a cut that is being dragged: its first small answers decide at half the size
        self.quick = Evaluator(store.sources, self.evaluator.cache, None, decision_size=512, finer=2)
        self.preparation = preparation
        self._views: dict[str, tuple[int, Task]] = {}
        self._views_lock = threading.Lock()
        self._charted: list[tuple[Weave, Sight, Weave, Evaluator]] = []

    @contextmanager
    def _asking(self, view: str, sequence: int, passing: bool, rank: Rank, early: bool) -> Any:
        """A task for a question from one view; an older question of the same view is given up."""
        self.wait_for_kernels(early or rank > Rank.ASIDE)
        task = Task(lane=self.lane, rank=rank)
        asker = present()
        if asker is not None:
            asker.add(task)
        if view:
            with self._views_lock:
                last, older = self._views.get(view, (-1, task))
                if sequence < last:
                    raise Cancelled
                if older is not task:
                    older.cancel()
                self._views[view] = (sequence, task)
                if len(self._views) > 256:
                    self._views.pop(next(iter(self._views)))
        self.decisions.passing(passing)
        try:
            with self.lane.hold(task):
                yield task
        finally:
            self.decisions.passing(False)

    def wait_for_kernels(self, early: bool) -> None:
        """Until what pictures need is compiled; until everything is, where it is not to come early."""
        if self.preparation is None:
            return
        asker = present()
        ready = self.preparation.wait_for_first if early else self.preparation.wait_for_all
        while not ready(0.5):
            if asker is not None:
                asker.check()

    def answer(
        self,
        ident: str,
        work: Callable[[Weave, Task], R],
        *,
        draft: Draft | None = None,
        sight: Sight | None = None,
        view: str = "",
        sequence: int = 0,
        entry: int | None = None,
        rank: Rank = Rank.TABLE,
        early: bool = False,
    ) -> R:
        """Run a question on a material's weave (with a draft and a way of looking laid over it) in the lane.

        A question about a draft goes before all others.

        What is seen beside the picture waits for all kernels on a first start, unless it is to come ``early``.

        Raises
        ------
        Cancelled
            A newer question of the same view came in.
        """
        weave = self.store.get(ident).weave if entry is None else self.store.weave_at(ident, entry)
        if draft is not None:
            weave = draft.on(weave)
        if sight is not None:
            weave = self.seen(weave, sight)
        with self._asking(view, sequence, draft is not None, rank if draft is None else Rank.HAND, early) as task:
            return work(weave, task)

    def of_weave(self, weave: Weave, work: Callable[[Weave, Task], R], rank: Rank = Rank.ASIDE) -> R:
        """Run a question on a weave that is no material yet."""
        with self._asking("", 0, False, rank, False) as task:
            return work(weave, task)

    def seen(self, weave: Weave, sight: Sight) -> Weave:
        """A weave as somebody looks at it; a chart through it gets an evaluator of its own."""
        if sight == Sight():
            return weave
        if not sight.chart:
            return sight.on(weave)
        with self._views_lock:
            for plain, how, made, _ in self._charted:
                if how == sight and plain == weave:
                    return made
            made = sight.on(weave)
            evaluator = ChartEvaluator(self.evaluator, weave if not sight.off else replace(sight, chart="").on(weave))
            self._charted = [(weave, sight, made, evaluator), *self._charted[:2]]
            return made

    def evaluator_for(self, weave: Weave, draft: Draft | None, size: int) -> Evaluator:
        """The evaluator that answers: the quick one for small passing answers to changes above a step that cuts, that of a chart
        for a weave with a chart in it."""
        for _, _, made, evaluator in self._charted:
            if made is weave:
                return evaluator
        if draft is None or size > 512:
            return self.evaluator
        at = weave.index(draft.step_id)
        cuts = (registry.known(e.step) for e in weave.rows()[at:] if e.on)
        below = any(step is not None and step.geometric and step.decides and step.decision_scale > 0 for step in cuts)
        return self.quick if below else self.evaluator
