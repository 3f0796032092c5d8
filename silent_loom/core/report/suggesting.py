"""The settings of a weave's seamless step, told from what comes into it."""

from __future__ import annotations

from typing import Any

from silent_loom.core.base.errors import LoomError, SettingError
from silent_loom.core.base.images import Image
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.look.motif.beat import courses_of
from silent_loom.core.look.motif.grid import fit_grid
from silent_loom.core.look.motif.lattice import find_lattice
from silent_loom.core.report.overlap import fitted_overlap
from silent_loom.core.report.suggest import PROVED, suggest
from silent_loom.core.weave import registry
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.model import Weave

MEETING = 1024
"""Texels along the longer side at which a photo that has just come in is looked at for courses."""


def motif_settings(guide: Image, task: Task = IDLE) -> dict[str, Any]:
    """Settings of the motif method for a sheet: whole repeats, or whole courses where no more than these come again.

    Raises
    ------
    LoomError
        No motif is found.

    >>> import numpy as np
    >>> from silent_loom.core.base.images import Kind
    >>> y, x = np.mgrid[0:256, 0:256]
    >>> dots = ((x % 32 - 16) ** 2 + (y % 32 - 16) ** 2 < 64).astype(np.float32)
    >>> motif_settings(Image(np.repeat(dots[..., None], 3, 2), Kind.COLOUR))["method"]
    'motif'
    """
    for look in (find_lattice, courses_of):
        lattice = look(guide, task)
        grid = fit_grid(guide, lattice, task) if lattice else None
        if grid is not None:
            return grid.settings()
    raise LoomError(
        "no regular motif was found, nor courses at an even beat",
        "seamless",
        "Use cut, fade or gradient, or mark whole repeats by hand.",
    )


def with_suggestion(
    evaluator: Evaluator, weave: Weave, method: str = "suggested", task: Task = IDLE, size: int = PROVED
) -> tuple[Weave, str]:
    """A weave with the settings of its seamless step told from what comes into it at ``size`` texels, and why.

    Raises
    ------
    WeaveError, LoomError
        There is no such step, or no motif to go by.
    """
    entry = weave.able("close")
    if entry is None:
        raise SettingError("there is no seamless step in this weave", "seamless", "Add one.")
    straight = evaluator.coming_in(weave.with_settings(entry.id, {"method": "cut"}), entry.id, "base", size, task)
    if method == "motif":
        return weave.with_settings(entry.id, motif_settings(straight, task)), "A motif was found."
    now: Any = registry.settings_of(entry.step, entry.settings)
    if method == "overlap":
        x, y = fitted_overlap(straight, (now.overlap_x, now.overlap_y), task)
        return weave.with_settings(entry.id, {"overlap_x": x, "overlap_y": y}), _fitted((now.overlap_x, now.overlap_y), (x, y))
    told = suggest(straight, (now.overlap_x, now.overlap_y), task)
    return weave.with_settings(entry.id, told.settings), told.why


def meeting(evaluator: Evaluator, weave: Weave, task: Task = IDLE, size: int = MEETING) -> tuple[Weave, str]:
    """What a weave's seamless step is better begun with: what suits, if there are courses or a motif that a plain cut would chop;
    the weave as it is, and no words, where there are none.

    Raises
    ------
    WeaveError
        Nothing comes in there.
    """
    entry = weave.able("close")
    if entry is None or not entry.on:
        return weave, ""
    came = evaluator.coming_in(weave, entry.id, "base", size, task)
    if find_lattice(came, task) is None and courses_of(came, task) is None:
        return weave, ""
    now: Any = registry.settings_of(entry.step, entry.settings)
    told = suggest(came, (now.overlap_x, now.overlap_y), task)
    return weave.with_settings(entry.id, told.settings), told.why


def _fitted(asked: tuple[float, float], found: tuple[float, float]) -> str:
    if asked == found:
        return "Nothing fits clearly better: the overlaps are left as they were."
    parts = [
        f"{way} from {100 * was:.3g} to {100 * now:.3g} %"
        for way, was, now in zip(("across", "down"), asked, found, strict=True)
        if was != now
    ]
    return f"What runs along the edges meets itself now: {' and '.join(parts)}."
