"""A part of a sheet at full size, without the rest of it, as far up as steps look only around a place."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from silent_loom.core.base.images import Floats, Image
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.weave import threads
from silent_loom.core.weave.answers import masks
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.answers.inputs import Inputs, Mixing, Place
from silent_loom.core.weave.answers.mixing import mix
from silent_loom.core.weave.answers.plan import Plan, Row
from silent_loom.core.weave.rows.model import Weave
from silent_loom.core.weave.step import Geometry, MapStep, Sheet, Texels, whole

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


def window(evaluator: Evaluator, weave: Weave, thread: str, size: int, box: Box, task: Task = IDLE) -> Window:
    """A part of a thread as it is at a size, without computing all of it where the last steps look only around a place.

    Parameters
    ----------
    size : int
        Texels along the longer side of the whole finished sheet.
    box : tuple of int
        Left, top, right and bottom in texels of the whole; beyond its edges it goes on at the other side where the sheet
        wraps, and ends there where not.

    Raises
    ------
    NotMade, WeaveError, Cancelled
    """
    plan = evaluator.plan(weave)
    return _Windows(evaluator, plan).at((len(plan.rows), thread, plan.geometry.at_longer_side(size)), box, task)


class _Windows:
    """Windows of one plan."""

    def __init__(self, evaluator: Evaluator, plan: Plan) -> None:
        self.evaluator = evaluator
        self.plan = plan

    def at(self, place: Place, box: Box, task: Task) -> Window:
        """A window of a value."""
        plan, (_, thread, texels) = self.plan, place
        inputs = self.evaluator.inputs(plan, place)
        row = plan.rows[inputs.row]
        box = _inside(box, whole(texels), row.after.wraps)
        kept = self.evaluator.cache.get(self.evaluator.key_at(plan, place))
        if kept is not None:
            return Window(_cut(kept, box), box, "")
        if row.ends_group:
            inside = self.at(inputs.reads[thread], box, task)
            return replace(inside, image=self._mixed(row, place, inside.image, inputs.mixing, box, task))
        halo = _halo(row, inputs, texels)
        if halo is None or not isinstance(row.step, MapStep):
            full = self.evaluator.value_at(plan, place, task)
            return Window(_cut(full, box), box, row.step.title)
        wide = _inside(_grown(box, halo), whole(texels), row.after.wraps)
        read = {t: self.at(p, wide, task) for t, p in inputs.reads.items()}
        pitch = row.after.size_mm[0] / texels[0], row.after.size_mm[1] / texels[1]
        part = (wide[2] - wide[0]), (wide[3] - wide[1])
        size_mm = part[0] * pitch[0], part[1] * pitch[1]
        around = Geometry(size_mm, False)
        task.checkpoint()
        written = row.step.run(
            row.settings,
            {t: w.image for t, w in read.items()},
            self.evaluator.decision_at(plan, inputs.row, task),
            Sheet(around, around, (float(part[0]), float(part[1])), self.evaluator.sources, (), row.present),
            task,
        )
        whole_above = next((w.whole_above for w in read.values() if w.whole_above), "")
        image = replace(written[thread], size_mm=size_mm, wraps=False)
        image = _cut(image, (box[0] - wide[0], box[1] - wide[1], box[2] - wide[0], box[3] - wide[1]))
        return Window(self._mixed(row, place, image, inputs.mixing, box, task), box, whole_above)

    def _mixed(self, row: Row, place: Place, image: Image, mixing: Mixing | None, box: Box, task: Task) -> Image:
        if mixing is None:
            return image
        entry = row.entry
        weight: Floats | None = None
        if mixing.mask is not None and entry.mask is not None:
            weight = masks.weight(entry.mask, self.at(mixing.mask, box, task).image, task)
        if mixing.before is not None:
            before = self.at(mixing.before, box, task).image
        else:
            before = threads.neutral(self.plan.spec(place[1], mixing.start), image.width, image.height, image.size_mm, False)
        return mix(before, image, entry.mix, entry.amount, weight)


def _halo(row: Row, inputs: Inputs, texels: Texels) -> int | None:
    """How far around a window a step has to look; None where it has to see the whole sheet."""
    if row.step.geometric or row.laid is not None or inputs.coarser or inputs.texels != texels:
        return None
    return row.step.halo(row.settings, row.after, texels)


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
