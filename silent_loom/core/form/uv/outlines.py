"""Outlines of islands, for drawing a layout."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.form.model import Model
from silent_loom.core.form.uv.islands import Islands

MOST_EDGES = 60_000
"""Border edges that are drawn; of a layout with more only the longest ones are."""


def outlines(model: Model, found: Islands, uv: str = "") -> list[list[NDArray[np.float64]]]:
    """The border of each island as lines through UVs, closed where it is closed; one list an island.

    >>> from silent_loom.core.form.model import plate
    >>> from silent_loom.core.form.uv.islands import islands
    >>> [[len(line) for line in island] for island in outlines(plate(), islands(plate()))]
    [[5]]
    """
    at = model.uv(uv).at_corners()
    one, side = np.nonzero(found.border)
    if len(one) > MOST_EDGES:
        length = np.linalg.norm(at[one, (side + 1) % 3] - at[one, side], axis=1)
        kept = np.sort(np.argsort(-length)[:MOST_EDGES])
        one, side = one[kept], side[kept]
    start, end = found.laid[one, side], found.laid[one, (side + 1) % 3]
    place = {int(c): at[t, k] for c, t, k in zip(start, one, side, strict=True)}
    place |= {int(c): at[t, (k + 1) % 3] for c, t, k in zip(end, one, side, strict=True)}
    out: list[list[NDArray[np.float64]]] = [[] for _ in range(found.count)]
    follows: dict[tuple[int, int], list[int]] = {}
    of = found.of[one]
    for a, b, island in zip(start.tolist(), end.tolist(), of.tolist(), strict=True):
        follows.setdefault((island, a), []).append(b)
    while follows:
        (island, a), nexts = next(iter(follows.items()))
        line = [a]
        while nexts:
            b = nexts.pop()
            if not nexts:
                follows.pop((island, line[-1]), None)
            line.append(b)
            nexts = follows.get((island, b), [])
        follows.pop((island, a), None)
        out[island].append(np.array([place[c] for c in line]))
    return out
