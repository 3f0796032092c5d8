"""A part of a sheet at full size, without the rest of it, as far up as steps look only around a place."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from silent_loom.core.base.errors import NotMade
from silent_loom.core.base.images import Floats, Image
from silent_loom.core.base.parallel import Task
from silent_loom.core.weave import threads
from silent_loom.core.weave.answers import masks
from silent_loom.core.weave.answers.mixing import mix
from silent_loom.core.weave.answers.plan import Plan, Row
from silent_loom.core.weave.step import Geometry, MapStep, Sheet, Texels, whole

if TYPE_CHECKING:
    from silent_loom.core.weave.answers.evaluate import Evaluator

Box = tuple[int, int, int, int]
"""Left, top, right, bottom in texels."""


@dataclass(frozen=True)
class Window:
    """A part of a sheet.

    Attributes
    ----------
    image : Image
        What lies in ``box``; it does not wrap.
    box : tuple of int
        Left, top, right, bottom in texels of the whole sheet; narrower than what was asked for at edges that do not meet.
    whole_above : str
        Title of the last step that had to be computed for the whole sheet; empty when there was none.
    """

    image: Image
    box: Box
    whole_above: str


class Windows:
    """Answers for windows of one plan."""

    def __init__(self, evaluator: Evaluator, plan: Plan) -> None:
        self.evaluator = evaluator
        self.plan = plan

    def window(self, at: int, thread: str, texels: Texels, box: Box, task: Task) -> Window:
        """A window of a thread above the row at a position.

        Raises
        ------
        NotMade, WeaveError, Cancelled
        """
        plan, i = self.plan, self.plan.maker(at, thread)
        if i < 0:
            raise NotMade(f"nothing makes {plan.spec(thread, at).title.lower()}", "weave", "Add a step that writes it.")
        row = plan.rows[i]
        if row.error:
            raise row.error
        box = _inside(box, whole(texels), row.after.wraps)
        kept = self.evaluator.cache.get(self.evaluator.key_at(plan, at, thread, texels))
        if kept is not None:
            return Window(_cut(kept, box), box, "")
        if row.ends_group:
            made = self.window(i, thread, texels, box, task)
            return replace(made, image=self._mixed(row, row.first, thread, made.image, texels, box, task))
        halo = self._halo(row, texels)
        if halo is None or not isinstance(row.step, MapStep):
            full = self.evaluator.value_at(plan, at, thread, texels, task)
            return Window(_cut(full, box), box, row.step.title)
        wide = _inside(_grown(box, halo), whole(texels), row.after.wraps)
        read = {t: self.window(i, t, texels, wide, task) for t in row.reads}
        pitch = row.after.size_mm[0] / texels[0], row.after.size_mm[1] / texels[1]
        part = (wide[2] - wide[0]), (wide[3] - wide[1])
        size_mm = part[0] * pitch[0], part[1] * pitch[1]
        around = Geometry(size_mm, False)
        task.checkpoint()
        made_all = row.step.run(
            row.settings,
            {t: w.image for t, w in read.items()},
            self.evaluator.decision_at(plan, i, task),
            Sheet(around, around, (float(part[0]), float(part[1])), self.evaluator.sources, (), row.present),
            task,
        )
        whole_above = next((w.whole_above for w in read.values() if w.whole_above), "")
        image = replace(made_all[thread], size_mm=size_mm, wraps=False)
        image = _cut(image, (box[0] - wide[0], box[1] - wide[1], box[2] - wide[0], box[3] - wide[1]))
        if row.mixes(thread):
            image = self._mixed(row, i, thread, image, texels, box, task)
        return Window(image, box, whole_above)

    @staticmethod
    def _halo(row: Row, texels: Texels) -> int | None:
        step, s = row.step, row.settings
        if step.geometric or step.coarser(s, row.after, texels) or step.demand(s, row.before, row.after, texels) != texels:
            return None
        return step.halo(s, row.after, texels)

    def _mixed(self, row: Row, start: int, thread: str, image: Image, texels: Texels, box: Box, task: Task) -> Image:
        entry, above = row.entry, self.plan.threads_at(start)
        weight: Floats | None = None
        if entry.mask is not None:
            weight = masks.weight(entry.mask, self.window(start, entry.mask.thread, texels, box, task).image, task)
        if thread in above:
            before = self.window(start, thread, texels, box, task).image
        else:
            before = threads.neutral(self.plan.spec(thread, start), image.width, image.height, image.size_mm, False)
        return mix(before, image, entry.mix, entry.amount, weight)


def _grown(box: Box, by: int) -> Box:
    return box[0] - by, box[1] - by, box[2] + by, box[3] + by


def _inside(box: Box, size: tuple[int, int], wraps: bool) -> Box:
    """A window that has at least a texel, and ends at the edges of a sheet that do not meet."""
    left, top, right, bottom = box
    if not wraps:
        left, right = min(max(left, 0), size[0] - 1), min(right, size[0])
        top, bottom = min(max(top, 0), size[1] - 1), min(bottom, size[1])
    return left, top, max(right, left + 1), max(bottom, top + 1)


def _cut(image: Image, box: Box) -> Image:
    """A part of an image; what lies beyond its edges comes from the other side."""
    left, top, right, bottom = box
    if left >= 0 and top >= 0 and right <= image.width and bottom <= image.height:
        part = image.pixels[top:bottom, left:right]
    else:
        part = image.pixels[np.arange(top, bottom)[:, None] % image.height, np.arange(left, right)[None, :] % image.width]
    dx, dy = image.texel_mm
    return Image(np.ascontiguousarray(part), image.kind, (dx * (right - left), dy * (bottom - top)), False)
