"""Stretch as a picture that a model can wear."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.form.uv.raster import rasterised
from silent_loom.core.form.uv.stretch import stretch

EVEN, WIDE, TIGHT = (0.86, 0.84, 0.79), (0.72, 0.18, 0.12), (0.13, 0.33, 0.58)
"""Colours of surface that has its share of texels, too few of them (stretched), and too many; display values."""
OCTAVES = 1.5
"""Stretch, in powers of two, at which the last colour is reached."""
BESIDE = (0.45, 0.45, 0.45)


def stretch_picture(corners_mm: NDArray[np.float64], uv: NDArray[np.float64], size: int, task: Task = IDLE) -> NDArray[np.uint8]:
    """How much each triangle is stretched, in colours of the layout, shape (N, N, 3), 8 bits a channel in sRGB.

    Parameters
    ----------
    corners_mm : float array, shape (T, 3, 3)
    uv : float array, shape (T, 3, 2)
    size : int
        Texels along a side.

    Notes
    -----
    Red has fewer texels than its share, blue more; the measure is the root mean square stretch of a triangle against that of an
    even layout (Sander et al. 2001), in powers of two.

    >>> square = np.array([[[0, 0], [1, 0], [0, 1.0]], [[1, 0], [1, 1], [0, 1.0]]])
    >>> flat = np.concatenate([square * 100, np.zeros((2, 3, 1))], 2)
    >>> stretch_picture(flat, square, 4)[0, 0].tolist()
    [219, 214, 201]
    """
    found = stretch(corners_mm, uv).relative()
    with np.errstate(divide="ignore", invalid="ignore"):
        t = np.clip(np.log2(found) / OCTAVES, -1, 1)
    t = np.where(np.isfinite(t), t, 1.0)[:, None]
    end = np.where(t > 0, WIDE, TIGHT)
    colours = np.array(EVEN) + (end - np.array(EVEN)) * np.abs(t)
    codes = np.round(255 * np.concatenate([colours, [BESIDE]])).astype(np.uint8)
    picture: NDArray[np.uint8] = codes[rasterised(uv, size, size, task).triangle]  # -1 is the last one
    return picture
