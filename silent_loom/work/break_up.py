"""Pictures that show what a break-up row does: its cells, a chart through them, and three sizes of cells beside each other."""

from __future__ import annotations

import base64
from typing import Any

import numpy as np

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.parallel import Task
from silent_loom.core.files.codes import quantise
from silent_loom.core.files.png import png_bytes
from silent_loom.core.look.meters.repetition_meter import copies, repetition
from silent_loom.core.steps.tiling.breakup import BreakUp, BreakUpSettings, outlines
from silent_loom.core.tiling.pieces.chart import chart
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.answers.plan import Row
from silent_loom.core.weave.rows.model import Weave
from silent_loom.core.weave.step import Sheet


def cells(evaluator: Evaluator, weave: Weave, step_id: str, what: str, size: int, task: Task) -> bytes:
    """The cells of a break-up row by themselves, or a test chart repeated ('before') or through them, as a PNG."""
    row, settings = _row_of(evaluator, weave, step_id)
    w, h = row.after.at_longer_side(size)
    if what == "cells":
        image = outlines(settings, row.before.size_mm, w, h, task)
    else:
        tile = chart(max(64, round(w / settings.repeat_x)), max(64, round(h / settings.repeat_y)), row.before.size_mm)
        sheet = Sheet(row.before, row.after, (float(w), float(h)), evaluator.sources)
        if what == "before":
            tiled = np.tile(tile.pixels, (settings.repeat_y, settings.repeat_x, 1))
            codes, _ = quantise(tiled, "8", colour=True, task=task)
            return png_bytes(codes, colour=True, fast=True)
        image = BreakUp().carry(settings, tile, evaluator.decision(weave, step_id, task), sheet, task)
    codes, _ = quantise(image.pixels, "8", colour=True, task=task)
    return png_bytes(codes, colour=True, fast=True)


def cell_sizes(evaluator: Evaluator, weave: Weave, step_id: str, task: Task) -> list[dict[str, Any]]:
    """The sheet of a break-up row with cells of three sizes: a picture each, how much repeats, and how much is seen twice."""
    row, settings = _row_of(evaluator, weave, step_id)
    now = settings.cell_mm or 0.5 * min(row.before.size_mm)
    out = []
    for factor in (0.6, 1.0, 1.6):
        task.checkpoint()
        cell = float(f"{now * factor:.4g}")
        made = evaluator.ask(weave.with_settings(step_id, {"cell_mm": cell}), "base", 512, task, below=step_id)
        codes, _ = quantise(made.pixels, "8", colour=True, task=task)
        picture = base64.b64encode(png_bytes(codes, colour=True, fast=True)).decode()
        figures = {"repetition": round(repetition(made), 3), "copied": round(copies(made), 3)}
        out.append({"cell_mm": cell, "picture": picture, **figures})
    return out


def _row_of(evaluator: Evaluator, weave: Weave, step_id: str) -> tuple[Row, BreakUpSettings]:
    row = next((r for r in evaluator.plan(weave).rows if r.entry.id == step_id), None)
    if row is None or not isinstance(row.settings, BreakUpSettings):
        raise WeaveError("this row has no cells", step_id, "Choose a break-up row that is on.")
    if row.error is not None:
        raise row.error
    return row, row.settings
