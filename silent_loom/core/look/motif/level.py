"""Light that differs between the edges of a sheet of whole repeats, spread over all of it."""

from __future__ import annotations

from functools import partial

import numpy as np

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import Task, over_rows
from silent_loom.core.moving.resample import blur

DARKEST = np.float32(1e-4)
"""Light, as a part of white, below which ratios are not told."""
BROAD = 0.2
"""Smoothing along an edge, as a part of it: light is broad, and elements that lie a little elsewhere are not light."""


@kernel("f4[:,:,::1], f4[:,::1], i8, b1, f4[:,:,::1], i8, i8")
def _ramp(src, gap, keep, turned, out, y0, y1):  # type: ignore[no-untyped-def]
    # gap[i] for every line along the edge; nothing in the middle of what is kept, half of it either way at its edges
    for y in range(y0, y1):
        for x in range(src.shape[1]):
            i, place = (x, y) if turned else (y, x)
            t = np.float32((place + 0.5) / keep - 0.5)
            for k in range(src.shape[2]):
                out[y, x, k] = src[y, x, k] * np.exp(t * gap[i, k])


def levelled(light: Floats, axis: int, keep: int, closed: bool, task: Task) -> Floats:
    """A sheet whose overlap is lit alike at both ends.

    Parameters
    ----------
    light : array, shape (H, W, C)
        Linear light of a sheet that shows the same elements ``keep`` texels apart: whole repeats of a motif.
    axis : int
        1 when it will be closed from left to right, 0 from top to bottom.
    keep : int
        Width (height) of the closed sheet.
    closed : bool
        The other direction is closed already.

    Notes
    -----
    Both ends of the overlap show the same elements, so what their means along the edge differ by is light. It is
    smoothed along the edge and taken out as a ramp of ratios over the whole sheet, the least change that makes the ends
    agree: a blend alone would have to do so within the overlap, which is narrow, and be seen as a step in every repeat.
    Height and normals have no light, and a ramp would part the slopes of one from the other: they stay as they are.

    >>> from silent_loom.core.base.parallel import IDLE
    >>> even = np.full((64, 96, 3), 0.25, np.float32)
    >>> float(np.abs(levelled(even, 1, 64, False, IDLE) - even).max()) < 1e-6
    True
    """
    n = light.shape[axis] - keep
    near, far = (light[:n], light[keep:]) if axis == 0 else (light[:, :n], light[:, keep:])

    def along(strip: Floats) -> Floats:
        line = np.mean(strip, (0,) if axis == 0 else (1,), dtype=np.float64).astype(np.float32).reshape(-1, 1, strip.shape[-1])
        sigma = max(1.0, BROAD * len(line))
        smooth: Floats = blur(line, (0.0, sigma), closed).reshape(-1, strip.shape[-1])
        return np.log(np.maximum(smooth, DARKEST))

    gap = np.ascontiguousarray(along(near) - along(far), np.float32)
    out = np.empty(light.shape, np.float32)
    over_rows(len(out), partial(_ramp, light, gap, keep, axis == 0, out), task, cost=light.shape[1] * 3e-3)
    return out
