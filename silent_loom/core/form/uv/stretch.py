"""How much a layout stretches a surface, and how many texels lie on a centimetre of it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.form.uv.islands import uv_areas


@dataclass(frozen=True)
class Stretch:
    """Per triangle, shape (T,) each; not a number where it has no area or no UVs.

    Attributes
    ----------
    most, least : float64 arrays
        Millimetres of the surface that a unit of the UVs covers where it is stretched most and least.
    area_mm2, area_uv : float64 arrays
        Its areas on the surface and in the layout.
    """

    most: NDArray[np.float64]
    least: NDArray[np.float64]
    area_mm2: NDArray[np.float64]
    area_uv: NDArray[np.float64]

    def relative(self) -> NDArray[np.float64]:
        """Root mean square stretch of each triangle as a share of what the whole layout would have were it even: 1 is even."""
        scale = self.scale()
        found: NDArray[np.float64] = (
            np.sqrt((self.most**2 + self.least**2) / 2) / scale if scale else np.full(len(self.most), np.nan)
        )
        return found

    def ratio(self) -> NDArray[np.float64]:
        """Longer over shorter: 1 where a square stays a square."""
        with np.errstate(divide="ignore", invalid="ignore"):
            found: NDArray[np.float64] = self.most / self.least
        return found

    def scale(self) -> float:
        """Millimetres of the surface to a unit of the UVs, were they even."""
        good = np.isfinite(self.most)
        total = float(self.area_uv[good].sum())
        return float(np.sqrt(self.area_mm2[good].sum() / total)) if total > 0 else 0.0

    def whole(self) -> float:
        """L2 stretch of the whole layout, 1 where it is even everywhere (Sander et al. 2001)."""
        good = np.isfinite(self.most)
        if not good.any():
            return float("nan")
        share = self.area_mm2[good] / max(float(self.area_mm2[good].sum()), 1e-300)
        squares = (self.most[good] ** 2 + self.least[good] ** 2) / 2
        return float(np.sqrt((squares * share).sum()) / max(self.scale(), 1e-300))


def stretch(corners_mm: NDArray[np.float64], uv: NDArray[np.float64]) -> Stretch:
    """Stretch of every triangle: the singular values of the map from the layout to the surface.

    Parameters
    ----------
    corners_mm : float array, shape (T, 3, 3)
    uv : float array, shape (T, 3, 2)

    References
    ----------
    Sander, Snyder, Gortler & Hoppe (2001), Texture mapping progressive meshes, section 3.

    >>> flat = np.array([[[0, 0, 0], [200, 0, 0], [0, 100, 0.0]]])
    >>> s = stretch(flat, np.array([[[0, 0], [1, 0], [0, 1.0]]]))
    >>> float(s.most[0]), float(s.least[0])
    (200.0, 100.0)
    """
    area_uv = uv_areas(uv)
    q1, q2, q3 = corners_mm[:, 0], corners_mm[:, 1], corners_mm[:, 2]
    area_mm2 = 0.5 * np.linalg.norm(np.cross(q2 - q1, q3 - q1), axis=1)
    (s1, t1), (s2, t2), (s3, t3) = (uv[:, k].T for k in range(3))
    with np.errstate(divide="ignore", invalid="ignore"):
        twice = 2 * area_uv[:, None]
        along = (q1 * (t2 - t3)[:, None] + q2 * (t3 - t1)[:, None] + q3 * (t1 - t2)[:, None]) / twice
        down = (q1 * (s3 - s2)[:, None] + q2 * (s1 - s3)[:, None] + q3 * (s2 - s1)[:, None]) / twice
        a, b, c = ((along * along).sum(1), (along * down).sum(1), (down * down).sum(1))
        root = np.sqrt(np.maximum((a - c) ** 2 + 4 * b * b, 0))
        most = np.sqrt(np.maximum(a + c + root, 0) / 2)
        least = np.sqrt(np.maximum(a + c - root, 0) / 2)
    bad = ~np.isfinite(most) | ~np.isfinite(least) | (np.abs(area_uv) < 1e-14) | (area_mm2 <= 0)
    most[bad], least[bad] = np.nan, np.nan
    return Stretch(most, least, area_mm2, np.abs(area_uv))
