"""How far islands are apart, in texels."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

NEIGHBOURS = (
    (np.s_[:, :-1], np.s_[:, 1:]),
    (np.s_[:-1], np.s_[1:]),
    (np.s_[:-1, :-1], np.s_[1:, 1:]),
    (np.s_[1:, :-1], np.s_[:-1, 1:]),
)
"""Texels beside each other, also over their corners."""


@dataclass(frozen=True)
class Gaps:
    """What lies between islands.

    Attributes
    ----------
    least : float array, shape (islands,)
        Empty texels to the nearest other island, 0 where they touch; infinite where there is no other.
    empty : float
        Share of the square that no island covers, 0…1.
    """

    least: NDArray[np.float64]
    empty: float

    @property
    def narrowest(self) -> float:
        return float(self.least.min(initial=np.inf))

    def mips(self, size: int) -> int:
        """Side of the smallest mip at which the nearest islands still have a texel between them.

        >>> Gaps(np.array([5.0, 9.0]), 0.4).mips(1024)
        256
        """
        if not np.isfinite(self.narrowest):
            return 1
        return size if self.narrowest < 1 else max(1, size >> int(np.log2(self.narrowest)))


def gaps(island: NDArray[np.int32], count: int) -> Gaps:
    """Gaps of a layout drawn in texels.

    Parameters
    ----------
    island : int32 array, shape (H, W)
        Which island each texel shows, −1 where none.
    count : int

    Notes
    -----
    Each empty texel goes to the island that is nearest (a Voronoi diagram by distance transform; Felzenszwalb & Huttenlocher
    2012): where two of their areas meet, the distances of both sides are the gap between them.

    >>> row = np.full((3, 8), -1, np.int32)
    >>> row[:, :2], row[:, 5:] = 0, 1
    >>> gaps(row, 2).least.tolist()
    [3.0, 3.0]
    """
    least = np.full(count, np.inf)
    covered = island >= 0
    if covered.any():
        away, nearest = cv2.distanceTransformWithLabels(
            (~covered).astype(np.uint8), cv2.DIST_L2, cv2.DIST_MASK_5, labelType=cv2.DIST_LABEL_PIXEL
        )
        of_label = np.zeros(int(nearest.max()) + 1, np.int32)
        of_label[nearest[covered]] = island[covered]
        near = of_label[nearest]
        for a, b in NEIGHBOURS:
            y, x = np.nonzero(near[a] != near[b])
            gap = np.floor(away[a][y, x] + away[b][y, x] + 0.5).astype(np.float64)
            np.minimum.at(least, near[a][y, x], gap)
            np.minimum.at(least, near[b][y, x], gap)
    return Gaps(least, float(1 - covered.mean()))
