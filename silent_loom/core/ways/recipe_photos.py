"""Photos put through a recipe: its slots filled, and the edges made to meet in the way that suits this photo."""

from __future__ import annotations

from collections.abc import Sequence

from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.report.suggest import PROVED
from silent_loom.core.report.suggesting import with_suggestion
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.model import SourceRef, Weave
from silent_loom.core.weave.rows.saved import filled

LEAST = 256
"""Texels along the longer side at which the way to close a sheet is told, at least."""


def through(
    evaluator: Evaluator, recipe: Weave, photos: Sequence[tuple[str, SourceRef]], suggest: bool = True, task: Task = IDLE
) -> tuple[Weave, str]:
    """A weave made of a recipe and photos, and how its edges were made to meet.

    Parameters
    ----------
    recipe : Weave
        With open slots.
    photos : sequence of (str, SourceRef)
        Files behind them, by digest.
    suggest : bool
        Tell the way in which edges meet from the photo; the recipe's own otherwise.

    Raises
    ------
    WeaveError
        There are too few photos, or too many.
    """
    made = filled(recipe, photos)
    if not photos or not suggest or made.able("close") is None:
        return made, ""
    try:
        largest = max(max(ref.width, ref.height) for _, ref in photos)
        size = min(max(largest, LEAST), PROVED)  # a small photo shows nothing more when it is enlarged
        return with_suggestion(evaluator, made, "suggested", task, size)
    except LoomError as error:  # what cannot be told from a photo is left as the recipe has it
        return made, error.args[0] if error.args else ""
