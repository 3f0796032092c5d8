"""How a step that moves pixels carries a thread of any kind: what it does not know itself is brought into a form that it does."""

from __future__ import annotations

import numpy as np

from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.parallel import Task
from silent_loom.core.moving.slopes import normals_of, slopes_of
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings
from silent_loom.core.weave.step import CarryStep, Sheet


def carried(
    step: CarryStep[Settings], s: Settings, thread: str, image: Image, decision: Decision, sheet: Sheet, task: Task
) -> Image:
    """A thread moved by a step.

    Directions turn and flip exactly as the slopes of normals do, so they go as such; packed channels go one by one, since
    they have nothing to do with each other.
    """
    if image.kind is Kind.VECTOR:
        made = step.carry_thread(s, thread, _as(image, normals_of(image.pixels, task), Kind.NORMAL), decision, sheet, task)
        return Image(slopes_of(made.pixels, task), Kind.VECTOR, made.size_mm, made.wraps)
    if image.kind is Kind.CHANNELS:
        planes = [
            step.carry_thread(s, thread, _as(image, image.pixels[..., k : k + 1], Kind.DATA), decision, sheet, task)
            for k in range(image.pixels.shape[2])
        ]
        stacked = np.concatenate([p.pixels for p in planes], 2)
        return Image(np.ascontiguousarray(stacked), Kind.CHANNELS, planes[0].size_mm, planes[0].wraps)
    return step.carry_thread(s, thread, image, decision, sheet, task)


def _as(image: Image, pixels: np.ndarray[tuple[int, ...], np.dtype[np.float32]], kind: Kind) -> Image:
    return Image(np.ascontiguousarray(pixels), kind, image.size_mm, image.wraps)
