"""Pictures made smaller on their codes, band by band: for looking at them, never for what is made of them."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.files.picture import Picture

ENOUGH = 16_000_000
"""Pixels that are enough for looking at a picture as a whole."""
_BAND = 1 << 22


def smaller(picture: Picture, pixels: int = ENOUGH) -> Picture:
    """A picture of at most so many pixels, each the mean of a whole block of codes; the same one where it is no larger.

    >>> from silent_loom.core.files.profile import SRGB
    >>> large = Picture(np.full((64, 128, 3), 90, np.uint8), None, SRGB, 8, "png")
    >>> smaller(large, 2048).samples.shape, smaller(large) is large
    ((32, 64, 3), True)
    """
    if picture.width * picture.height <= pixels:
        return picture
    factor = math.ceil(math.sqrt(picture.width * picture.height / pixels))
    alpha = None if picture.alpha is None else _reduced(picture.alpha[..., None], factor)[..., 0]
    return replace(picture, samples=_reduced(picture.samples, factor), alpha=alpha)


def _reduced(samples: NDArray[Any], factor: int) -> NDArray[Any]:
    """Means of blocks; what is left over at the right and below is left out."""
    h, w = max(1, samples.shape[0] // factor), max(1, samples.shape[1] // factor)
    out = np.empty((h, w, samples.shape[2]), samples.dtype)
    rows = max(1, _BAND // max(1, samples.shape[1] * factor))
    for y in range(0, h, rows):
        last = min(h, y + rows)
        part = np.ascontiguousarray(samples[y * factor : last * factor, : w * factor])
        out[y:last] = cv2.resize(part, (w, last - y), interpolation=cv2.INTER_AREA).reshape(last - y, w, -1)
    return out


def middle(picture: Picture, side: int) -> Picture:
    """The middle of a picture at its true pixels, at most so many each way.

    >>> from silent_loom.core.files.profile import SRGB
    >>> middle(Picture(np.zeros((64, 128, 3), np.uint8), None, SRGB, 8, "png"), 32).samples.shape
    (32, 32, 3)
    """
    top, left = (max(0, (n - side) // 2) for n in (picture.height, picture.width))
    rows, columns = slice(top, top + side), slice(left, left + side)
    alpha = None if picture.alpha is None else picture.alpha[rows, columns]
    return replace(picture, samples=np.ascontiguousarray(picture.samples[rows, columns]), alpha=alpha)
