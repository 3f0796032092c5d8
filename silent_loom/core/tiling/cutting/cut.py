"""The lowest-error cut between two pictures of one strip, open or closed into a ring."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import inlined, kernel

FAR = np.float32(1e30)


class Prices(NamedTuple):
    """What it costs to part neighbouring texels of a strip; all of shape (rows, n + 1), > 0.

    Attributes
    ----------
    across : array
        Cut between columns c−1 and c of a row.
    rightward, leftward : array
        Cut between rows y and y+1 at column x, on a path that goes to the right or to the left there. The last row is
        wrapped round, the last column is not used.
    """

    across: Floats
    rightward: Floats
    leftward: Floats


@inlined
def reached(total, rightward, leftward, best, origin):  # type: ignore[no-untyped-def]
    # From what it costs to have come to every column: what it costs to be at every column after a run sideways, and where
    # from
    n = len(total)
    run, at = FAR, 0
    for c in range(n):
        if c > 0:
            run += rightward[c - 1]
        if total[c] < run:
            run, at = total[c], c
        best[c], origin[c] = run, at
    run, at = FAR, 0
    for c in range(n - 1, -1, -1):
        if c < n - 1:
            run += leftward[c]
        if total[c] < run:
            run, at = total[c], c
        if run < best[c]:
            best[c], origin[c] = run, at


@kernel("f4[:,::1], f4[:,::1], f4[:,::1], i4[::1], i4[::1], i8, i8, f4[::1], i4[:,::1]")
def _sweep(across, rightward, leftward, left, right, first, last, total, back):  # type: ignore[no-untyped-def]
    # State c: rows' texels left of c show one picture, the others the other. `across[y, c]` is the price of the cut
    # between texels c−1 and c of row y; moving from c to c' between rows y and y+1 pays for every x between.
    rows, n = across.shape
    for c in range(n):
        total[c] = across[0, c] if left[0] <= c <= right[0] and (first < 0 or c == first) else FAR
        back[0, c] = c
    best = np.empty(n, np.float32)
    origin = np.empty(n, np.int32)
    for y in range(1, rows):
        reached(total, rightward[y - 1], leftward[y - 1], best, origin)
        for c in range(n):
            inside = left[y] <= c <= right[y]
            total[c] = min(best[c] + across[y, c], FAR) if inside else FAR
            back[y, c] = origin[c]
    end = last
    if end < 0:
        end = 0
        for c in range(n):
            if total[c] < total[end]:
                end = c
    return end


def _path(
    prices: Prices, left: NDArray[np.int32], right: NDArray[np.int32], first: int = -1, last: int = -1
) -> NDArray[np.int32]:
    rows, n = prices.across.shape
    total, back = np.empty(n, np.float32), np.empty((rows, n), np.int32)
    at = int(_sweep(*prices, left, right, first, last, total, back))
    path = np.empty(rows, np.int32)
    for y in range(rows - 1, -1, -1):
        path[y] = at
        at = int(back[y, at])
    return path


def _borders(prices: Prices, margin: int) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    rows, n = prices.across.shape
    return np.full(rows, min(margin, n // 2), np.int32), np.full(rows, max(n - 1 - margin, n // 2), np.int32)


@kernel("f4[:,::1], f4[:,::1], f4[:,::1], i4[::1], f8[::1]")
def _along_path(across, rightward, leftward, path, out):  # type: ignore[no-untyped-def]
    for y in range(len(path)):
        out[y] = across[y, path[y]]
        if y + 1 < len(path):
            for x in range(path[y], path[y + 1]):
                out[y] += rightward[y, x]
            for x in range(path[y + 1], path[y]):
                out[y] += leftward[y, x]


def price_by_row(prices: Prices, path: NDArray[np.int32]) -> NDArray[np.float64]:
    """What a cut costs in every row, and from there to the next one; shape (rows,).

    >>> prices = edge_prices(np.ones((4, 9), np.float32), np.zeros((4, 9), np.float32))
    >>> price_by_row(prices, np.full(4, 4, np.int32)).shape
    (4,)
    """
    costs = np.empty(len(path), np.float64)
    _along_path(*prices, path, costs)
    return costs


def roughness(prices: Prices, path: NDArray[np.int32]) -> float:
    """Root mean square of what a cut costs row by row: a few bad places count for more than many fair ones.

    >>> prices = edge_prices(np.zeros((8, 9), np.float32), np.zeros((8, 9), np.float32))
    >>> roughness(prices, np.full(8, 4, np.int32))
    9.999999974752427e-07
    """
    return float(np.sqrt(np.square(price_by_row(prices, path)).mean()))


def roughness_of_cut(prices: Prices, margin: int) -> float:
    """The `roughness` of the cheapest open cut.

    >>> prices = edge_prices(np.zeros((8, 9), np.float32), np.zeros((8, 9), np.float32))
    >>> roughness_of_cut(prices, 1) < 1e-5
    True
    """
    return roughness(prices, _path(prices, *_borders(prices, margin)))


def edge_prices(difference: Floats, gradient: Floats) -> Prices:
    """Price of parting neighbouring texels (Kwatra 2003, eq. 2): both differ, less where the picture is busy.

    Parameters
    ----------
    difference : array, shape (rows, n)
        How far the two pictures differ at each texel, ≥ 0.
    gradient : array, shape (rows, n)
        How busy they are there, ≥ 0.

    Returns
    -------
    Prices
        The borders cost as much as their only neighbour; both ways along cost the same.

    >>> edge_prices(np.ones((4, 8), np.float32), np.zeros((4, 8), np.float32))[0].shape
    (4, 9)
    """
    eps = 0.05 * float(gradient.mean()) + 1e-6
    pair = difference[:, :-1] + difference[:, 1:]
    busy = gradient[:, :-1] + gradient[:, 1:]
    inner = pair / (busy + eps)
    across = np.concatenate([inner[:, :1], inner, inner[:, -1:]], 1)
    down, busy_down = difference + np.roll(difference, -1, 0), gradient + np.roll(gradient, -1, 0)
    along = down / (busy_down + eps)
    along = np.concatenate([along, along[:, -1:]], 1)
    across, along = (np.ascontiguousarray(a, np.float32) + np.float32(1e-6) for a in (across, along))
    return Prices(across, along, along)


def lowest_cut(
    prices: Prices,
    *,
    margin: int,
    closed: bool,
    guide: NDArray[np.float64] | None = None,
    reach: float = 0.0,
) -> NDArray[np.int32]:
    """Where to go over from one picture to the other, row by row.

    Parameters
    ----------
    prices : Prices
        Of `contour.contour_prices`, or of `edge_prices`.
    margin : int
        Columns at both borders that the cut keeps away from.
    closed : bool
        The last row continues at the first one: the path must end where it began.
    guide, reach : array of shape (rows,), float
        Stay within ``reach`` columns of a path found before.

    Returns
    -------
    path : int array, shape (rows,)
        Row y shows the second picture in columns < path[y], the first in the others.

    Notes
    -----
    The cheapest path among those that pass every row once and may run sideways inside a row as far as they like, by
    dynamic programming in linear time: image quilting (Efros & Freeman 2001) without its limit on slope, with the
    edge costs of graph-cut textures (Kwatra et al. 2003). A closed path is found by fixing the column that the best
    open path takes half-way round.

    >>> difference = np.ones((8, 9), np.float32)
    >>> difference[:, 4] = 0
    >>> prices = edge_prices(difference, np.zeros((8, 9), np.float32))
    >>> lowest_cut(prices, margin=1, closed=True).tolist()
    [4, 4, 4, 4, 4, 4, 4, 4]
    """
    low, high = _borders(prices, margin)
    if guide is not None:
        low = np.clip(np.floor(guide - reach), low, high).astype(np.int32)
        high = np.clip(np.ceil(guide + reach), low, high).astype(np.int32)
    if not closed:
        return _path(prices, low, high)
    rows = len(low)
    half = rows // 2
    turned = Prices(*(np.roll(a, -half, 0) for a in prices))
    free = _path(turned, np.roll(low, -half), np.roll(high, -half))
    start = int(free[rows - half])
    again = Prices(*(np.concatenate([a, a[:1]]) for a in prices))
    return _path(again, np.append(low, low[0]), np.append(high, high[0]), start, start)[:-1]
