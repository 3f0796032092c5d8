"""Normals as slopes, which may be averaged, blended and moved as other samples are, and back."""

from __future__ import annotations

from functools import partial

import numpy as np

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import Task, over_rows


@kernel("f4[:,:,::1], f4[:,:,::1], i8, i8", "f4[:,:,:], f4[:,:,::1], i8, i8")
def _to_slopes(src, out, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(src.shape[1]):
            z = max(src[y, x, 2], np.float32(1e-3))
            out[y, x, 0], out[y, x, 1] = -src[y, x, 0] / z, -src[y, x, 1] / z


@kernel("f4[:,:,::1], f4[:,:,::1], i8, i8")
def _to_normals(src, out, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(src.shape[1]):
            a, b = src[y, x, 0], src[y, x, 1]
            n = np.float32(1) / np.sqrt(a * a + b * b + np.float32(1))
            out[y, x, 0], out[y, x, 1], out[y, x, 2] = -a * n, -b * n, n


def slopes_of(normals: Floats, task: Task) -> Floats:
    """Normal vectors as slopes (−x/z, −y/z), shape (H, W, 2).

    >>> slopes_of(np.float32([[[0.6, 0.0, 0.8]]]), Task()).astype(float).round(4).tolist()
    [[[-0.75, -0.0]]]
    """
    out = np.empty((*normals.shape[:2], 2), np.float32)
    over_rows(out.shape[0], partial(_to_slopes, normals, out), task)
    return out


def normals_of(slopes: Floats, task: Task) -> Floats:
    """Unit normals of slopes.

    >>> normals_of(np.float32([[[-0.75, 0.0]]]), Task()).astype(float).round(4).tolist()
    [[[0.6, -0.0, 0.8]]]
    """
    out = np.empty((*slopes.shape[:2], 3), np.float32)
    over_rows(out.shape[0], partial(_to_normals, slopes, out), task)
    return out
