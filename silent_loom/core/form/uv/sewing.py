"""Islands that are cut apart where the surface is flat and both sides have the same edge: they could be one."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.form.model import Model
from silent_loom.core.form.uv.islands import Islands

FLAT_DEG = 15.0
"""Degrees that the surface may turn by across a border that need not be one."""
SAME = 0.05
"""How much lengths of an edge in the layout may differ between its sides, as a share of it."""


@dataclass(frozen=True)
class Seam:
    """Two islands that meet.

    Attributes
    ----------
    islands : tuple of int
    length_mm : float
        Of the border between them, on the surface.
    flat : float
        Share of that border across which the surface hardly turns and which is as long on both sides, 0…1.
    """

    islands: tuple[int, int]
    length_mm: float
    flat: float

    @property
    def needless(self) -> bool:
        return self.flat > 0.98


def seams(model: Model, found: Islands, uv: str = "") -> list[Seam]:
    """Borders between different islands, the longest first.

    >>> from silent_loom.core.form.model import Table
    >>> from silent_loom.core.form.uv.islands import islands
    >>> at = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0.0]])
    >>> laid = np.array([[0, 0], [0.4, 0], [0.4, 0.4], [0.5, 0.5], [0.9, 0.9], [0.5, 0.9]])
    >>> zero = np.zeros(2, np.int32)
    >>> place, apart = np.array([[0, 1, 2], [0, 2, 3]], np.int32), np.array([[0, 1, 2], [3, 4, 5]], np.int32)
    >>> m = Model(Table(at, place), zero, zero, uvs={"UV": Table(laid, apart)})
    >>> [s.needless for s in seams(m, islands(m))]
    [True]
    """
    cut = found.cut & (found.mate > 3 * np.arange(len(model))[:, None])
    one, side = np.nonzero(cut)
    other, other_side = found.mate[one, side] // 3, found.mate[one, side] % 3
    a, b = found.of[one], found.of[other]
    apart = (a != b) & (b >= 0)
    one, side, other, other_side, a, b = (v[apart] for v in (one, side, other, other_side, a, b))
    if not len(one):
        return []
    corners = model.corners
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
    length = np.linalg.norm(corners[one, (side + 1) % 3] - corners[one, side], axis=1)
    turn = np.degrees(np.arccos(np.clip((normal[one] * normal[other]).sum(1), -1, 1)))
    laid = model.uv(uv).at_corners()
    here = np.linalg.norm(laid[one, (side + 1) % 3] - laid[one, side], axis=1)
    there = np.linalg.norm(laid[other, (other_side + 1) % 3] - laid[other, other_side], axis=1)
    flat = (turn < FLAT_DEG) & (np.abs(here - there) <= SAME * np.maximum(here, there))
    pair = np.minimum(a, b).astype(np.int64) * found.count + np.maximum(a, b)
    keys, number = np.unique(pair, return_inverse=True)
    total = np.bincount(number, length)
    level = np.bincount(number, length * flat)
    order: NDArray[np.int64] = np.argsort(-total, kind="stable")
    return [
        Seam((int(keys[k] // found.count), int(keys[k] % found.count)), float(total[k]), float(level[k] / max(total[k], 1e-300)))
        for k in order
    ]
