"""A test chart for steps that move parts of a surface."""

from __future__ import annotations

import numpy as np

from silent_loom.core.base.images import Image, Kind


def chart(width: int, height: int, size_mm: tuple[float, float]) -> Image:
    """A test chart that wraps: numbered squares in eight tones with an arrow up, so that turns and jumps are seen.

    >>> chart(64, 32, (200.0, 100.0)).pixels.shape
    (32, 64, 3)
    """
    y, x = np.mgrid[0:height, 0:width]
    u, v = x / width * 8 % 1, y / height * 8 % 1
    i, j = (x * 8 // width).astype(int), (y * 8 // height).astype(int)
    hue = (i + 3 * j) % 8 / 8.0
    colour = 0.35 + 0.25 * np.cos(2 * np.pi * (hue[..., None] + np.array([0, 0.33, 0.67])))
    arrow = ((np.abs(u - 0.5) < 0.06) & (v > 0.2) & (v < 0.8)) | ((np.abs(u - 0.5) < (v - 0.15) * 0.8) & (v > 0.15) & (v < 0.42))
    line = (u < 0.04) | (v < 0.04)
    colour = np.where(arrow[..., None], 0.9, colour)
    colour = np.where(line[..., None], 0.05, colour)
    return Image(np.ascontiguousarray(colour, np.float32), Kind.COLOUR, size_mm, True)
