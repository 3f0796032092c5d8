"""The outline of each element about its own middle: whether two are alike, and whether one is clear enough to be moved."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.maps.elements import inner_of, measured, offsets
from silent_loom.core.maps.flood import Labels
from silent_loom.core.moving.resample import blur

ANGLES = 64
"""Directions in which an outline is known."""
FULL = 0.8
"""Part of its outline that an element fills, at least: a crescent, or two stones taken for one, do not."""
CLEAR = 1.3
"""How much stronger edges are along the border of an element than within it, at least."""
LONGEST = 4.0
"""Texels from a border within which its edge is sought: borders run along the middle of joints."""


@dataclass(frozen=True)
class Outlines:
    """Outlines of labels 0…n, by label.

    Attributes
    ----------
    wide : float array, shape (2, n + 1)
        Standard deviation of each across and down the sheet, in texels; at least half a texel.
    radii : float array, shape (n + 1, ANGLES)
        From the middle to the outline, in these standard deviations, from the right on towards the bottom.
    filled : float array, shape (n + 1,)
        Part of the outline that the element fills, about 1 for stones, bricks, slates.
    whole : bool array, shape (n + 1,)
        False where the edge of a sheet that does not wrap cuts it.
    """

    wide: NDArray[np.float64]
    radii: NDArray[np.float64]
    filled: NDArray[np.float64]
    whole: NDArray[np.bool_]


def outlines(labels: Labels, wraps: bool) -> Outlines:
    """Outlines of every label; see `Outlines`.

    >>> y, x = np.mgrid[0:64, 0:64]
    >>> told = outlines((np.hypot(x - 32, y - 32) < 20).astype(np.int32), False)
    >>> bool(np.ptp(told.radii[1]) < 0.1 * told.radii[1].mean()), round(float(told.filled[1]), 1)
    (True, 1.0)
    """
    h, w = labels.shape
    told = measured(labels, wraps)
    count = len(told.area)
    yy, xx = np.mgrid[0:h, 0:w]
    dx, dy = offsets(xx, told.x[labels], w, wraps), offsets(yy, told.y[labels], h, wraps)
    area = np.maximum(told.area, 1)
    wide = np.stack([np.sqrt(np.bincount(labels.ravel(), np.square(d).ravel(), minlength=count) / area) for d in (dx, dy)])
    wide = np.maximum(wide, 0.5)
    u, v = dx / wide[0][labels], dy / wide[1][labels]
    turn = (np.arctan2(v, u) / (2 * np.pi) * ANGLES) % ANGLES
    radii = np.zeros((count, ANGLES))
    for at in (np.floor(turn), np.ceil(turn)):  # each texel speaks for the directions on both sides of it
        np.maximum.at(radii, (labels.ravel(), (at.ravel() % ANGLES).astype(np.int64)), np.hypot(u, v).ravel())
    radii = _closed(radii)
    filled = area / np.maximum(wide[0] * wide[1] * np.square(radii).sum(1) * (np.pi / ANGLES), 1e-9)
    whole = np.ones(count, bool)
    if not wraps:
        whole[np.unique(np.concatenate([labels[0], labels[-1], labels[:, 0], labels[:, -1]]))] = False
    return Outlines(wide, radii, filled, whole)


def _closed(radii: NDArray[np.float64]) -> NDArray[np.float64]:
    """Directions in which a small element has no texel, from those beside them."""
    for _ in range(ANGLES // 2):
        if (radii > 0).all():
            break
        beside = np.maximum(np.roll(radii, 1, 1), np.roll(radii, -1, 1))
        radii = np.where(radii > 0, radii, beside)
    return np.maximum(radii, 0.5)


def unlike(one: NDArray[np.float64], others: NDArray[np.float64]) -> NDArray[np.float64]:
    """How far outlines are from one of them, as a part of its size: the mean over all directions.

    Parameters
    ----------
    one : array, shape (ANGLES,)
    others : array, shape (N, ANGLES)

    >>> unlike(np.full(64, 1.0), np.full((1, 64), 1.1)).round(3).tolist()
    [0.1]
    """
    return np.asarray(np.abs(others - one).mean(1) / one.mean())


def clearness(labels: Labels, planes: Floats, wraps: bool) -> NDArray[np.float64]:
    """How much stronger edges are along the border of each element than within it; 1 where its border is nothing special.

    Parameters
    ----------
    planes : float32 array, shape (H, W, K)
        Features in which equal differences look equally strong.

    >>> labels = np.repeat(np.repeat(np.array([[1, 2]], np.int32), 32, 1), 64, 0)
    >>> flat = np.random.default_rng(1).normal(0, 0.01, (64, 64, 1)).astype(np.float32)
    >>> stepped = flat + (labels == 2)[..., None].astype(np.float32)
    >>> bool(clearness(labels, flat, False)[1] < CLEAR < clearness(labels, stepped, False)[1])
    True
    """
    import cv2

    soft = blur(np.ascontiguousarray(planes), 0.7, wraps)
    edge = np.sqrt(sum(np.square(soft - np.roll(soft, 1, axis)).sum(2) for axis in (0, 1))).astype(np.float32)
    if not wraps:
        edge[0], edge[:, 0] = 0, 0
    reach = round(LONGEST) | 1
    near = cv2.dilate(edge, np.ones((reach, reach), np.uint8))
    border = ~inner_of(labels, wraps)
    around = cv2.dilate(border.astype(np.uint8), np.ones((2 * reach + 1, 2 * reach + 1), np.uint8)) > 0
    count = int(labels.max()) + 1

    def usual(where: NDArray[np.bool_]) -> NDArray[np.float64]:
        names = labels[where]
        n = np.bincount(names, minlength=count)
        return np.asarray(np.sqrt(np.bincount(names, np.square(near[where]), minlength=count) / np.maximum(n, 1)))

    on, within = usual(border), usual(~around)
    return np.where(within > 0, on / np.maximum(within, 1e-6), np.inf)
