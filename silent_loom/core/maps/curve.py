"""Tone curves through points: smooth, and never going back where the points do not."""

from __future__ import annotations

from itertools import pairwise

import numpy as np

from silent_loom.core.base.images import Floats

Points = tuple[tuple[float, float], ...]
STRAIGHT: Points = ((0.0, 0.0), (1.0, 1.0))


def checked(points: Points) -> Points:
    """Points in rising order of x.

    >>> checked(((1.0, 1.0), (0.0, 0.25)))
    ((0.0, 0.25), (1.0, 1.0))

    Raises
    ------
    ValueError
        Fewer than two, two at one place, or outside 0…1.
    """
    if not 2 <= len(points) <= 32:
        raise ValueError("a curve has 2 to 32 points")
    ordered = tuple(sorted(points))
    if any(b[0] - a[0] < 1e-4 for a, b in pairwise(ordered)):
        raise ValueError("two points of the curve are at the same place")
    if any(not 0 <= v <= 1 for p in ordered for v in p):
        raise ValueError("points of a curve lie between 0 and 1")
    return ordered


def table(points: Points, size: int = 4096) -> Floats:
    """The curve at ``size`` even places from 0 to 1 (monotone cubic, Fritsch & Carlson 1980), flat beyond its ends.

    >>> table([(0, 0), (1, 1)], size=5).tolist()
    [0.0, 0.25, 0.5, 0.75, 1.0]
    """
    from scipy.interpolate import PchipInterpolator  # here, as it takes a third of a second to load

    x, y = np.array([p[0] for p in points]), np.array([p[1] for p in points])
    at = np.clip(np.linspace(0, 1, size), x[0], x[-1])
    out: Floats = PchipInterpolator(x, y)(at).astype(np.float32)
    return out


def through(plane: Floats, points: Points) -> Floats:
    """A plane of 0…1 through a curve; what lies outside takes the value of the nearer end.

    >>> through(np.float32([0.0, 0.5, 2.0]), ((0.0, 1.0), (1.0, 0.0))).tolist()
    [1.0, 0.5, 0.0]
    """
    if points == STRAIGHT:
        return np.clip(plane, 0, 1)
    t = table(points)
    out: Floats = np.interp(plane.ravel(), np.linspace(0, 1, len(t)), t).reshape(plane.shape).astype(np.float32)
    return out
