"""A test chart through a weave: the steps below it do to the chart what they do to the photo."""

from __future__ import annotations

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.parallel import Task
from silent_loom.core.weave import registry
from silent_loom.core.weave.answers.cache import Cache
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.answers.plan import Plan
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.rows import edit, tree
from silent_loom.core.weave.rows.model import StepEntry, Weave

ROW = "chart"
"""Id of the row that is put in."""


def charted(weave: Weave, chart: str, below: str = "", into: str = "base") -> Weave:
    """A weave with a chart in place of what a thread holds.

    Parameters
    ----------
    chart : str
        Name of the chart.
    below : str
        Id of the row right below which it is put; below the first row that makes something where it is empty.

    Raises
    ------
    WeaveError
        There is no such row, or nothing in the weave makes a sheet.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> weave = woven_from("gravel")
    >>> charted(weave, "checker") == weave
    False
    """
    if below:
        place = tree.at(weave.steps, weave.at(below).id)
        to, parent = place.at + 1, place.parents[-1].id if place.parents else ""
    else:
        first = next((i for i, e in enumerate(weave.steps) if e.on), None)
        if first is None:
            raise WeaveError("nothing is made here", "", "Switch on a step that brings something in.")
        to, parent = first + 1, ""
    row = StepEntry(id=ROW, step=registry.able("chart"), settings={"chart": chart, "into": into})
    return edit.added(weave, row, to, parent)


class ChartEvaluator(Evaluator):
    """Answers of a charted weave, with the decisions that another evaluator made of the weave without the chart.

    A cut lies where the photo was cut, not where the chart would have been; its cache is its own, since its keys do not tell
    one photo's decisions from another's.
    """

    def __init__(self, of: Evaluator, plain: Weave, cache_bytes: int = 384 << 20) -> None:
        super().__init__(of.sources, Cache(cache_bytes))
        self._of, self._plain = of, plain

    def decision_at(self, plan: Plan, i: int, task: Task) -> Decision:
        rows = self._of.plan(self._plain).rows
        at = next((j for j, row in enumerate(rows) if row.entry.id == plan.rows[i].entry.id and not row.error), None)
        return super().decision_at(plan, i, task) if at is None else self._of.decision_at(self._of.plan(self._plain), at, task)
