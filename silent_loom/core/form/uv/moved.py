"""What has moved between a model and a newer one of it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from silent_loom.core.form.model import Model

SAME_UV, SAME_PLACE = 1e-5, 1e-5
"""In parts of the square, and of the model's size, up to which nothing has moved."""


@dataclass(frozen=True)
class Moved:
    """How a newer model differs from the one before it.

    Attributes
    ----------
    triangles : tuple of int
        Before, and now.
    uvs, places : float
        Shares of its triangles whose UVs, and whose corners, lie elsewhere; 1 where the triangles are others.
    """

    triangles: tuple[int, int]
    uvs: float
    places: float

    def words(self) -> str:
        """What that means for what was made on it, in a clause.

        >>> Moved((12, 12), 0.25, 0.0).words(), Moved((12, 12), 0.0, 0.0).words()
        ('the UVs of 25 % of its triangles have moved', 'its UVs are where they were')
        """
        before, now = self.triangles
        if before != now:
            return f"it has {now:,} triangles where it had {before:,}; what was placed by hand may lie elsewhere"
        if self.uvs > 0:
            return f"the UVs of {_percent(self.uvs)} of its triangles have moved"
        if self.places > 0:
            return f"its UVs are where they were; {_percent(self.places)} of its triangles have another shape"
        return "its UVs are where they were"


def _percent(share: float) -> str:
    return f"{100 * share:.0f} %" if share >= 0.01 else "under 1 %"


def moved(before: Model, now: Model, uv: str = "") -> Moved:
    """Compare two models, triangle by triangle as their files order them.

    Parameters
    ----------
    before, now : Model
    uv : str
        Name of the UV set, the first one of each where it is empty.

    Raises
    ------
    LoomError
        One has no such UVs.

    >>> from silent_loom.core.form.model import plate
    >>> moved(plate(), plate())
    Moved(triangles=(2, 2), uvs=0.0, places=0.0)
    """
    counts = len(before), len(now)
    old, new = before.uv(uv).at_corners(), now.uv(uv).at_corners()
    if counts[0] != counts[1]:
        return Moved(counts, 1.0, 1.0)
    differs = ~(np.abs(old - new) <= SAME_UV)
    differs &= ~(np.isnan(old) & np.isnan(new))
    size = max(*before.size_mm, 1e-12)
    shifted = np.abs(before.corners - now.corners) > SAME_PLACE * size
    return Moved(counts, float(differs.any((1, 2)).mean()), float(shifted.any((1, 2)).mean()))
