"""Geometry of a photographed rectangle: its homography, its true proportions, and how sure they are."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

Points = NDArray[np.float64]


def homography(source: Points, target: Points) -> NDArray[np.float64]:
    """The 3×3 matrix that takes four points to four others (Hartley & Zisserman 2004, 4.1, normalised).

    >>> square = [(0, 0), (1, 0), (1, 1), (0, 1)]
    >>> (homography(np.array(square, float), np.array(square, float) * 2 + 1).round(3) + 0.0).astype(int).tolist()
    [[2, 0, 1], [0, 2, 1], [0, 0, 1]]

    Parameters
    ----------
    source, target : arrays, shape (4, 2)

    Raises
    ------
    ValueError
        Three of the points lie on a line.
    """

    def normaliser(p: Points) -> NDArray[np.float64]:
        centre, spread = p.mean(0), np.sqrt(((p - p.mean(0)) ** 2).sum(1).mean()) + 1e-12
        return np.array([[1 / spread, 0, -centre[0] / spread], [0, 1 / spread, -centre[1] / spread], [0, 0, 1]])

    for points in (source, target):
        area = np.ptp(points[:, 0]) * np.ptp(points[:, 1]) + 1e-30
        for i in range(4):
            a, b, c = (points[(i + k) % 4] for k in range(3))
            if abs((b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0])) < 1e-9 * area:
                raise ValueError("three corners lie on one line")
    ts, tt = normaliser(source), normaliser(target)
    s = np.c_[source, np.ones(4)] @ ts.T
    t = np.c_[target, np.ones(4)] @ tt.T
    rows = []
    for (x, y, _), (u, v, _) in zip(s, t, strict=True):
        rows += [[x, y, 1, 0, 0, 0, -u * x, -u * y, -u], [0, 0, 0, x, y, 1, -v * x, -v * y, -v]]
    vt = np.linalg.svd(np.array(rows))[2]
    h = np.linalg.inv(tt) @ vt[-1].reshape(3, 3) @ ts
    return np.asarray(h / h[2, 2] if abs(h[2, 2]) > 1e-12 else h)


def convex(corners: Points) -> bool:
    """True for a convex quadrilateral given clockwise on screen (y down), starting anywhere.

    >>> convex(np.array([(0, 0), (2, 0), (2, 1), (0, 1)], float)), convex(np.array([(0, 0), (2, 1), (2, 0), (0, 1)], float))
    (True, False)
    """
    edges = np.roll(corners, -1, 0) - corners
    turns = edges[:, 0] * np.roll(edges, -1, 0)[:, 1] - edges[:, 1] * np.roll(edges, -1, 0)[:, 0]
    return bool((turns > 1e-9).all())


@dataclass(frozen=True)
class Proportions:
    """Width over height of a photographed rectangle.

    Attributes
    ----------
    aspect : float
    error : float
        Relative uncertainty, one standard deviation.
    by : str
        'size', 'exif', 'perspective' or 'guess'.
    reason : str
        For a guess: why it is one.
    """

    aspect: float
    error: float
    by: str
    reason: str = ""


_SQUARE = np.array([[0, 0], [1, 0], [1, 1], [0, 1]], np.float64)


def _aspect_for(h: NDArray[np.float64], focal: NDArray[np.float64]) -> NDArray[np.float64]:
    """|K⁻¹h₁| / |K⁻¹h₂| for every focal length: width over height of the rectangle behind a unit square."""
    first = np.sqrt((h[0, 0] ** 2 + h[1, 0] ** 2) / focal**2 + h[2, 0] ** 2)
    second = np.sqrt((h[0, 1] ** 2 + h[1, 1] ** 2) / focal**2 + h[2, 1] ** 2)
    out: NDArray[np.float64] = first / np.maximum(second, 1e-15)
    return out


def _skew_for(h: NDArray[np.float64], focal: NDArray[np.float64]) -> NDArray[np.float64]:
    """Cosine of the angle between the two sides in space; 0 at the true focal length."""
    dot = (h[0, 0] * h[0, 1] + h[1, 0] * h[1, 1]) / focal**2 + h[2, 0] * h[2, 1]
    first = np.sqrt((h[0, 0] ** 2 + h[1, 0] ** 2) / focal**2 + h[2, 0] ** 2)
    second = np.sqrt((h[0, 1] ** 2 + h[1, 1] ** 2) / focal**2 + h[2, 1] ** 2)
    out: NDArray[np.float64] = dot / np.maximum(first * second, 1e-15)
    return out


def proportions(
    corners: Points, width: int, height: int, focal_px: float = 0.0, focal_error: float = 0.0, corner_error: float = 0.5
) -> Proportions:
    """True proportions of a photographed rectangle.

    The rectangle's two sides are orthogonal in space, which ties the focal length to the homography (Zhang & He 2006).
    That tie says nothing when the tilt is about one axis only, and little when it is slight. So every focal length from
    half to six times the picture's diagonal is weighed by how well it agrees with the tie, given the uncertainty of the
    corners, and with the camera's note (EXIF) where there is one; the proportions are the weighted mean.

    Parameters
    ----------
    corners : array, shape (4, 2)
        Clockwise from top left, texel centres.
    width, height : int
        Of the photo; the optical axis is taken to be at its centre.
    focal_px, focal_error : float
        From EXIF, with relative uncertainty; 0 when unknown.
    corner_error : float
        Standard deviation of a corner, in pixels.

    References
    ----------
    Zhang & He, Whiteboard scanning and image enhancement, Digital Signal Processing 17, 2007.

    >>> corners = np.array([[0.0, 0], [200, 0], [200, 100], [0, 100]])
    >>> round(proportions(corners, 200, 100).aspect, 2)
    2.0
    """
    centre = np.array([(width - 1) / 2, (height - 1) / 2])
    diagonal = float(np.hypot(width, height))
    points = (corners - centre) / diagonal
    h = homography(_SQUARE, points)
    focal = np.exp(np.linspace(np.log(0.45), np.log(6.0), 300))
    known = focal_px > 0
    if known:
        f0, sigma = focal_px / diagonal, max(focal_error, 0.003)
        focal = f0 * np.exp(np.linspace(-4 * sigma, 4 * sigma, 121))
        weight = np.exp(-0.5 * (np.log(focal / f0) / sigma) ** 2)
    else:
        # Most lenses used for surfaces lie between 24 and 85 mm equivalent: a broad hump, no more.
        weight = np.exp(-0.5 * (np.log(focal / 1.0) / 0.55) ** 2)
    noise = corner_error / diagonal
    aspects = _aspect_for(h, focal)
    skew = _skew_for(h, focal)
    # First-order spread of skew and aspect from each corner coordinate
    skew_var, aspect_var = np.zeros_like(focal), np.zeros_like(focal)
    step = 1e-5
    for i in range(4):
        for k in range(2):
            moved = points.copy()
            moved[i, k] += step
            hm = homography(_SQUARE, moved)
            skew_var += ((_skew_for(hm, focal) - skew) / step * noise) ** 2
            aspect_var += ((np.log(_aspect_for(hm, focal)) - np.log(aspects)) / step * noise) ** 2
    prior_spread = float(
        np.sqrt(np.average((np.log(aspects) - np.average(np.log(aspects), weights=weight)) ** 2, weights=weight))
    )
    weight = weight * np.exp(-0.5 * skew**2 / np.maximum(skew_var, 1e-14)) / np.sqrt(np.maximum(skew_var, 1e-14))
    if not np.isfinite(weight).all() or weight.sum() <= 0:
        # The tie contradicts every focal length considered: the centre is not the axis, or it is no rectangle.
        best = int(np.argmin(np.abs(skew)))
        return Proportions(float(aspects[best]), 0.1, "guess", "the corners do not look like those of a rectangle")
    weight /= weight.sum()
    mean = float((weight * np.log(aspects)).sum())
    spread = float(np.sqrt((weight * (np.log(aspects) - mean) ** 2).sum() + (weight * aspect_var).sum()))
    aspect = float(np.exp(mean))
    if known:
        return Proportions(aspect, spread, "exif")
    if spread < 0.02:
        informed = prior_spread > 1.5 * spread
        return Proportions(aspect, spread, "perspective" if informed or prior_spread < 0.02 else "guess")
    reason = "the tilt is about one axis and the photo does not say its focal length, so its proportions cannot be told"
    return Proportions(aspect, spread, "guess", reason)


def apply(h: NDArray[np.float64], points: Any) -> Points:
    """Points through a homography.

    >>> apply(np.diag([2.0, 3.0, 1.0]), [(1, 1)]).tolist()
    [[2.0, 3.0]]
    """
    p = np.asarray(points, np.float64)
    q = np.c_[p.reshape(-1, 2), np.ones(p.size // 2)] @ h.T
    out: Points = (q[:, :2] / q[:, 2:]).reshape(p.shape)
    return out
