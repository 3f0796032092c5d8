"""What a screen says beside rows and maps: decisions, warnings, ranges, and what is odd."""

from __future__ import annotations

from typing import Any

import numpy as np

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.images import Kind
from silent_loom.core.base.parallel import Task
from silent_loom.core.report.check import checked
from silent_loom.core.weave.answers.drift import drifts
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.answers.plan import Plan, Row
from silent_loom.core.weave.rows.model import Weave


def row_notes(evaluator: Evaluator, plan: Plan, weave: Weave, task: Task) -> dict[str, Any]:
    """What each row decided and warns of, or why it could not."""
    notes: dict[str, Any] = {}
    for row in plan.rows:
        if row.error is not None:
            notes[row.entry.id] = {"error": str(row.error), "warnings": [], "figures": {}}
            continue
        try:
            decision = evaluator.decision(weave, row.entry.id, task)
        except WeaveError:
            continue
        figures = {**decision.figures, **_read_of(evaluator, row)}
        notes[row.entry.id] = {"warnings": list(decision.warnings), "figures": figures}
    return notes


def _read_of(evaluator: Evaluator, row: Row) -> dict[str, Any]:
    """How the files of a row are encoded, by what they say themselves."""
    sources = [row.settings.source] if hasattr(row.settings, "source") else [m.source for m in getattr(row.settings, "maps", ())]
    return {"read": [evaluator.sources.picture(s).encoding for s in sources]} if sources else {}


def ranges(evaluator: Evaluator, plan: Plan, weave: Weave, task: Task) -> dict[str, tuple[float, float, float]]:
    """1st and 99th percentile and mean of every map of plain numbers, in its own unit."""
    found: dict[str, tuple[float, float, float]] = {}
    for thread in plan.threads:
        try:
            image = evaluator.ask(weave, thread, 256, task)
        except WeaveError:
            continue
        if image.kind is Kind.DATA:
            low, high = np.percentile(image.pixels, [1, 99])
            found[thread] = (round(float(low), 3), round(float(high), 3), round(float(image.pixels.mean()), 3))
    return found


def map_notes(evaluator: Evaluator, plan: Plan, weave: Weave, sheet: dict[str, Any], task: Task) -> dict[str, list[str]]:
    """What is odd about each map, in a few words each.

    Parameters
    ----------
    sheet : figures of `derive.measure`, or nothing
    """
    notes: dict[str, list[str]] = {}
    for thread, meaning in plan.threads.items():
        try:
            image = evaluator.ask(weave, thread, 256, task)
        except WeaveError as error:
            notes[thread] = [error.what]
            continue
        notes[thread] = checked(image, meaning, {**sheet, **beside(evaluator, plan, weave, thread, task)})
        notes[thread] += drift_words(plan, thread)
    return notes


def drift_words(plan: Plan, thread: str) -> list[str]:
    """A word on a map that was read off another one before that had its last form."""
    titles = {r.entry.id: r.step.title for r in plan.rows}
    return [
        f"made before {titles[d.changer]} changes the {plan.spec(d.source).title.lower()}"
        for d in drifts(plan)
        if d.thread == thread
    ]


def beside(evaluator: Evaluator, plan: Plan, weave: Weave, thread: str, task: Task) -> dict[str, Any]:
    """What a check of one map looks at besides: other maps, and whether it lies on a model."""
    facts: dict[str, Any] = {"on_model": plan.geometry.on is not None}
    wanted = {"metallic": "base", "roughness": "joint"}.get(thread)
    if wanted is None or wanted not in plan.threads:
        return facts
    try:
        return {**facts, wanted: evaluator.ask(weave, wanted, 256, task)}
    except WeaveError:
        return facts
