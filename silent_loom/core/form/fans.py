"""Corners that share what they have: those of triangles that hang together round a place."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.lazy_modules import later

sparse = later("scipy.sparse")
graph = later("scipy.sparse.csgraph")


def fans(corner: NDArray[np.int64], mate: NDArray[np.int64], linked: NDArray[np.bool_]) -> NDArray[np.int64]:
    """Which corners are one.

    Parameters
    ----------
    corner : int array, shape (T, 3)
        Numbers of corners, equal where they may be one.
    mate : int array, shape (T, 3)
        What lies beyond each edge: 3 · triangle + edge, or −1 (see `islands.edges`).
    linked : bool array, shape (T, 3)
        Across which edges corners are one.

    Returns
    -------
    int array, shape (T, 3)
        Numbers from 0, the same for corners that hang together across linked edges.

    >>> from silent_loom.core.form.uv.islands import edges
    >>> two = np.array([[0, 1, 2], [2, 1, 3]])
    >>> f = fans(two, edges(two), np.ones((2, 3), bool))
    >>> bool(f[0, 1] == f[1, 1]), bool(f[0, 2] == f[1, 0]), int(f.max()) + 1
    (True, True, 4)
    """
    t = len(corner)
    one, side = np.nonzero(linked & (mate > 3 * np.arange(t)[:, None] + np.arange(3)))
    other, other_side = mate[one, side] // 3, mate[one, side] % 3
    start, end = 3 * one + side, 3 * one + (side + 1) % 3
    there, beyond = 3 * other + other_side, 3 * other + (other_side + 1) % 3
    flat = corner.ravel()
    same = flat[start] == flat[there]  # both run the same way round
    from_start, from_end = np.where(same, there, beyond), np.where(same, beyond, there)
    a = np.concatenate([start, end])
    b = np.concatenate([from_start, from_end])
    good = flat[a] == flat[b]
    links = sparse.coo_matrix((np.ones(int(good.sum()), np.int8), (a[good], b[good])), shape=(3 * t, 3 * t))
    _, label = graph.connected_components(links, directed=False)
    return label.astype(np.int64).reshape(-1, 3)


def summed(values: NDArray[np.float64], group: NDArray[np.int64]) -> NDArray[np.float64]:
    """Values of corners added up over their groups and given back to each, shape (T, 3, K).

    >>> summed(np.ones((1, 3, 1)), np.array([[0, 0, 1]])).ravel().tolist()
    [2.0, 2.0, 1.0]
    """
    flat = group.ravel()
    count = int(flat.max(initial=-1)) + 1
    total = np.empty((count, values.shape[2]))
    for k in range(values.shape[2]):
        total[:, k] = np.bincount(flat, values[..., k].ravel(), count)
    out: NDArray[np.float64] = total[group]
    return out
