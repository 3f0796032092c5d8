"""Whether courses are as wide across a join as they are elsewhere: one that is crushed, one that is doubled, two run together."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.lazy_modules import later

ndimage = later("scipy.ndimage")

BROAD = 0.08
"""What varies more slowly than this, as a part of the sheet, is light."""
NARROW = 0.003
"""How far the lines between courses are spread, as a part of the sheet."""
STANDS_OUT = 0.4
"""Part of the usual prominence of lines that a line must have to be one."""
COURSES = 6
"""Fewer within the sheet say nothing of how wide they usually are."""
ALIKE = 0.3
"""How much the widths of courses may vary, as a part of their mean, for them to be courses at all."""
LEAST = 5
"""Texels of the narrowest courses that are told apart."""
NEAR = 0.75
"""Texels by which a width may be off, as lines are found to a whole column."""
EDGE = 1.5
"""Texels beside a line within which a join still runs along it."""
SHARED = 0.6
"""How far the upper and the lower half of a sheet agree on where lines run, at least, where courses run through all of it."""
OVER_GRAIN = 3.0
"""How far lines must stand out of what is left of the grain once whole lines of texels are averaged."""


def courses_out(planes: NDArray[np.float32], joins: NDArray[Any] | None = None) -> float:
    """How far the widths of courses at a join lie outside what they are elsewhere; 0 where there are no courses.

    Parameters
    ----------
    planes : float32 array, shape (H, W, K)
        Features of a sheet whose left and right edges are laid side by side.
    joins : array, shape (N,), optional
        Column of the join, along it from the top to the bottom, in columns of ``planes``; the border unless given.

    Returns
    -------
    float
        1 where a course at the join is as narrow or as wide as the narrowest or widest elsewhere; 2 where it is half as
        narrow, or twice as wide.

    Notes
    -----
    Lines between courses run through the whole sheet, so the mean of each column shows them and hides the grain; they are its
    peaks, those of one sign. A beat need not be even for this, as it must be for `broken.beat_broken`.

    >>> wall = np.zeros((64, 240, 1), np.float32)
    >>> wall[:, np.cumsum([0, 30, 26, 34, 28, 32, 30, 29])] = 1.0
    >>> bool(courses_out(wall) > 1.3), courses_out(wall[:, :-1]) > 0
    (False, True)
    """
    h, w, _ = planes.shape
    if w < 64 or h < 8:
        return 0.0
    profile, grain, shared = _profile(planes)
    if shared < SHARED:
        return 0.0
    return max(_out(_lines(sign * profile, grain), w, joins) for sign in (1.0, -1.0))


def _profile(planes: NDArray[np.float32]) -> tuple[NDArray[np.float64], float, float]:
    """Lightness by column without what is broad; how much of it is grain, which two halves of the sheet do not share; and how
    far these halves agree."""
    h, w, _ = planes.shape
    halves = [planes[: h // 2, :, 0].mean(0, dtype=np.float64), planes[h // 2 :, :, 0].mean(0, dtype=np.float64)]
    near = [ndimage.gaussian_filter1d(p, max(0.6, NARROW * w), mode="wrap") for p in halves]
    told = [p - ndimage.gaussian_filter1d(p, BROAD * w, mode="wrap") for p in near]
    spread = float(told[0].std() * told[1].std())
    shared = float((told[0] * told[1]).mean()) / spread if spread > 1e-12 else 0.0
    return (told[0] + told[1]) / 2, float(np.std(told[0] - told[1])) / 2, shared


def _lines(profile: NDArray[np.float64], grain: float) -> NDArray[np.int64]:
    """Columns of the lines between courses, where the profile is high."""
    w = len(profile)
    around = np.tile(profile, 3)
    tops = _tops(around)
    tops = tops[(tops >= w) & (tops < 2 * w)]
    much = np.array([_prominence(around, int(top)) for top in tops])
    out = much >= max(OVER_GRAIN * grain, 1e-6)
    tops, much = tops[out] - w, much[out]
    return np.asarray(tops[much >= STANDS_OUT * np.median(np.sort(much)[-COURSES:])] if len(tops) else tops, np.int64)


def _tops(line: NDArray[np.float64]) -> NDArray[np.int64]:
    """Where a line is higher than on both sides; in the middle of what is level."""
    steps = np.flatnonzero(np.diff(line))  # the last places of what is level
    rises, falls = line[steps + 1] > line[steps], line[steps + 1] < line[steps]
    at = np.flatnonzero(rises[:-1] & falls[1:])
    return (steps[at] + 1 + steps[at + 1]) // 2


def _prominence(line: NDArray[np.float64], top: int) -> float:
    """How far a peak stands above the higher of the two lowest places that part it from what is higher."""
    left, right = line[:top][::-1], line[top + 1 :]
    ends = [int(np.argmax(side > line[top])) if (side > line[top]).any() else len(side) for side in (left, right)]
    return float(line[top] - max(side[:end].min(initial=line[top]) for side, end in zip((left, right), ends, strict=True)))


def _out(lines: NDArray[np.int64], w: int, joins: NDArray[Any] | None) -> float:
    widths = np.diff(np.append(lines, lines[:1] + w)).astype(np.float64)
    first, last = (0.0, 0.0) if joins is None else (float(np.min(joins)), float(np.max(joins)))
    # A course is at the join if the join runs anywhere within it, or right along its side
    spans = [(first + k * w - EDGE, last + k * w + EDGE) for k in (-1, 0, 1)]
    at = np.array([any(a <= x + n and x <= b for a, b in spans) for x, n in zip(lines, widths, strict=True)], bool)
    inside = widths[~at]
    if len(inside) < COURSES or not at.any() or inside.std() > ALIKE * inside.mean() or inside.mean() < LEAST:
        return 0.0
    return float(max((inside.min() / (widths[at] + NEAR)).max(), ((widths[at] - NEAR) / inside.max()).max()))
