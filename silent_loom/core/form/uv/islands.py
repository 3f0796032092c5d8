"""Islands of a UV layout and the borders between them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.lazy_modules import later
from silent_loom.core.form.model import Model, lowest
from silent_loom.core.form.welding import welded

sparse = later("scipy.sparse")
graph = later("scipy.sparse.csgraph")


@dataclass(frozen=True)
class Islands:
    """Which island each triangle is of, and what lies beyond each of its edges.

    Attributes
    ----------
    of : int32 array, shape (T,)
        Island of each triangle, 0…count − 1, the largest in UV first; −1 where it has no UVs.
    count : int
    mate : int64 array, shape (T, 3)
        What lies beyond the edge from corner k to the next: 3 · triangle + its edge, or −1 where nothing does.
    joined : bool array, shape (T, 3)
        The UVs go on across that edge.
    place, laid : int64 arrays, shape (T, 3)
        Numbers of corners: equal where they lie at the same place, and where they also have the same UV.
    """

    of: NDArray[np.int32]
    count: int
    mate: NDArray[np.int64]
    joined: NDArray[np.bool_]
    place: NDArray[np.int64]
    laid: NDArray[np.int64]

    @property
    def border(self) -> NDArray[np.bool_]:
        """Edges at which the layout is cut or the surface ends, shape (T, 3)."""
        cut: NDArray[np.bool_] = ~self.joined & (self.of >= 0)[:, None]
        return cut

    @property
    def cut(self) -> NDArray[np.bool_]:
        """Edges at which the layout is cut and the surface goes on, shape (T, 3)."""
        return self.border & (self.mate >= 0)


def edges(corner: NDArray[np.int64]) -> NDArray[np.int64]:
    """What lies beyond each edge, by the numbers of the corners, shape (T, 3); −1 where nothing does.

    Where more than two triangles share an edge, they are paired in their order, those that run against each other first.

    >>> edges(np.array([[0, 1, 2], [2, 1, 3]])).tolist()
    [[-1, 3, -1], [1, -1, -1]]
    """
    a, b = corner.ravel(), np.roll(corner, -1, 1).ravel()
    low, high = np.minimum(a, b), np.maximum(a, b)
    key = low * (int(corner.max(initial=0)) + 1) + high
    order = np.argsort(key, kind="stable")
    k = key[order]
    starts = np.flatnonzero(np.r_[True, k[1:] != k[:-1]])
    sizes = np.diff(np.r_[starts, len(k)])
    mate = np.full(len(key), -1, np.int64)
    pairs = starts[sizes == 2]
    one, other = order[pairs], order[pairs + 1]
    mate[one], mate[other] = other, one
    for start, size in zip(starts[sizes > 2], sizes[sizes > 2], strict=True):
        group = order[start : start + size]
        forward, back = group[a[group] < b[group]], group[a[group] >= b[group]]
        n = min(len(forward), len(back))
        mate[forward[:n]], mate[back[:n]] = back[:n], forward[:n]
    mate[a == b] = -1
    return mate.reshape(-1, 3)


def islands(model: Model, uv: str = "") -> Islands:
    """Islands of a UV set: triangles that hang together across edges whose ends have the same place and the same UV.

    Raises
    ------
    LoomError
        There is no such set.

    >>> from silent_loom.core.form.model import Table
    >>> flat = np.array([[0, 0], [1, 0], [1, 1], [0, 1.0]])
    >>> quad = Table(np.c_[flat, np.zeros(4)], np.array([[0, 1, 2], [0, 2, 3]], np.int32))
    >>> zero = np.zeros(2, np.int32)
    >>> m = Model(quad, zero, zero, uvs={"UV": Table(flat, quad.index)})
    >>> islands(m).count, int(islands(m).border.sum())
    (1, 4)
    """
    table = model.uv(uv)
    laid_flat = np.isfinite(table.values).all(1)
    has = lowest(laid_flat[table.index])
    place = welded(model.positions.values)[1][model.positions.index]
    _, number = welded(np.where(laid_flat[:, None], table.values, 0.0))
    _, laid = welded(np.stack([place.ravel(), number[table.index].ravel()], 1))
    laid = laid.reshape(-1, 3)
    mate = edges(place)
    other = np.maximum(mate, 0)
    start, end = laid, np.roll(laid, -1, 1)
    flat_start, flat_end = start.ravel()[other], end.ravel()[other]
    along = ((start == flat_end) & (end == flat_start)) | ((start == flat_start) & (end == flat_end))
    joined = (mate >= 0) & along & has[:, None] & has[other // 3]
    t = len(model)
    one, side = np.nonzero(joined)
    two = mate[one, side] // 3
    links = sparse.coo_matrix((np.ones(len(one), np.int8), (one, two)), shape=(t, t))
    count, label = graph.connected_components(links, directed=False)
    area = np.abs(uv_areas(table.at_corners()))
    each = np.bincount(label, np.where(has, np.nan_to_num(area), 0.0), count)
    each[np.unique(label[~has])] = -1.0  # what has no UVs is no island; it hangs together with nothing
    order = np.argsort(-each, kind="stable")
    rank = np.empty(count, np.int32)
    rank[order] = np.arange(count, dtype=np.int32)
    of = np.where(has, rank[label], -1).astype(np.int32)
    return Islands(of, int(of.max(initial=-1)) + 1, mate, joined, place, laid)


def uv_areas(corners: NDArray[np.float64]) -> NDArray[np.float64]:
    """Areas of triangles in the square of the UVs, below zero where they are mirrored, shape (T,).

    >>> uv_areas(np.array([[[0, 0], [1, 0], [0, 1.0]]])).tolist()
    [0.5]
    """
    a, b, c = corners[:, 0], corners[:, 1], corners[:, 2]
    area: NDArray[np.float64] = 0.5 * ((b[:, 0] - a[:, 0]) * (c[:, 1] - a[:, 1]) - (b[:, 1] - a[:, 1]) * (c[:, 0] - a[:, 0]))
    return area
