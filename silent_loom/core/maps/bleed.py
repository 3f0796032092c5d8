"""Colour carried outwards from what is seen, so that no rim of the background shows at any size."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.later import later
from silent_loom.core.maps.distance import inside

ndimage = later("scipy.ndimage")


MARGIN = 2.0
"""Texels inside an edge within which a picture may have mixed in what lay behind."""


def _clean(there: NDArray[np.bool_], wraps: bool) -> NDArray[np.bool_]:
    """Texels whose colour is their own: well inside the edge, or in something too thin to have an inside."""
    sure = inside(there, wraps) > MARGIN
    return sure | (there & (inside(~sure, wraps) > 4 * MARGIN)) if sure.any() else there


def bled(colour: Floats, opacity: Floats, wraps: bool, whole: float = 0.98) -> Floats:
    """Every texel that is not wholly there takes the colour of the nearest one that is.

    Parameters
    ----------
    colour : float32 array, shape (H, W, C)
        Linear values.
    opacity : float32 array, shape (H, W)
        0…1.
    wraps : bool
        The nearest may lie beyond the opposite edge.
    whole : float
        Opacity from which on a texel's own colour holds.

    Notes
    -----
    A distance fill (Danielsson, Euclidean distance mapping, 1980). Whatever average a smaller size takes over the border then
    is of the surface's own colours; where nothing is there at all colour stays.

    >>> bled(np.array([[[1, 0, 0], [0, 0, 0]]], np.float32), np.array([[1, 0]], np.float32), False).tolist()
    [[[1.0, 0.0, 0.0], [1.0, 0.0, 0.0]]]
    """
    there = opacity >= whole
    if not there.any():
        there = opacity >= max(float(opacity.max()) * 0.5, 1e-6)
    if there.all() or not there.any():
        return colour
    there = _clean(there, wraps)
    h, w = there.shape
    pad = (h // 2, w // 2) if wraps else (0, 0)
    around = np.pad(there, ((pad[0], pad[0]), (pad[1], pad[1])), mode="wrap") if wraps else there
    rows, columns = ndimage.distance_transform_edt(~around, return_distances=False, return_indices=True)
    inside = (slice(pad[0], pad[0] + h), slice(pad[1], pad[1] + w))
    out: Floats = np.ascontiguousarray(colour[(rows[inside] - pad[0]) % h, (columns[inside] - pad[1]) % w])
    return out
