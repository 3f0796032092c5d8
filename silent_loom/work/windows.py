"""Parts of maps at the size of a bake, for whoever looks closely."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.parallel import Rank, Task
from silent_loom.core.screen.reading import Part, seen
from silent_loom.core.weave.answers.windows import Box, window
from silent_loom.core.weave.rows.model import Weave

if TYPE_CHECKING:
    from silent_loom.work.desk import Desk

MOST = 2048
"""Texels along a side of a window."""


@dataclass(frozen=True)
class WindowFacts:
    """What a screen needs to know of a window's bytes.

    Attributes
    ----------
    box : tuple of int
        Left, top, right, bottom in texels of the whole.
    key : str
        Equal for equal pictures of the whole.
    whole_above : str
        Title of the last step that was computed for the whole sheet; empty when none had to be.
    """

    box: Box
    key: str
    whole_above: str


def window_rgba(
    desk: Desk,
    ident: str,
    thread: str,
    size: int,
    box: Box,
    *,
    part: Part = "",
    clipped: bool = False,
    **how: Any,
) -> tuple[bytes, WindowFacts]:
    """A part of a map as RGBA bytes, row by row; ``part`` and ``clipped`` as in `seen`.

    Raises
    ------
    LoomError
        It is larger than anybody can look at, or empty.
    """
    if not (0 < box[2] - box[0] <= MOST and 0 < box[3] - box[1] <= MOST):
        raise LoomError(f"a window is 1 to {MOST} texels each way", "window", "Ask for a smaller one.")
    if max(abs(v) for v in box) > 2 * size:
        raise LoomError("this window lies far outside of the sheet", "window", "Ask for one that touches it.")

    def work(weave: Weave, task: Task) -> tuple[bytes, WindowFacts]:
        evaluator = desk.evaluator_for(weave, None, size)
        found = window(evaluator, weave, thread, size, box, task)
        facts = WindowFacts(found.box, evaluator.key(weave, thread, size), found.whole_above)
        return seen(found.image, evaluator.meaning(weave, thread), part, clipped, task).tobytes(), facts

    return desk.answer(ident, work, rank=Rank.ASIDE, **how)
