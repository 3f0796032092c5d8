"""Colour that is no form: a picture without what lies on its surface as paint, lichen or rust, filled from around."""

from __future__ import annotations

import numpy as np

from silent_loom.core.base.images import Image, Kind
from silent_loom.core.maps.bleed import filled

LEAST = 0.02
"""A mask below this leaves a texel as it is."""

FULL = 3.0
"""From a third of it on a mask takes a texel wholly: a border texel holds the marked colour, too."""


def without(image: Image, mask: Image) -> Image:
    """A picture in which marked places have the tone of what lies around them.

    Parameters
    ----------
    image : Image
        Colour or plain numbers.
    mask : Image
        1 where the picture shows colour and no form, 0 elsewhere; its border is mixed.

    Notes
    -----
    Holes are filled by means of what is left, the nearer the finer (Gortler, Grzeszczuk, Szeliski & Cohen, The Lumigraph, 1996).
    Whatever is read of the result, a relief or a finish, does not follow the marked colour.

    >>> grey = Image(np.full((8, 8, 1), 0.25, np.float32), Kind.DATA)
    >>> stained = grey.with_pixels(np.where(np.eye(8)[..., None] > 0, 1, grey.pixels).astype(np.float32))
    >>> round(float(without(stained, grey.with_pixels(np.eye(8, dtype=np.float32)[..., None])).pixels.max()), 3)
    0.25
    """
    part = np.clip(mask.pixels[..., :1], 0, 1)
    if float(part.max()) < LEAST or image.kind not in (Kind.COLOUR, Kind.DATA):
        return image
    there = part[..., 0] < LEAST
    if not there.any():
        return image
    around = filled(image.pixels, there, image.wraps)
    part = np.minimum(1, part * np.float32(FULL))
    return image.with_pixels(np.ascontiguousarray(image.pixels + part * (around - image.pixels), np.float32))
