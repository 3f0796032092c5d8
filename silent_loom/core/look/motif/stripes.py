"""Stripes: what repeats one way only, told from an autocorrelation."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.lazy_modules import later

ndimage = later("scipy.ndimage")

STRAIGHT = 0.105
"""How far the sides of a repeat may be from square, and lean without a cost: six degrees."""
MOST = 0.52
"""Longest repeat looked for, as a part of the sheet: it has to be seen twice."""


def vertex(before: float, at: float, after: float) -> float:
    """Where between its neighbours a peak has its top, −½…½: that of the parabola through all three.

    >>> vertex(1.0, 3.0, 2.0)
    0.16666666666666666
    """
    bend = before - 2 * at + after
    return 0.0 if bend >= -1e-12 else float(np.clip(0.5 * (before - after) / bend, -0.5, 0.5))


def tops_of(profile: NDArray[np.float64], start: int) -> NDArray[np.int_]:
    """Where a profile has its tops, from a place on.

    >>> tops_of(np.array([0.0, 1, 0, 2, 0]), 0).tolist()
    [1, 3]
    """
    tops = np.flatnonzero((profile[1:-1] > profile[:-2]) & (profile[1:-1] >= profile[2:])) + 1
    return tops[tops >= start]


def multiples(profile: NDArray[np.float64], top: int, slack: float, most: int | None = None) -> tuple[float, float, float] | None:
    """What a profile says of a period: its length by all its multiples, the least value at one of them, and by how much that
    lies above the mean of the values half way between; None where fewer than two are seen.

    ``top`` is the first one, the others are looked for ``slack`` of it around where they belong, ``most`` of them at most.

    >>> profile = np.cos(np.arange(64) * 2 * np.pi / 16)
    >>> round(multiples(profile, 16, 0.15)[0], 2)
    16.0
    """
    places = [float(top)]
    while len(places) != most and places[-1] + top + 2 < len(profile):
        guess, reach = places[-1] * (1 + 1 / len(places)), max(1, round(slack * top))
        near = np.arange(round(guess) - reach, round(guess) + reach + 1)
        near = near[(near > 0) & (near < len(profile) - 1)]
        if not len(near):
            break
        at = int(near[profile[near].argmax()])
        places.append(at + vertex(profile[at - 1], profile[at], profile[at + 1]))
    if len(places) < 2:
        return None
    k = np.arange(1, len(places) + 1)
    period = float((k * places).sum() / (k * k).sum())
    on, off = profile[np.rint(places).astype(int)], profile[np.rint((k - 0.5) * period).astype(int)]
    return period, float(on.min()), float(on.min() - off.mean())


@dataclass(frozen=True)
class Stripes:
    """Lines that repeat: across what the period runs (0 across, 1 down), its length, and how far they lean."""

    axis: int
    period: float
    lean: float
    score: float
    along: float  # low quartile of the correlation along a line


def find_stripes(c: NDArray[np.float64], w: int, h: int) -> Stripes | None:
    """Lines along which the correlation stays high, and that repeat.

    Parameters
    ----------
    c : array
        Normalised correlation for all displacements, zero at [0, 0]: see `lattice.correlation`.
    w, h : int
        Texels of the sheet it is of.

    Notes
    -----
    Of all directions within six degrees of a side the one along which the correlation stays highest is that of the
    lines. The mean along lines beside it, by their distance, then has a peak at every multiple of the period.

    >>> find_stripes(np.eye(64), 64, 64) is None
    True
    """
    best: Stripes | None = None
    for axis in (0, 1):
        field, n, length = (c, w, h) if axis == 0 else (c.T, h, w)
        rows, columns = field.shape
        t = np.arange(-int(0.5 * length), int(0.5 * length) + 1)
        t = t[np.abs(t) > 0.04 * length]
        leans = np.arange(-STRAIGHT, STRAIGHT, 0.7 / length)
        lines = field[t[:, None] % rows, np.rint(t[:, None] * leans).astype(int) % columns]
        lows = np.percentile(lines, 25, axis=0)
        lean, along = float(leans[int(lows.argmax())]), float(lows.max())
        if along < 0.4:
            continue
        d = np.arange(0, int(MOST * n) + 1)
        profile = field[t[:, None] % rows, np.rint(d + t[:, None] * lean).astype(int) % columns].mean(0)
        smooth = ndimage.gaussian_filter1d(profile, 1.0)
        turns = np.flatnonzero((smooth[1:-1] < smooth[:-2]) & (smooth[1:-1] <= smooth[2:])) + 1
        if not len(turns):
            continue
        for top in tops_of(smooth, int(turns[0]) + 1):
            found = multiples(smooth, int(top), 0.04, 12)
            if found is None:
                break
            period, least, score = found
            if least >= 0.55 * along and score >= 0.3:
                if best is None or score > best.score:
                    best = Stripes(axis, period, lean, score, along)
                break
    return best
