"""What a screen says beside rows and maps: decisions, warnings, ranges, and what is odd."""

from __future__ import annotations

from typing import Any

import numpy as np

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.images import Kind
from silent_loom.core.base.parallel import Task
from silent_loom.core.files.codes import quantise
from silent_loom.core.files.write import is_constant
from silent_loom.core.screen.display import shown
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.answers.plan import Plan, Row
from silent_loom.core.weave.rows.model import Weave

BLURRED = 0.9
"""Part of local contrast that is left at a join, below which it is said."""


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


def ranges(evaluator: Evaluator, plan: Plan, weave: Weave, task: Task) -> dict[str, tuple[float, float]]:
    """1st and 99th percentile of every map of plain numbers, in its own unit."""
    found: dict[str, tuple[float, float]] = {}
    for thread in plan.threads:
        try:
            image = evaluator.ask(weave, thread, 256, task)
        except WeaveError:
            continue
        if image.kind is Kind.DATA:
            low, high = np.percentile(image.pixels, [1, 99])
            found[thread] = (round(float(low), 3), round(float(high), 3))
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
        said: list[str] = []
        if is_constant(image.pixels):
            value = image.pixels.reshape(-1, image.pixels.shape[2])[0]
            said.append("constant " + " ".join(f"{v:.2f}".rstrip("0").rstrip(".") for v in value))
        elif meaning.read_of:
            seen = shown(image, meaning)
            cut = float(((seen < -1e-3) | (seen > 1.001)).mean())
            if cut > 0.001:
                said.append(f"clipped {100 * cut:.1f} %")
        if thread == "base":
            # Dielectrics lie at about sRGB 50 to 240; judged by the middle of the picture, not by its extremes
            codes, _ = quantise(image.pixels, "8", colour=True)
            low, high = np.percentile(codes.max(2), [10, 90])
            if high < 50:
                said.append("darker than real surfaces")
            if low > 240:
                said.append("brighter than real surfaces")
            worst = max(sheet.get("seam_x_after", 0), sheet.get("seam_y_after", 0))
            if worst > 1:
                said.append(f"seam {worst:.1f}, visible above 1")
            kept = min(sheet.get("contrast_x_after", 1), sheet.get("contrast_y_after", 1))
            if image.wraps and kept < BLURRED:
                said.append(f"{100 * kept:.0f} % of its contrast at the join")
        if thread == "metallic" and not is_constant(image.pixels):
            half = float(((image.pixels > 0.2) & (image.pixels < 0.8)).mean())
            if half > 0.25:
                said.append(f"{100 * half:.0f} % half metal")
        if not image.wraps:
            said.append("not seamless")
        notes[thread] = said
    return notes
