"""A surface that meets itself because its other half is its mirror image."""

from __future__ import annotations

import numpy as np

from silent_loom.core.base.images import Floats, Image, Kind


def mirrored(image: Image, width: int, height: int) -> Floats:
    """The picture and its mirrored copies, as far as (width, height); normals turn with the surface.

    >>> mirrored(Image(np.arange(3, dtype=np.float32).reshape(1, 3, 1), Kind.DATA), 5, 1).ravel().tolist()
    [0.0, 1.0, 2.0, 2.0, 1.0]
    """
    x, y = np.arange(width), np.arange(height)
    turned_x, turned_y = x >= image.width, y >= image.height
    x = np.clip(np.where(turned_x, 2 * image.width - 1 - x, x), 0, image.width - 1)
    y = np.clip(np.where(turned_y, 2 * image.height - 1 - y, y), 0, image.height - 1)
    pixels = image.pixels[y[:, None], x[None, :]]
    if image.kind is Kind.NORMAL:
        pixels[:, turned_x, 0] *= -1
        pixels[turned_y, :, 1] *= -1
    return np.ascontiguousarray(pixels)
