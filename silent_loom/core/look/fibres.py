"""Surfaces all of whose detail runs one way: boards without an end, brushed metal, rain on a pane."""

from __future__ import annotations

import numpy as np

from silent_loom.core.base.images import Floats
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.moving.resample import blur

RATIO = (0.03, 0.1)
"""Mean square of the slopes along fibres beside that of those across them: where there is nothing else, and where fibres are
too short, or cross, or end at joints too often."""
NOISE = 1.0
"""Texels, a standard deviation: what is finer is noise, which runs nowhere."""


def running(planes: Floats, axis: int, task: Task = IDLE) -> float:
    """Whether everything that a sheet shows runs along an axis, 0…1.

    Parameters
    ----------
    planes : array, shape (H, W, K)
        Features.
    axis : int
        1 across, 0 down.

    Notes
    -----
    By the mean square of slopes along the axis and across it, the diagonal of the structure tensor (Förstner & Gülch, A fast
    operator for detection and precise location of distinct points, corners and centres of circular features, 1987).

    >>> lines = np.ascontiguousarray(np.broadcast_to(np.random.default_rng(1).random((1, 64, 1), np.float32), (64, 64, 1)))
    >>> running(lines, 0) > running(lines, 1)
    True
    """
    seen = blur(np.ascontiguousarray(planes), NOISE, False, task)
    down, across = (float(np.square(np.diff(seen, axis=k)).mean()) for k in (0, 1))
    along, beside = (across, down) if axis == 1 else (down, across)
    t = (np.log(max(along, 1e-12) / max(beside, 1e-12)) - np.log(RATIO[1])) / (np.log(RATIO[0]) - np.log(RATIO[1]))
    t = float(np.clip(t, 0, 1))
    return t * t * (3 - 2 * t)
