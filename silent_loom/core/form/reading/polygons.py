"""Polygons cut into triangles, the same way each time."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


def triangulated(corners: NDArray[np.float64]) -> NDArray[np.int64]:
    """Triangles of polygons that have the same number of sides.

    Parameters
    ----------
    corners : float array, shape (M, N, 3)
        Places of the corners of M polygons, round each of them.

    Returns
    -------
    int array, shape (M, N − 2, 3)
        Numbers of corners, 0…N − 1, the way round kept.

    Notes
    -----
    A convex polygon is cut into a fan from its first corner; a four-sided one along its shorter diagonal, along the first
    where both are as long, unless only the other lies inside. What is concave loses one ear after the other (Meisters
    1975), always the first that holds no other corner, in the plane of its area (Newell's normal; Sutherland 1974).

    >>> square = np.array([[[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]]], float)
    >>> triangulated(square).tolist()
    [[[0, 1, 2], [0, 2, 3]]]
    """
    m, n = corners.shape[:2]
    if n == 3:
        return np.broadcast_to(np.arange(3), (m, 1, 3)).copy()
    normal = _newell(corners)
    back, on = np.roll(corners, 1, 1), np.roll(corners, -1, 1)
    turns = np.einsum("mnk,mk->mn", np.cross(corners - back, on - corners), normal)
    fan = np.stack([np.zeros(n - 2, int), np.arange(1, n - 1), np.arange(2, n)], 1)
    out = np.broadcast_to(fan, (m, n - 2, 3)).copy()
    if n == 4:
        other = np.array([[0, 1, 3], [1, 2, 3]])
        first = ((corners[:, 0] - corners[:, 2]) ** 2).sum(1)
        second = ((corners[:, 1] - corners[:, 3]) ** 2).sum(1)
        cross = second < first * (1 - 1e-9)
        # The corner that points inward has to be an end of the diagonal
        inward = turns < 0
        ends_first, ends_second = inward[:, [0, 2]].any(1), inward[:, [1, 3]].any(1)
        cross = np.where(ends_first & ~ends_second, False, np.where(ends_second & ~ends_first, True, cross))
        out[cross] = other
        return out
    for k in np.flatnonzero((turns < 0).any(1)):
        out[k] = _ears(corners[k], normal[k])
    return out


def _newell(corners: NDArray[np.float64]) -> NDArray[np.float64]:
    """Twice the area of each polygon as a vector along its normal, shape (M, 3)."""
    centred = corners - corners[:, :1]
    total: NDArray[np.float64] = np.cross(centred, np.roll(centred, -1, 1)).sum(1)
    return total


def _ears(corners: NDArray[np.float64], normal: NDArray[np.float64]) -> NDArray[np.int64]:
    drop = int(np.abs(normal).argmax())
    flat = np.delete(corners, drop, 1)
    if (normal[drop] < 0) != (drop == 1):
        flat = flat[:, ::-1]
    left, made = list(range(len(flat))), []
    while len(left) > 3:
        ear = next((i for i in range(len(left)) if _is_ear(flat, left, i)), 0)  # of what crosses itself any corner will do
        made.append([left[ear - 1], left[ear], left[(ear + 1) % len(left)]])
        del left[ear]
    return np.array([*made, left])


def _is_ear(flat: NDArray[np.float64], left: list[int], i: int) -> bool:
    a, b, c = flat[left[i - 1]], flat[left[i]], flat[left[(i + 1) % len(left)]]
    if _side(a, b, c) <= 0:
        return False
    others = flat[[k for k in left if k not in (left[i - 1], left[i], left[(i + 1) % len(left)])]]
    inside = (_side(a, b, others) >= 0) & (_side(b, c, others) >= 0) & (_side(c, a, others) >= 0)
    same = (others == a).all(1) | (others == b).all(1) | (others == c).all(1)
    return not bool((inside & ~same).any())


def _side(a: NDArray[np.float64], b: NDArray[np.float64], p: NDArray[np.float64]) -> NDArray[np.float64]:
    found: NDArray[np.float64] = (b[0] - a[0]) * (p[..., 1] - a[1]) - (b[1] - a[1]) * (p[..., 0] - a[0])
    return found
