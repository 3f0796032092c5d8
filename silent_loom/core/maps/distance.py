"""Distances on a sheet that goes on at its other side."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.lazy_modules import later

ndimage = later("scipy.ndimage")
NEAR = 64
"""Texels beyond the edges that are looked at first: most of what is asked for lies nearer."""


def inside(mask: NDArray[np.bool_], wraps: bool, texel: tuple[float, float] = (1.0, 1.0)) -> Floats:
    """How far each place of a mask lies from what is outside it, in the unit of ``texel``; 0 outside, shape (H, W).

    >>> inside(np.array([[False, True, True, True, True]]), True).tolist()
    [[0.0, 1.0, 2.0, 2.0, 1.0]]
    """
    h, w = mask.shape
    if mask.all():
        return np.full(mask.shape, np.float32(max(h * texel[1], w * texel[0])), np.float32)
    if not wraps:
        return _distance(mask, texel)
    for pad in (NEAR, max(h, w)):  # what lies further away than the pad could not be nearer than what lies in it
        y, x = min(pad, h // 2), min(pad, w // 2)
        far = _distance(np.pad(mask, ((y, y), (x, x)), mode="wrap"), texel)[y : y + h, x : x + w]
        if float(far.max()) <= pad * min(texel):
            break
    return np.ascontiguousarray(far)


def _distance(mask: NDArray[np.bool_], texel: tuple[float, float]) -> Floats:
    """On square texels by two passes of lower envelopes (Felzenszwalb & Huttenlocher 2012), exact as the other is."""
    if mask.any() and abs(texel[0] - texel[1]) <= 1e-6 * texel[0]:
        found = cv2.distanceTransform(mask.astype(np.uint8), cv2.DIST_L2, cv2.DIST_MASK_PRECISE)
        return np.asarray(found * np.float32(texel[0]), np.float32)
    return np.asarray(ndimage.distance_transform_edt(mask, sampling=(texel[1], texel[0])), np.float32)


def signed(mask: NDArray[np.bool_], wraps: bool, texel: tuple[float, float] = (1.0, 1.0)) -> Floats:
    """Distance to the border of a mask: above zero inside, below zero outside.

    >>> signed(np.array([[False, True, True, True, False]]), False).round(1).tolist()
    [[-1.0, 1.0, 2.0, 1.0, -1.0]]
    """
    out: Floats = inside(mask, wraps, texel) - inside(~mask, wraps, texel)
    return out
