"""Figures of a material, and what is odd about its rows and maps."""

from __future__ import annotations

from typing import Any

from silent_loom.core.base.bounded_memory import Memory
from silent_loom.core.base.parallel import Rank, Task
from silent_loom.core.look.meters.repetition_meter import repetition
from silent_loom.core.ways.measuring import measure
from silent_loom.core.weave.answers.plan import flat_part
from silent_loom.core.weave.rows.model import Weave
from silent_loom.work.desk import Desk
from silent_loom.work.notes import map_notes, ranges, row_notes

FIGURE_SIZE = 1024


class Figures:
    """Seams, evenness and repetition of stored materials."""

    def __init__(self, desk: Desk) -> None:
        self.desk = desk
        self._figures: Memory[str, dict[str, Any]] = Memory(64)

    def figures(self, ident: str, **how: Any) -> dict[str, Any]:
        """Seams, evenness, repetition, and what is odd about each map."""

        def work(weave: Weave, task: Task) -> dict[str, Any]:
            plan = self.desk.evaluator.plan(weave)
            flat = flat_part(plan, weave)  # what is changed on a model leaves the sheet's figures as they are
            there = "base" in self.desk.evaluator.plan(flat).threads
            key = self.desk.evaluator.key(flat, "base", FIGURE_SIZE) if there else ""
            known = self._figures.get(key)
            if known is None and key:
                finished = self.desk.evaluator.ask(flat, "base", FIGURE_SIZE, task)
                known = {
                    **measure(self.desk.evaluator, flat, FIGURE_SIZE, task),
                    "repetition": round(repetition(finished), 3),
                }
                self._figures.put(key, known)
            return {
                "sheet": known or {},
                "maps": map_notes(self.desk.evaluator, plan, weave, known or {}, task),
                "ranges": ranges(self.desk.evaluator, plan, weave, task),
                "rows": row_notes(self.desk.evaluator, plan, weave, task),
            }

        return self.desk.answer(ident, work, rank=Rank.ASIDE, **how)
