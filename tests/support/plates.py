"""Plates parted by dark cracks, with the truth of where the cracks are."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from silent_loom.core.base.images import Floats
from silent_loom.core.moving.resample import blur


def plates(height: int, width: int, size: float, seed: int, *, tones: float = 0.08) -> tuple[Floats, NDArray[np.bool_]]:
    """Tone of a sheet, 0…1, and its cracks; plates are about ``size`` texels wide and differ by ``tones``."""
    rng = np.random.default_rng(seed)
    y, x = np.mgrid[-2 * size : height + 2 * size : size, -2 * size : width + 2 * size : size]
    middles = np.stack([y, x], -1).reshape(-1, 2) + rng.uniform(-0.45, 0.45, (y.size, 2)) * size
    at = np.stack(np.mgrid[0:height, 0:width], -1).reshape(-1, 2).astype(np.float64)
    away, which = cKDTree(middles).query(at, k=2)
    between = np.linalg.norm(middles[which[:, 0]] - middles[which[:, 1]], axis=1)
    edge = ((away[:, 1] ** 2 - away[:, 0] ** 2) / (2 * between)).reshape(height, width)
    tone = (0.6 + tones * rng.standard_normal(len(middles)))[which[:, 0]].reshape(height, width)
    crack = edge < 3.5
    grain = 0.01 * rng.standard_normal((height, width))
    drawn = np.where(crack, 0.15, tone) + grain
    return np.clip(blur(drawn.astype(np.float32), 0.8, False), 0, 1), crack
