"""What differs broadly between the edges of a sheet of whole repeats, spread over all of it."""

from __future__ import annotations

from functools import partial

import numpy as np

from silent_loom.core.images import Floats, Kind
from silent_loom.core.parallel import Task, kernel, over_rows
from silent_loom.core.resample import blur
from silent_loom.core.tiling.join import normals_of, slopes_of

DARKEST = np.float32(1e-4)
"""Light, as a part of white, below which ratios are not told."""


@kernel
def _ramp(src, gap, ratio, keep, turned, out, y0, y1):  # type: ignore[no-untyped-def]
    # gap[i] for every line along the edge; nothing in the middle of what is kept, half of it either way at its edges
    w, channels = src.shape[1], src.shape[2]
    for y in range(y0, y1):
        for x in range(w):
            i, place = (x, y) if turned else (y, x)
            t = np.float32((place + 0.5) / keep - 0.5)
            for k in range(channels):
                v = t * gap[i, k]
                out[y, x, k] = src[y, x, k] * np.exp(v) if ratio else src[y, x, k] + v


def levelled(pixels: Floats, kind: Kind, axis: int, keep: int, closed: bool, task: Task) -> Floats:
    """A sheet whose overlap shows the same broad tone at both ends.

    Parameters
    ----------
    pixels : array, shape (H, W, C)
        A sheet that shows the same elements ``keep`` texels apart: whole repeats of a motif.
    kind : Kind
        Colour is corrected in ratios, data as it is, normals as slopes; ids are left alone.
    axis : int
        1 when it will be closed from left to right, 0 from top to bottom.
    keep : int
        Width (height) of the closed sheet.
    closed : bool
        The other direction is closed already.

    Notes
    -----
    Both ends of the overlap show the same elements, so what their means along the edge differ by is light or drift. It
    is smoothed along the edge and added as a ramp over the whole sheet, the least change that makes the ends agree: a
    blend alone would have to do so within the overlap, which is narrow and would be seen as a step in every repeat.
    """
    if kind is Kind.ID:
        return pixels
    values = slopes_of(pixels, task) if kind is Kind.NORMAL else pixels
    turned = axis == 0
    n = values.shape[axis] - keep
    near, far = (values[:n], values[keep:]) if turned else (values[:, :n], values[:, keep:])

    def along(strip: Floats) -> Floats:
        line = np.ascontiguousarray(strip.mean(axis, dtype=np.float64), np.float32)  # (length, C)
        sigma = max(1.0, min(n, 0.12 * len(line)))
        return blur(np.ascontiguousarray(line[:, None]), (0.0, sigma), closed)[:, 0]

    ratio = kind is Kind.COLOUR
    a, b = along(near), along(far)
    gap = np.log(np.maximum(a, DARKEST)) - np.log(np.maximum(b, DARKEST)) if ratio else a - b
    out = np.empty(values.shape, np.float32)
    run = partial(_ramp, values, np.ascontiguousarray(gap, np.float32), ratio, keep, turned, out)
    over_rows(out.shape[0], run, task, cost=out.shape[1] * out.shape[2] * 1e-3)
    return normals_of(out, task) if kind is Kind.NORMAL else out
