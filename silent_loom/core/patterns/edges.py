"""How far the edges of a mask are, on a sheet that repeats."""

from __future__ import annotations

import math

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.parallel import both
from silent_loom.core.patterns.ground import Ground


def away(mask: NDArray[np.bool_], ground: Ground, reach_mm: float) -> Floats:
    """Distance in mm from what is outside, 0 there; no more than a reach, unlike `distance.inside`.

    >>> away(np.array([[False, True, True, True]]), Ground.of(4, 1, (4, 1)), 3).tolist()
    [[0.0, 1.0, 2.0, 1.0]]
    """
    h, w = mask.shape
    texel = math.sqrt(ground.pitch[0] * ground.pitch[1])
    y, x = min(h, math.ceil(reach_mm / ground.pitch[1]) + 1), min(w, math.ceil(reach_mm / ground.pitch[0]) + 1)
    around = np.pad(mask.astype(np.uint8), ((y, y), (x, x)), mode="wrap")
    if around.all():
        return np.full(mask.shape, np.float32(reach_mm), np.float32)
    far = cv2.distanceTransform(around, cv2.DIST_L2, cv2.DIST_MASK_PRECISE)[y : y + h, x : x + w]
    return np.minimum(far * np.float32(texel), np.float32(reach_mm))


def signed(coverage: Floats, ground: Ground, reach_mm: float) -> Floats:
    """Distance in mm to the edge of what is covered, above zero inside; texels at the edge by the part that is covered.

    >>> from silent_loom.core.patterns.ground import Ground
    >>> covered = np.zeros((8, 8), np.float32)
    >>> covered[2:6, 2:6] = 1
    >>> signed(covered, Ground.of(8, 8, (8.0, 8.0)), 10.0)[4].tolist()
    [-1.5, -0.5, 0.5, 1.5, 1.5, 0.5, -0.5, -1.5]
    """
    inside = coverage > np.float32(0.5)
    half = np.float32(0.5 * ground.texel)
    within, beyond = both(lambda: away(inside, ground, reach_mm), lambda: away(~inside, ground, reach_mm))
    far = np.where(inside, within - half, half - beyond)
    partly = (coverage > 0) & (coverage < 1)
    return np.where(partly, (coverage - np.float32(0.5)) * np.float32(ground.texel), far).astype(np.float32)
