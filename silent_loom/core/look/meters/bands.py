"""Whether light steps at a join: a band that is lighter on one side all along, however rough the surface is."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.lazy_modules import later

ndimage = later("scipy.ndimage")

PARTS = (1 / 64, 1 / 32, 1 / 16)
"""Widths of the strips on either side that are held against each other, as parts of the sheet."""
WINDOWS = 4
"""Parts of a join that are looked at by themselves, beside the whole of it."""
USUAL = 95
"""Percentile of the steps elsewhere that a join is held against."""
LEAST = 0.004
"""A step of less than this, in parts of 100 L*, is not seen on any surface."""


def light_steps(planes: NDArray[np.float32], joins: NDArray[Any] | None = None) -> float:
    """How far light steps at a join, against what it does on lines where nothing was joined.

    Parameters
    ----------
    planes : float32 array, shape (H, W, K)
        Features of a sheet whose left and right edges are laid side by side; the first is lightness.
    joins : array, shape (H,), optional
        Column of the join in every row; the border unless given.

    Returns
    -------
    float
        1 is as far as the surface itself does it hardly anywhere.

    Notes
    -----
    A step is what strips on both sides differ by, beyond what the surface changes by on either side anyway. It is averaged along
    the join with its sign: grain and elements go to nothing in that, a step of light stays. The eye does the same: it sums
    along lines far better than across them (Field, Hayes & Hess, Vision Research 33, 1993, association fields).

    >>> rough = np.random.default_rng(1).normal(0.5, 0.1, (128, 256, 1)).astype(np.float32)
    >>> light = rough + np.linspace(0, 0.08, 256, dtype=np.float32)[None, :, None]
    >>> light_steps(rough) < 1.3 < light_steps(light)
    True
    """
    h, w, _ = planes.shape
    if w < 64 or h < 16:
        return 0.0
    plane = planes[..., 0]
    if joins is not None:
        columns = (np.arange(w)[None, :] + np.rint(joins).astype(np.int64)[:, None]) % w
        plane = np.take_along_axis(plane, columns, 1)
    parts = np.array_split(np.clip(plane, *np.percentile(plane[::4, ::4], [10, 90])), WINDOWS)
    rows = [part.mean(0, dtype=np.float64) for part in parts]
    rows.append(np.mean(rows, 0))
    seen = np.zeros(w)
    for part in PARTS:
        n = max(2, round(part * w))
        for line in rows:
            mean = ndimage.uniform_filter1d(line, n, mode="wrap", origin=-(n // 2))  # of the n texels from here on
            step = mean - np.roll(mean, n)
            lacks = np.abs(step - 0.5 * (np.roll(step, n) + np.roll(step, -n)))
            seen = np.maximum(seen, lacks / max(float(np.percentile(lacks[n : w - n], USUAL)), LEAST))
    keep = max(2, round(PARTS[-1] * w))
    return float(seen[0] / max(float(np.percentile(seen[keep : w - keep], USUAL)), 1.0))
