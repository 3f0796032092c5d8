"""Where two pictures of one map differ, so that a screen need take only that."""

from __future__ import annotations

from functools import partial

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Image
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import IDLE, Task, over_rows

SIDE = 128
"""Texels along the side of a block."""


@kernel("f4[:,::1], f4[:,::1], b1[:,::1], UniTuple(i8, 2), i8, i8")
def _differ(a, b, out, side, first, last):  # type: ignore[no-untyped-def]
    # Rows of samples as they lie in memory
    h, w = a.shape
    for j in range(first, last):
        for i in range(out.shape[1]):
            found = False
            for y in range(j * side[0], min(h, (j + 1) * side[0])):
                one, other = a[y, i * side[1] : min(w, (i + 1) * side[1])], b[y, i * side[1] : min(w, (i + 1) * side[1])]
                unlike = 0
                for x in range(len(one)):  # without a way out: this becomes vector code
                    unlike += one[x] != other[x]
                if unlike:
                    found = True
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

    >>> from silent_loom.core.base.images import Kind
    >>> one, other = np.zeros((64, 64, 1), np.float32), np.zeros((64, 64, 1), np.float32)
    >>> other[0, 0] = 1
    >>> changed_blocks(Image(one, Kind.DATA), Image(other, Kind.DATA), 32).tolist()
    [[True, False], [False, False]]
    """
    a, b = before.pixels, after.pixels
    if a.shape != b.shape or before.kind is not after.kind or before.size_mm != after.size_mm:
        return None
    out = np.zeros((-(-a.shape[0] // side), -(-a.shape[1] // side)), np.bool_)
    one, other = np.ascontiguousarray(a).reshape(len(a), -1), np.ascontiguousarray(b).reshape(len(b), -1)
    over_rows(out.shape[0], partial(_differ, one, other, out, (side, side * a.shape[2])), task, least=1)
    return out
