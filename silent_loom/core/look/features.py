"""What the eye and the light see of each thread, as planes that can be compared by plain differences."""

from __future__ import annotations

import numpy as np

from silent_loom.core.base.colour import lab
from silent_loom.core.base.images import Floats, Image, Kind


def features(image: Image, pixels: Floats | None = None) -> Floats:
    """Planes in which equal differences look about equally strong, shape (H, W, K).

    Colour becomes CIE L*a*b* in units of 100 L*; normals their slopes x and y; data is scaled by its own spread.

    Parameters
    ----------
    image : Image
    pixels : array, shape (H, W, C), optional
        Some of its pixels, of which alone the planes are wanted, at the scale of all.

    >>> features(Image(np.zeros((8, 8, 3), np.float32), Kind.COLOUR)).shape
    (8, 8, 3)
    """
    pixels = image.pixels if pixels is None else pixels
    if image.kind is Kind.COLOUR:
        planes = lab(pixels)
        planes *= np.float32(0.01)
        return planes
    if image.kind is Kind.NORMAL:
        return np.ascontiguousarray(pixels[..., :2])
    spread = float(np.std(image.pixels[::4, ::4])) or 1.0
    return pixels / np.float32(3 * spread)
