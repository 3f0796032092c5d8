"""Tangent space of a model's corners, the same that receivers of its normal maps work out (MikkTSpace)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.form.fans import fans, summed
from silent_loom.core.form.normals import unit
from silent_loom.core.form.uv.islands import edges, uv_areas
from silent_loom.core.form.welding import welded


@dataclass(frozen=True)
class Frames:
    """Tangent space of every corner.

    Attributes
    ----------
    tangent : float64 array, shape (T, 3, 3)
        Unit length, along u, at right angles to the normal.
    sign : float64 array, shape (T, 3)
        1 where the layout is as the surface, −1 where it is mirrored: the bitangent is sign · (normal × tangent).
    """

    tangent: NDArray[np.float64]
    sign: NDArray[np.float64]


def frames(corners: NDArray[np.float64], normals: NDArray[np.float64], uv: NDArray[np.float64]) -> Frames:
    """Tangent space of corners.

    Parameters
    ----------
    corners, normals : float arrays, shape (T, 3, 3)
    uv : float array, shape (T, 3, 2)
        u to the right, v up.

    Notes
    -----
    Corners that have the same place, normal and UV share a frame where their triangles hang together across edges and are laid
    out the same way round, mirrored or not. Each triangle gives the direction in which u grows over it, laid into the plane
    of the corner's normal and weighted by its angle there. Triangles without an area in the layout take what their neighbours
    have. Nothing depends on the order of triangles.

    References
    ----------
    Mikkelsen (2008), Simulation of wrinkled surfaces revisited, section 3; its reference code is what receivers use.

    >>> corners = np.array([[[0, 0, 0], [1, 0, 0], [0, 1, 0.0]]])
    >>> up = np.zeros((1, 3, 3)) + [0, 0, 1.0]
    >>> f = frames(corners, up, np.array([[[0, 0], [1, 0], [0, 1.0]]]))
    >>> f.tangent[0, 0].tolist(), f.sign[0].tolist()
    ([1.0, 0.0, 0.0], [1.0, 1.0, 1.0])
    """
    t = len(corners)
    rows = np.concatenate([corners.astype(np.float32), normals.astype(np.float32), uv.astype(np.float32)], -1)
    _, number = welded(rows.reshape(3 * t, -1))
    corner = number.reshape(-1, 3)
    area = uv_areas(uv)
    twice = 2 * area
    d1, d2 = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    t1, t2 = uv[:, 1, 1] - uv[:, 0, 1], uv[:, 2, 1] - uv[:, 0, 1]
    along = t2[:, None] * d1 - t1[:, None] * d2
    whole = (np.abs(twice) > np.finfo(np.float32).tiny) & np.isfinite(twice)
    kept = area > 0
    along = unit(np.where(kept, 1.0, -1.0)[:, None] * along)
    whole &= np.einsum("tk,tk->t", along, along) > 0.5
    mate = edges(corner)
    other = np.maximum(mate, 0) // 3
    linked = (mate >= 0) & (kept[:, None] == kept[other]) & whole[:, None] & whole[other]
    group = fans(corner, mate, linked)
    total = np.zeros((t, 3, 3))
    for k in range(3):
        n = normals[:, k]
        flat = unit(along - n * np.einsum("tk,tk->t", n, along)[:, None])
        one, two = corners[:, (k + 1) % 3] - corners[:, k], corners[:, (k + 2) % 3] - corners[:, k]
        one = unit(one - n * np.einsum("tk,tk->t", n, one)[:, None])
        two = unit(two - n * np.einsum("tk,tk->t", n, two)[:, None])
        angle = np.arccos(np.clip(np.einsum("tk,tk->t", one, two), -1, 1))
        total[:, k] = flat * (angle * whole)[:, None]
    tangent = unit(summed(total, group))
    sign = np.where(kept, 1.0, -1.0)[:, None].repeat(3, 1)
    if not whole.all():  # they take what stands at the same corner
        good = whole[:, None].repeat(3, 1) & (np.einsum("tck,tck->tc", tangent, tangent) > 0.5)
        first = np.full(int(corner.max()) + 1, -1, np.int64)
        flat_corner, flat_good = corner.ravel(), good.ravel()
        first[flat_corner[flat_good][::-1]] = np.flatnonzero(flat_good)[::-1]
        take = first[corner]
        lacks = ~good & (take >= 0)
        tangent = np.where(lacks[..., None], tangent.reshape(-1, 3)[np.maximum(take, 0)], tangent)
        sign = np.where(lacks, sign.ravel()[np.maximum(take, 0)], sign)
    bare = np.einsum("tck,tck->tc", tangent, tangent) < 0.5
    if bare.any():  # no direction is better than another
        axis = np.eye(3)[np.abs(normals).argmin(-1)]
        any_way = unit(axis - normals * np.einsum("tck,tck->tc", normals, axis)[..., None])
        tangent = np.where(bare[..., None], any_way, tangent)
    return Frames(tangent, sign)
