"""What is odd about one map of a stored material, explained, and mended in one press."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.parallel import Rank, Task
from silent_loom.core.report.check import Mend, Odd, told
from silent_loom.core.weave import registry
from silent_loom.core.weave.answers.drift import beside as above
from silent_loom.core.weave.answers.drift import can_rise, drifts
from silent_loom.core.weave.rows import edit, tree
from silent_loom.core.weave.rows.model import StepEntry, Weave
from silent_loom.work.desk import Desk
from silent_loom.work.figures import Figures
from silent_loom.work.notes import beside, drift_words

DRIFT = "drift"
SAYS = (
    "A row further down changes what this map was read from, so the two no longer belong together: light and displacement "
    "would tell different things. Put the change above the row that reads it, or read it again."
)


class Oddities:
    """Checks of maps with their words and mends."""

    def __init__(self, desk: Desk, figures: Figures) -> None:
        self.desk = desk
        self.figures = figures

    def _found(self, ident: str, thread: str) -> list[Odd]:
        sheet = self.figures.figures(ident)["sheet"]

        def work(weave: Weave, task: Task) -> list[Odd]:
            plan = self.desk.evaluator.plan(weave)
            image = self.desk.evaluator.ask(weave, thread, 256, task)
            more = beside(self.desk.evaluator, plan, weave, thread, task)
            return told(image, plan.spec(thread), {**sheet, **more})

        return self.desk.answer(ident, work, rank=Rank.ASIDE)

    def told(self, ident: str, thread: str) -> list[dict[str, Any]]:
        """Everything odd about a map, for JSON; ``mend`` holds words where one press mends it."""
        weave = self.desk.store.get(ident).weave
        found = []
        for odd in self._found(ident, thread):
            can = odd.mend is not None and (odd.mend.adds or _row_of(weave, odd.mend) is not None)
            found.append({**asdict(odd), "mend": odd.mend.words if can and odd.mend else None})
        return found + self._drifted(weave, thread)

    def _drifted(self, weave: Weave, thread: str) -> list[dict[str, Any]]:
        """A map that no longer agrees with what it was read from."""
        plan = self.desk.evaluator.plan(weave)
        words, found = drift_words(plan, thread), [d for d in drifts(plan) if d.thread == thread]
        if not words:
            return []
        titles = {r.entry.id: r.step.title for r in plan.rows}
        d = found[0]
        rises = can_rise(plan, d.changer, d.reader)
        mend = f"Move {titles[d.changer]} above {titles[d.reader]}" if rises else f"Read {titles[d.reader]} again at the end"
        return [{"check": DRIFT, "words": ", ".join(words), "says": SAYS, "mend": mend}]

    def _put_in_order(self, weave: Weave, thread: str) -> tuple[Weave, str, str]:
        plan = self.desk.evaluator.plan(weave)
        d = next((d for d in drifts(plan) if d.thread == thread), None)
        if d is None:
            raise WeaveError("there is nothing to mend by itself here", DRIFT, "See what it says.")
        if can_rise(plan, d.changer, d.reader):
            made = edit.moved(weave, d.changer, *above(weave, d.changer, d.reader))
            return made, d.changer, f"Mended: {edit.titled(weave, d.changer)} moved"
        made = edit.pasted(weave, [weave.at(d.reader)], len(weave.steps), "", {})
        return made, made.steps[-1].id, f"Mended: {edit.titled(weave, d.reader)} again at the end"

    def mended(self, ident: str, thread: str, check: str) -> tuple[Weave, str, str]:
        """The weave with one thing mended, the id of the row that does it, and words for the history.

        Raises
        ------
        WeaveError
            It is not odd any more, or nothing here mends it.
        """
        if check == DRIFT:
            return self._put_in_order(self.desk.store.get(ident).weave, thread)
        odd = next((o for o in self._found(ident, thread) if o.check == check and o.mend), None)
        weave = self.desk.store.get(ident).weave
        if odd is None or odd.mend is None:
            raise WeaveError("there is nothing to mend by itself here", check, "See what it says.")
        row = _row_of(weave, odd.mend)
        settings = registry.plain(dict(odd.mend.settings))
        if row is not None:
            made = weave.with_entry(row.model_copy(update={"on": True})).with_settings(row.id, settings)
            return made, row.id, f"Mended: {odd.mend.words}"
        if not odd.mend.adds:
            raise WeaveError("no step here can mend this", odd.mend.step, "See what it says.")
        new = StepEntry(step=odd.mend.step, settings=settings)
        after = self._last_maker(weave, thread)
        made = edit.added(weave, new, *after)
        return made, new.id, f"Mended: {odd.mend.words}"

    def _last_maker(self, weave: Weave, thread: str) -> tuple[int, str]:
        """Where a row goes that is put after the last one that makes a map; in the same group."""
        rows = [r for r in self.desk.evaluator.plan(weave).rows if thread in r.made and not r.ends_group]
        place = next((p for p in tree.walk(weave.steps) if rows and p.entry.id == rows[-1].entry.id), None)
        return (place.at + 1, place.parents[-1].id if place.parents else "") if place else (len(weave.steps), "")


def _row_of(weave: Weave, mend: Mend) -> StepEntry | None:
    """The last row of the step that mends; of a step for any thread, one for this thread."""
    wanted = mend.settings.get("thread")
    rows = [r for r in weave.rows() if r.step == mend.step and (wanted is None or r.settings.get("thread", "base") == wanted)]
    return rows[-1] if rows and not mend.anew else None
