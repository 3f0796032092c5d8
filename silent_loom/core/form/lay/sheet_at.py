"""Samples of a repeating sheet at any place of it, each kind as it is."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats, Image, Kind


def sheet_at(image: Image, x_mm: NDArray[np.float64], y_mm: NDArray[np.float64]) -> Floats:
    """A sheet at places in millimetres, x to the right, y up, repeated without end, shape (N, C).

    Bilinear; numbers of ID maps are those of the nearest texel. Normals come as they are, not at length 1.

    >>> row = Image(np.array([[[0.0], [1.0]]], np.float32), Kind.DATA, (2.0, 1.0), True)
    >>> sheet_at(row, np.array([0.5, 1.0, 2.5]), np.array([0.5, 0.5, 0.5])).ravel().tolist()
    [0.0, 0.5, 0.0]
    """
    h, w = image.height, image.width
    x = np.mod(x_mm / image.size_mm[0], 1.0) * w - 0.5
    y = np.mod(-y_mm / image.size_mm[1], 1.0) * h - 0.5
    if image.kind is Kind.ID:
        return image.pixels[np.round(y).astype(np.int64) % h, np.round(x).astype(np.int64) % w]
    x0, y0 = np.floor(x).astype(np.int64), np.floor(y).astype(np.int64)
    fx, fy = (x - x0)[:, None].astype(np.float32), (y - y0)[:, None].astype(np.float32)
    x1, y1, x0, y0 = (x0 + 1) % w, (y0 + 1) % h, x0 % w, y0 % h
    p = image.pixels
    top = p[y0, x0] + (p[y0, x1] - p[y0, x0]) * fx
    bottom = p[y1, x0] + (p[y1, x1] - p[y1, x0]) * fx
    out: Floats = top + (bottom - top) * fy
    return out
