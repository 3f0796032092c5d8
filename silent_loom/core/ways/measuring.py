"""Figures of a finished sheet: how its edges meet, what contrast is left, how even its light is, before and after."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.look.meters.broken import with_broken
from silent_loom.core.look.meters.contrast_meter import Kept, contrast_kept
from silent_loom.core.look.meters.seam_meter import seams
from silent_loom.core.moving.resample import at_most
from silent_loom.core.report.judge import contrast_after
from silent_loom.core.report.suggest import PROVED
from silent_loom.core.steps.photo.light import evenness
from silent_loom.core.steps.tiling.seamless import SEAMLESS, SeamlessSettings, joins
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.answers.plan import flat_part
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.rows.model import Weave

FIGURES = (
    "seam_x_before",
    "seam_y_before",
    "seam_x_after",
    "seam_y_after",
    "contrast_x_after",
    "contrast_y_after",
    "evenness_before",
    "evenness_after",
)

Joins = tuple[np.ndarray[Any, Any], np.ndarray[Any, Any]]


def closing(evaluator: Evaluator, weave: Weave, size: int, task: Task = IDLE) -> tuple[SeamlessSettings, Decision, Image] | None:
    """How a finished sheet was made seamless, and from what base colour.

    A step below the seamless one that changes the sheet itself, such as a break-up, leaves nothing to hold against: None.
    """
    plan = evaluator.plan(weave)
    closed = next((r for r in plan.rows if "close" in r.step.can and r.error is None), None)
    if closed is None or not isinstance(closed.settings, SeamlessSettings) or plan.geometry != closed.after:
        return None
    decision = evaluator.decision(weave, closed.entry.id, task)
    return closed.settings, decision, evaluator.coming_in(weave, closed.entry.id, "base", size, task)


def seam_lines(
    evaluator: Evaluator, weave: Weave, finished: Image, size: int, task: Task = IDLE
) -> tuple[Joins | None, Image | None]:
    """Where a finished sheet was joined, and what was joined there; None where no step above says: see `closing`."""
    known = closing(evaluator, weave, size, task)
    if known is None:
        return None, None
    s, decision, coming = known
    w, h = finished.width, finished.height
    return joins(s, decision, w, h), SEAMLESS.open_sheet(s, coming, w, h, task)


def _contrast(evaluator: Evaluator, weave: Weave, finished: Image, size: int, task: Task) -> tuple[Kept, Kept]:
    """Local contrast kept where a finished sheet was joined; at its borders, where no step above says."""
    size = min(size, PROVED)
    known, small = closing(evaluator, weave, size, task), at_most(finished, size, task)
    if known is None:
        return contrast_kept(replace(small, wraps=True), task=task)
    s, decision, coming = known
    return contrast_after(s, decision, coming, small, task)


def measure(evaluator: Evaluator, weave: Weave, size: int, task: Task = IDLE, before: bool = True) -> dict[str, float]:
    """Seam and evenness figures of a weave, before and after its steps mend them, and the local contrast that they kept.

    Before is the straightened sheet merely laid side by side, and can be left out; after is the finished base colour, its joins
    known. Where the sheet is laid on a model, it is measured as it was before that.
    """
    weave = flat_part(evaluator.plan(weave), weave)
    finished = evaluator.ask(weave, "base", size, task)
    figures = _before(evaluator, weave, min(size, 1024), task) if before else {}  # an unmended border shows at any size
    known, laid = seam_lines(evaluator, weave, finished, size, task)
    ax, ay = seams(finished, known, open_sheet=laid, search=False, task=task)
    cx, cy = _contrast(evaluator, weave, finished, size, task)
    after_x, after_y = with_broken((ax.figure, ay.figure), finished, known, task)
    return {
        **figures,
        "seam_x_after": round(after_x, 4),
        "seam_y_after": round(after_y, 4),
        "contrast_x_after": round(cx.figure, 3),
        "contrast_y_after": round(cy.figure, 3),
        "evenness_after": round(evenness(finished), 4),
    }


def _before(evaluator: Evaluator, weave: Weave, size: int, task: Task) -> dict[str, float]:
    plan = evaluator.plan(weave)
    straight = next((r.entry.id for r in plan.rows if "straighten" in r.step.can), plan.rows[0].entry.id)
    sheet = evaluator.ask(weave, "base", size, task, below=straight)
    x, y = seams(Image(sheet.pixels, Kind.COLOUR, sheet.size_mm, True), search=False, task=task)
    return {
        "seam_x_before": round(x.figure, 4),
        "seam_y_before": round(y.figure, 4),
        "evenness_before": round(evenness(sheet), 4),
    }
