"""Normals of a model's corners: those of its file, and worked out where it has none."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.form.fans import fans, summed
from silent_loom.core.form.model import Model, highest, turned_up
from silent_loom.core.form.uv.islands import edges
from silent_loom.core.form.welding import welded

CREASE_DEG = 60.0
"""Edges at which a surface without normals turns by more than that are sharp."""


def face_normals(corners: NDArray[np.float64]) -> NDArray[np.float64]:
    """Unit normals of triangles, shape (T, 3); zero where one has no area.

    >>> face_normals(np.array([[[0, 0, 0], [1, 0, 0], [0, 1, 0.0]]])).tolist()
    [[0.0, 0.0, 1.0]]
    """
    return unit(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]))


def unit(vectors: NDArray[np.float64]) -> NDArray[np.float64]:
    """Vectors at length 1; those without a length stay as they are.

    >>> unit(np.array([[3.0, 0.0, 4.0], [0.0, 0.0, 0.0]])).tolist()
    [[0.6, 0.0, 0.8], [0.0, 0.0, 0.0]]
    """
    length = np.sqrt(np.einsum("...k,...k->...", vectors, vectors))[..., None]
    out: NDArray[np.float64] = vectors / np.where(length > 1e-150, length, 1.0)
    return out


def corner_angles(corners: NDArray[np.float64]) -> NDArray[np.float64]:
    """Angles of triangles at their corners in radians, shape (T, 3).

    >>> np.degrees(corner_angles(np.array([[[0, 0, 0], [1, 0, 0], [0, 1, 0.0]]]))).round(6).tolist()
    [[90.0, 45.0, 45.0]]
    """
    out = np.empty(corners.shape[:2])
    for k in range(3):
        a = unit(corners[:, (k + 1) % 3] - corners[:, k])
        b = unit(corners[:, (k + 2) % 3] - corners[:, k])
        out[:, k] = np.arccos(np.clip(np.einsum("tk,tk->t", a, b), -1, 1))
    return out


def corner_normals(model: Model, crease_deg: float = CREASE_DEG) -> NDArray[np.float64]:
    """Unit normals of all corners with y up, shape (T, 3, 3).

    Parameters
    ----------
    model : Model
    crease_deg : float
        Where its file gives none: edges at which the surface turns by more are sharp. 180 smooths over all of them.

    Notes
    -----
    Averages of the faces round a corner by their angle at it (Thürmer & Wüthrich 1998), which does not depend on how polygons
    were cut into triangles.

    >>> from silent_loom.core.form.model import Table
    >>> at = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0.0]])
    >>> zero = np.zeros(1, np.int32)
    >>> m = Model(Table(at, np.array([[0, 1, 2]], np.int32)), zero, zero)
    >>> corner_normals(m)[0, 0].tolist()
    [0.0, 0.0, 1.0]
    """
    if model.normals is not None:
        given = unit(turned_up(model.normals.at_corners().astype(np.float64), model.up))
        lacks = highest(~np.isfinite(given).all(-1) | (np.einsum("tck,tck->tc", given, given) < 0.5))
        if not lacks.any():
            return given
        return np.where(lacks[:, None, None], averaged(model, crease_deg), given)
    return averaged(model, crease_deg)


def averaged(model: Model, crease_deg: float = CREASE_DEG) -> NDArray[np.float64]:
    """Normals of corners from the faces round them, whatever the file gives, shape (T, 3, 3).

    >>> from silent_loom.core.form.model import Table
    >>> at = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0.0]])
    >>> zero = np.zeros(1, np.int32)
    >>> averaged(Model(Table(at, np.array([[0, 1, 2]], np.int32)), zero, zero))[0, 2].tolist()
    [0.0, 0.0, 1.0]
    """
    corners = model.corners
    facing = face_normals(corners)
    place = welded(model.positions.values)[1][model.positions.index]
    weighted = facing[:, None] * corner_angles(corners)[..., None]
    if crease_deg >= 180:
        group = place
    else:
        mate = edges(place)
        beyond = facing[np.maximum(mate, 0) // 3]
        smooth = (mate >= 0) & (np.einsum("tk,tek->te", facing, beyond) >= np.cos(np.radians(crease_deg)))
        group = fans(place, mate, smooth)
    total = unit(summed(weighted, group))
    bare = np.einsum("tck,tck->tc", total, total) < 0.5
    return np.where(bare[..., None], facing[:, None], total)
