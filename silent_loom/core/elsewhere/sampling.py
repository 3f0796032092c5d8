"""Pictures read at places: bilinear, wrapped, held or mirrored."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

Wrap = Literal["periodic", "clamp", "mirror", "constant"]
Values = NDArray[np.float32]


def places(width: int, height: int, rows: slice = slice(None)) -> Values:
    """Middles of texels as u to the right and v up, shape (H, W, 2); of some rows alone where they are named.

    >>> places(2, 2).tolist()
    [[[0.25, 0.75], [0.75, 0.75]], [[0.25, 0.25], [0.75, 0.25]]]
    """
    u = (np.arange(width, dtype=np.float64) + 0.5) / width
    v = 1 - (np.arange(height, dtype=np.float64)[rows] + 0.5) / height
    return np.stack(np.broadcast_arrays(u[None, :], v[:, None]), axis=-1).astype(np.float64)


def sampled(
    picture: Values, uv: NDArray[Any], wrap: tuple[Wrap, Wrap] = ("periodic", "periodic"), nearest: bool = False
) -> Values:
    """A picture at places.

    Parameters
    ----------
    picture : shape (H, W, C), the first row at the top
    uv : shape (…, 2)
        u to the right, v up, 0…1 across the picture.
    wrap : pair of str
        What lies beyond the picture, across and up; 'constant' is 0.

    >>> picture = np.array([[[0.0], [1.0]]])
    >>> sampled(picture, np.array([[[0.25, 0.5], [0.5, 0.5]]]), ("repeat", "repeat"), False).ravel().tolist()
    [0.0, 0.5]
    """
    h, w = picture.shape[:2]
    x = np.asarray(uv[..., 0], np.float64) * w - 0.5
    y = (1 - np.asarray(uv[..., 1], np.float64)) * h - 0.5
    near = np.abs(x - np.rint(x)).max(initial=0) < 1e-4 and np.abs(y - np.rint(y)).max(initial=0) < 1e-4
    if nearest or near:  # exactly the texels themselves: nothing is mixed, and no bit is lost
        columns, inside_x = _index(np.rint(x).astype(np.int64), w, wrap[0])
        rows, inside_y = _index(np.rint(y).astype(np.int64), h, wrap[1])
        return np.asarray(picture[rows, columns] * (inside_x & inside_y)[..., None], np.float32)
    x0, y0 = np.floor(x).astype(np.int64), np.floor(y).astype(np.int64)
    fx, fy = (x - x0)[..., None].astype(np.float32), (y - y0)[..., None].astype(np.float32)
    out = np.zeros((*x.shape, picture.shape[2]), np.float32)
    for dy, wy in ((0, 1 - fy), (1, fy)):
        rows, inside_y = _index(y0 + dy, h, wrap[1])
        for dx, wx in ((0, 1 - fx), (1, fx)):
            columns, inside_x = _index(x0 + dx, w, wrap[0])
            out += picture[rows, columns] * (wx * wy * (inside_x & inside_y)[..., None])
    return out


def _index(i: NDArray[np.int64], n: int, wrap: Wrap) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
    inside = np.ones(i.shape, bool)
    if wrap == "clamp":
        return np.clip(i, 0, n - 1), inside
    if wrap == "mirror":
        k = np.mod(i, 2 * n)
        return np.where(k < n, k, 2 * n - 1 - k), inside
    if wrap == "constant":
        return np.clip(i, 0, n - 1), (i >= 0) & (i < n)
    return np.mod(i, n), inside
