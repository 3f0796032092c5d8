"""Watersheds on a sheet that may go on at its other side: basins of a plane, flooded from the lowest place up."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import kernel

Labels = NDArray[np.int32]
LEVELS = 4096


@kernel("u2[:,::1], i4[:,::1], b1, i4[::1], i4[::1], i4[::1]")
def _flood(level, labels, wraps, first, last, after):  # type: ignore[no-untyped-def]
    # Queues of texels by level; a texel takes the basin that reaches it first (Meyer 1994). Negative labels are not entered.
    rows, cols = level.shape
    for k in range(first.shape[0]):
        first[k] = -1
    for y in range(rows):
        for x in range(cols):
            if labels[y, x] > 0:
                i = y * cols + x
                k = level[y, x]
                after[i] = -1
                if first[k] < 0:
                    first[k] = i
                else:
                    after[last[k]] = i
                last[k] = i
    at = 0
    while at < first.shape[0]:
        i = first[at]
        if i < 0:
            at += 1
            continue
        first[at] = after[i]
        y, x = i // cols, i % cols
        for n in range(4):
            yy = y + (1 if n == 0 else -1 if n == 1 else 0)
            xx = x + (1 if n == 2 else -1 if n == 3 else 0)
            if wraps:
                yy, xx = (yy + rows) % rows, (xx + cols) % cols
            elif yy < 0 or xx < 0 or yy >= rows or xx >= cols:
                continue
            if labels[yy, xx] != 0:
                continue
            labels[yy, xx] = labels[y, x]
            k = max(level[yy, xx], at)
            j = yy * cols + xx
            after[j] = -1
            if first[k] < 0:
                first[k] = j
            else:
                after[last[k]] = j
            last[k] = j


def flooded(plane: Floats, markers: Labels, wraps: bool) -> Labels:
    """Every texel in the basin of the marker whose water reaches it first.

    Parameters
    ----------
    plane : float32 array, shape (H, W)
        Barriers are high.
    markers : int32 array, shape (H, W)
        Above zero where a basin begins, 0 elsewhere.

    References
    ----------
    Meyer, Topographic distance and watershed lines, Signal Processing 38, 1994.

    >>> flooded(np.float32([[0, 1, 3, 1, 0]]), np.int32([[1, 0, 0, 0, 2]]), False).tolist()
    [[1, 1, 1, 2, 2]]
    """
    low, high = float(plane.min()), float(plane.max())
    level = np.clip((plane - low) * ((LEVELS - 1) / max(high - low, 1e-12)), 0, LEVELS - 1).astype(np.uint16)
    labels = np.ascontiguousarray(markers, np.int32).copy()
    first, last = np.empty(LEVELS, np.int32), np.empty(LEVELS, np.int32)
    _flood(np.ascontiguousarray(level), labels, wraps, first, last, np.empty(labels.size, np.int32))
    return labels


def connected(mask: NDArray[np.bool_], wraps: bool) -> tuple[Labels, int]:
    """Numbers of what hangs together in a mask, from 1; what meets across the edges of a sheet that wraps is one.

    >>> labels, count = connected(np.array([[True, False, True]]), wraps=True)
    >>> labels.tolist(), count
    ([[1, 0, 1]], 1)
    """
    import cv2

    count, labels = cv2.connectedComponents(mask.astype(np.uint8), connectivity=4)
    labels = labels.astype(np.int32)
    if not wraps:
        return labels, count - 1
    parent = np.arange(count)

    def root(i: int) -> int:
        while parent[i] != i:
            parent[i] = parent[parent[i]]
            i = parent[i]
        return i

    for one, other in ((labels[0], labels[-1]), (labels[:, 0], labels[:, -1])):
        both = (one > 0) & (other > 0)
        for a, b in np.unique(np.stack([one[both], other[both]], 1), axis=0):
            parent[root(int(a))] = root(int(b))
    roots = np.array([root(i) for i in range(count)])
    names = np.zeros(count, np.int32)
    kept = np.unique(roots[1:]) if count > 1 else np.empty(0, int)
    names[kept] = np.arange(1, len(kept) + 1)
    return names[roots][labels].astype(np.int32), len(kept)
