"""Padding: what lies around islands takes the colour of the nearest texel of one, so that no mip mixes in what is empty."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats


def nearest_covered(covered: NDArray[np.bool_], reach: float = 0.0) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Empty texels and the covered ones that are nearest to them.

    Parameters
    ----------
    covered : bool array, shape (H, W)
    reach : float
        Texels around islands that are filled; all there are if 0.

    Returns
    -------
    two int arrays, shape (N,)
        Places in the flat array: what is filled, and from where.

    Notes
    -----
    A distance transform that keeps the nearest (Felzenszwalb & Huttenlocher 2012). The sheet does not wrap: neither do UVs.

    >>> empty, source = nearest_covered(np.array([[True, False, False]]))
    >>> empty.tolist(), source.tolist()
    ([1, 2], [0, 0])
    """
    if covered.all() or not covered.any():
        return np.zeros(0, np.int64), np.zeros(0, np.int64)
    away, label = cv2.distanceTransformWithLabels(
        (~covered).astype(np.uint8), cv2.DIST_L2, cv2.DIST_MASK_5, labelType=cv2.DIST_LABEL_PIXEL
    )
    of_label = np.zeros(int(label.max()) + 1, np.int64)
    of_label[label[covered]] = np.flatnonzero(covered)
    wanted = ~covered if reach <= 0 else ~covered & (away <= reach)
    empty = np.flatnonzero(wanted)
    return empty, of_label[label.ravel()[empty]]


def padded(samples: Floats, covered: NDArray[np.bool_], reach: float = 0.0) -> Floats:
    """Samples with what is empty around islands filled, shape (H, W, C).

    >>> padded(np.array([[[5.0], [0.0], [0.0]]], np.float32), np.array([[True, False, False]]), 1.0).ravel().tolist()
    [5.0, 5.0, 0.0]
    """
    empty, source = nearest_covered(covered, reach)
    out = samples.copy()
    flat = out.reshape(-1, samples.shape[2])
    flat[empty] = flat[source]
    return out
