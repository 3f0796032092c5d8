"""A photo cropped to a whole number of repeats of the motif on it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.look.motif.grid import fit_grid
from silent_loom.core.look.motif.lattice import find_lattice
from silent_loom.core.steps.photo.straighten import Corners, Straighten, StraightenSettings, bent
from silent_loom.core.weave import registry
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.model import Weave

LOOK = 1024
"""Texels along the longer side at which the motif is looked for."""


@dataclass(frozen=True)
class WholeRepeats:
    """A weave whose Straighten keeps whole repeats, and how many."""

    weave: Weave
    repeats: tuple[int, int]

    @property
    def words(self) -> str:
        return f"{self.repeats[0]} × {self.repeats[1]} repeats"


def whole_repeats(evaluator: Evaluator, weave: Weave, task: Task = IDLE) -> WholeRepeats:
    """Move the corners of the last Straighten to the largest area of whole repeats inside them.

    What perspective or turn the corners had left goes too, since the new ones lie on the lattice of the motif. Where a
    Seamless that overlaps comes after it, its overlap becomes one repeat: what is laid over itself then agrees.

    Raises
    ------
    WeaveError
        There is no Straighten, or no regular motif on what comes out of it.
    """
    entry = next((e for e in reversed(weave.rows()) if e.on and registry.can(e.step, "straighten")), None)
    plan = evaluator.plan(weave)
    row = next((r for r in plan.rows if entry is not None and r.entry.id == entry.id), None)
    if entry is None or row is None:
        raise WeaveError("Straighten keeps whole repeats, and there is none switched on", "weave", "Add one, or switch it on.")
    image = evaluator.ask(weave, "base", LOOK, task, below=entry.id)
    lattice = find_lattice(image, task)
    grid = fit_grid(image, lattice, task, room=0.0) if lattice else None
    if grid is None:
        raise WeaveError(
            "no regular motif was found on the straightened sheet", row.step.title, "Place the corners by hand on whole repeats."
        )
    step, s = row.step, row.settings
    assert isinstance(step, Straighten)
    assert isinstance(s, StraightenSettings)
    size = np.array(row.after.size_mm)
    quad = np.array(grid.quad) * size
    placed = np.concatenate([quad, np.ones((4, 1))], 1) @ step.to_photo(s, row.before, row.after).T
    parts = bent(placed[:, :2] / placed[:, 2:], s.bulge, row.before)
    corners: Corners = tuple((round(float(x), 7), round(float(y), 7)) for x, y in parts)  # type: ignore[assignment]
    told: dict[str, Any] = {"corners": corners, "crop": "free"}
    # The proportions are known from here on, and the real size where it was known
    sides = [float(np.linalg.norm(quad[i] - quad[j])) for i, j in ((1, 0), (2, 3), (3, 0), (2, 1))]
    told["width_mm"], told["height_mm"] = round((sides[0] + sides[1]) / 2, 4), round((sides[2] + sides[3]) / 2, 4)
    made = weave.with_settings(entry.id, told)
    closing = next((e for e in made.rows()[made.index(entry.id) :] if e.on and registry.can(e.step, "close")), None)
    if closing is not None and closing.settings.get("method", "cut") in ("cut", "fade", "gradient"):
        over = {name: round(1 / n, 6) for name, n in zip(("overlap_x", "overlap_y"), grid.repeats, strict=True) if 2 <= n <= 50}
        made = made.with_settings(closing.id, over)
    return WholeRepeats(made, grid.repeats)


def follow_grid(evaluator: Evaluator, before: Weave, after: Weave) -> Weave:
    """A weave whose Straighten was changed, with the grid of its motif laid where it was on the photo.

    A grid is kept in parts of the straightened sheet: left as it is, it would be skewed against the motif as soon as the
    corners move. Where it would lie outside the new sheet it stays as it was.
    """
    closing = after.able("close")
    grid = closing.settings.get("grid") if closing is not None else None
    if closing is None or not grid or closing.settings.get("method") != "motif":
        return after
    rows = [
        next((r for r in reversed(evaluator.plan(w).rows) if isinstance(r.step, Straighten) and r.error is None), None)
        for w in (before, after)
    ]
    if rows[0] is None or rows[1] is None:
        return after
    old, new = (r.step.to_photo(r.settings, r.before, r.after) for r in rows if r is not None)  # type: ignore[attr-defined]
    placed = np.array(grid) * rows[0].after.size_mm
    moved = np.concatenate([placed, np.ones((4, 1))], 1) @ (np.linalg.inv(new) @ old).T
    parts = moved[:, :2] / moved[:, 2:] / rows[1].after.size_mm
    if not np.isfinite(parts).all() or np.abs(parts - 0.5).max() > 0.6:
        return after
    corners = [[round(float(x), 6), round(float(y), 6)] for x, y in parts]
    try:
        return after.with_settings(closing.id, {"grid": corners})
    except WeaveError:  # no longer an area that goes clockwise
        return after
