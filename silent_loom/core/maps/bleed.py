"""Colour carried outwards from what is seen, so that no rim of the background shows at any size."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.maps.distance import inside
from silent_loom.core.moving.resample import enlarge, reduce_area

MARGIN = 2.0
"""Texels inside an edge within which a picture may have mixed in what lay behind."""


def _clean(there: NDArray[np.bool_], wraps: bool) -> NDArray[np.bool_]:
    """Texels whose colour is their own: well inside the edge, or in something too thin to have an inside."""
    sure = inside(there, wraps) > MARGIN
    return sure | (there & (inside(~sure, wraps) > 4 * MARGIN)) if sure.any() else there


FEW = 2.0
"""A block of which half is there has a mean of its own; of less, the mean around it counts as well."""


def filled(colour: Floats, there: NDArray[np.bool_], wraps: bool) -> Floats:
    """Means of what is there, at every place from as near as there is any.

    >>> filled(np.float32([[[1.0], [0.0]]]), np.array([[True, False]]), False).ravel().tolist()
    [1.0, 1.0]
    """
    h, w = there.shape
    weight = there[..., None].astype(np.float32)
    levels = [(np.ascontiguousarray(colour * weight), weight)]
    while max(levels[-1][1].shape[:2]) > 1:
        c, m = levels[-1]
        rows, columns = -(-c.shape[0] // 2), -(-c.shape[1] // 2)
        levels.append((reduce_area(c, columns, rows), reduce_area(m, columns, rows)))
    c, m = levels.pop()
    out = c / np.maximum(m, 1e-12)
    while levels:
        c, m = levels.pop()
        coarse = enlarge(np.ascontiguousarray(out), m.shape[1], m.shape[0], wraps, held=True)
        own = c / np.maximum(m, 1e-12)
        out = coarse + np.minimum(1, FEW * m) * (own - coarse)
    return np.ascontiguousarray(out, np.float32)


def bled(colour: Floats, opacity: Floats, wraps: bool, whole: float = 0.98) -> Floats:
    """Every texel that is not wholly there takes the colour of what is near: a mean over more texels the farther that is.

    Parameters
    ----------
    colour : float32 array, shape (H, W, C)
        Linear values.
    opacity : float32 array, shape (H, W)
        0…1.
    wraps : bool
        What is near may lie beyond the opposite edge.
    whole : float
        Opacity from which on a texel's own colour holds.

    Notes
    -----
    Means of blocks, each weighed by what is there in it, from fine to coarse; holes are filled from coarse to fine (the pull and
    push of Gortler, Grzeszczuk, Szeliski & Cohen, The Lumigraph, 1996). So the fill reaches as far as smaller sizes look: the
    mean that a smaller size takes over the border is about that of the surface's own light, however large its texels are. The
    colour of the nearest texel alone would carry the rim's own shade, which is mostly darker, everywhere outwards. Where nothing
    is there at all colour stays.

    >>> bled(np.array([[[1, 0, 0], [0, 0, 0]]], np.float32), np.array([[1, 0]], np.float32), False).tolist()
    [[[1.0, 0.0, 0.0], [1.0, 0.0, 0.0]]]
    """
    there = opacity >= whole
    if not there.any():
        there = opacity >= max(float(opacity.max()) * 0.5, 1e-6)
    if there.all() or not there.any():
        return colour
    there = _clean(there, wraps)
    around = filled(colour, there, wraps)
    out: Floats = np.where(there[..., None], colour, around)
    return out
