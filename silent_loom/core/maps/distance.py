"""Distances on a sheet that goes on at its other side."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.later import later

ndimage = later("scipy.ndimage")


def inside(mask: NDArray[np.bool_], wraps: bool, texel: tuple[float, float] = (1.0, 1.0)) -> Floats:
    """How far each place of a mask lies from what is outside it, in the unit of ``texel``; 0 outside, shape (H, W).

    >>> inside(np.array([[False, True, True, True, True]]), True).tolist()
    [[0.0, 1.0, 2.0, 2.0, 1.0]]
    """
    h, w = mask.shape
    if mask.all():
        return np.full(mask.shape, np.float32(max(h * texel[1], w * texel[0])), np.float32)
    y, x = (h // 2, w // 2) if wraps else (0, 0)
    around = np.pad(mask, ((y, y), (x, x)), mode="wrap") if wraps else mask
    far = ndimage.distance_transform_edt(around, sampling=(texel[1], texel[0]))
    return np.ascontiguousarray(far[y : y + h, x : x + w], np.float32)


def signed(mask: NDArray[np.bool_], wraps: bool, texel: tuple[float, float] = (1.0, 1.0)) -> Floats:
    """Distance to the border of a mask: above zero inside, below zero outside.

    >>> signed(np.array([[False, True, True, True, False]]), False).round(1).tolist()
    [[-1.0, 1.0, 2.0, 1.0, -1.0]]
    """
    out: Floats = inside(mask, wraps, texel) - inside(~mask, wraps, texel)
    return out
