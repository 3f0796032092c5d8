"""Where two pictures of one map differ, so that a screen need take only that."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.images import Image
from silent_loom.core.parallel import IDLE, Task, kernel, over_rows

SIDE = 128
"""Texels along the side of a block."""


@kernel
def _differ(a, b, out, side, first, last):  # type: ignore[no-untyped-def]
    h, w, channels = a.shape
    for j in range(first, last):
        for i in range(out.shape[1]):
            found = False
            for y in range(j * side, min(h, (j + 1) * side)):
                for x in range(i * side, min(w, (i + 1) * side)):
                    for k in range(channels):
                        if a[y, x, k] != b[y, x, k]:
                            found = True
                if found:
                    break
            out[j, i] = found


def changed_blocks(before: Image, after: Image, side: int = SIDE, task: Task = IDLE) -> NDArray[np.bool_] | None:
    """Blocks in which any sample differs.

    Parameters
    ----------
    before, after : Image
    side : int
        Texels along the side of a block; the last row and column of blocks may be smaller.

    Returns
    -------
    bool array, shape (rows of blocks, columns of blocks), or None
        None when the two are not pictures of one shape and kind.
    """
    a, b = before.pixels, after.pixels
    if a.shape != b.shape or before.kind is not after.kind or before.size_mm != after.size_mm:
        return None
    out = np.zeros((-(-a.shape[0] // side), -(-a.shape[1] // side)), np.bool_)
    over_rows(out.shape[0], lambda first, last: _differ(a, b, out, side, first, last), task)
    return out
