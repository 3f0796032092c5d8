"""What a sheet made seamless is held against: its joins, and what was joined there."""

from __future__ import annotations

from dataclasses import replace

from silent_loom.core.base.images import Image
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.look.meters.contrast_meter import Kept, contrast_kept
from silent_loom.core.steps.tiling.seamless import SEAMLESS, SeamlessSettings, joins
from silent_loom.core.weave.decision import Decision


def contrast_after(s: SeamlessSettings, decision: Decision, coming: Image, made: Image, task: Task = IDLE) -> tuple[Kept, Kept]:
    """`contrast_meter.contrast_kept` of a sheet that the seamless step made.

    Parameters
    ----------
    s, decision
        Of the step.
    coming : Image
        What came into it, at the pitch of the result.
    made : Image
        What it made of that, or what was made of it by steps that leave its sheet as it is.

    >>> import numpy as np
    >>> from silent_loom.core.base.images import Kind
    >>> from silent_loom.core.report.suggest import tried
    >>> from silent_loom.core.weave.step import Geometry
    >>> noise = Image(np.random.default_rng(1).random((96, 96, 3), np.float32), Kind.COLOUR)
    >>> s = SeamlessSettings(method="cut", overlap_x=0.25, overlap_y=0.25)
    >>> decided = SEAMLESS.decide(s, {"base": noise}, Geometry(noise.size_mm), IDLE)
    >>> made, _ = tried(noise, s, size=72)
    >>> [k.figure > 0.5 for k in contrast_after(s, decided, noise, made)]
    [True, True]
    """
    w, h = made.width, made.height
    pictures = SEAMLESS.joined_pictures(s, coming, decision, w, h, task)
    reach = (0, 0)
    if pictures is not None and s.method == "fade":
        reach = (round(s.fade_width * (pictures[0].width - w) / 2), round(s.fade_width * (pictures[0].height - h) / 2))
    known = joins(s, decision, w, h)
    return contrast_kept(replace(made, wraps=True), known, pictures=pictures, reach=reach, task=task)
