"""Lines that should be parallel, or level, and are not: a photo seen askew, or turned."""

from __future__ import annotations

import math
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats

SHARED = 0.4
"""How much of all lines along an axis has to lean alike, to three quarters of a degree, for a picture to be turned."""
AGREE = 1.0
"""Degrees by which what runs down and what runs across may disagree on that."""


def most_contrast(colour: Floats) -> Floats:
    """The mix of the channels in which detail stands out most, stretched to 0…1: red bricks in grey joints may be as
    light as these (first principal component of what is finer than a hundredth of the picture).

    >>> most_contrast(np.random.default_rng(1).random((8, 8, 3)).astype(np.float32)).shape
    (8, 8)
    """
    fine = colour - cv2.GaussianBlur(colour, (0, 0), max(colour.shape) / 100)
    axes = np.linalg.eigh(np.cov(fine.reshape(-1, colour.shape[2])[::7].T.astype(np.float64)))[1]
    plane = (colour @ axes[:, -1]).astype(np.float32)
    low, high = np.percentile(plane, [1, 99])
    return np.clip((plane - low) / max(float(high - low), 0.05), 0, 1).astype(np.float32)


REACH = 25.0
"""Degrees from an axis within which lines are taken to run along it."""
LEAST = 12
"""Lines, or windows, by which a tilt is told."""
WINDOWS = 8
"""Windows across the picture in which its grain is looked at."""


@dataclass(frozen=True)
class Tilt:
    """Lines that should be parallel, or level, and are not.

    Attributes
    ----------
    vertical, horizontal : float
        By how many degrees lines that run down, and lines that run across, converge over the picture.
    corners : list of four corners, or None
        Of the rectangle behind converging lines, clockwise from the top left, as parts of the picture.
    turned : float
        Degrees, clockwise, by which lines that are parallel lean all alike; 0 where they do not, or converge.
    """

    vertical: float
    horizontal: float
    corners: list[tuple[float, float]] | None
    turned: float = 0.0


def tilt(grey: Floats) -> Tilt:
    """How far lines that run down, and lines that run across, converge over the picture, or lean.

    Notes
    -----
    Line segments (von Gioi et al., LSD, PAMI 32, 2010) within 25 degrees of an axis; their lean is fitted robustly as a
    linear function of their place across. Where there are none, the same is done with the main direction of gradients in
    windows (Malik & Rosenholtz, Computing local surface orientation and shape from texture, IJCV 23, 1997). Counted only when
    many agree. What runs both ways must lean both ways
    alike to be turned: the sides of lozenges do not.

    >>> tilt(np.random.default_rng(1).random((64, 64)).astype(np.float32)).corners is None
    True
    """
    h, w = grey.shape
    codes = np.clip(grey * 255, 0, 255).astype(np.uint8)
    codes = cv2.GaussianBlur(codes, (0, 0), 1.0)
    lines = cv2.createLineSegmentDetector().detect(codes)[0]
    if lines is None:
        return Tilt(0.0, 0.0, None)
    p: NDArray[np.float64] = lines.reshape(-1, 4).astype(np.float64)
    length: NDArray[np.float64] = np.hypot(p[:, 2] - p[:, 0], p[:, 3] - p[:, 1])
    long = length > 0.03 * max(h, w)
    p, length = p[long], length[long]
    fits: list[tuple[float, float] | None] = []
    leans: list[tuple[float, float] | None] = []
    grain: Grain | None = None
    for axis in (0, 1):
        along, across = p[:, 3 - axis] - p[:, 1 - axis], p[:, 2 + axis] - p[:, axis]  # axis 0: lines that run down
        lean = np.degrees(np.arctan2(across * np.sign(along), np.abs(along)))
        near = np.abs(lean) < REACH
        place = (p[:, axis] + p[:, 2 + axis]) / 2 / (w, h)[axis] - 0.5
        fit = None
        if near.sum() >= LEAST:
            fit = _fitted(place[near], lean[near], length[near] / length[near].mean(), 5, 2.5)
        leans.append(_common(lean[near], length[near] / length[near].mean()) if near.sum() >= LEAST else None)
        if fit is None or fit[1] == 0.0:  # no single lines, but all that there is may run one way: grain, fibres, ribs
            grain = grain or Grain(grey)
            every = grain.leans(axis)
            fit = _fitted(*every, 6, 3.0) if len(every[0]) >= LEAST else None
        fits.append(fit)
    down, over = fits[0], fits[1]
    vertical, horizontal = (down[1] if down else 0.0), (over[1] if over else 0.0)
    if abs(vertical) < 1.0 and abs(horizontal) < 1.0:
        return Tilt(vertical, horizontal, None, _turned(leans))
    return Tilt(vertical, horizontal, _quad(down or (0.0, 0.0), over or (0.0, 0.0), w, h))


def _fitted(
    x: NDArray[np.float64], y: NDArray[np.float64], q: NDArray[np.float64], clear: float, most: float
) -> tuple[float, float]:
    """The lean in the middle, and by how much it grows over the picture: 0 where that is less than so many times its error,
    or leans differ by more than so many degrees from it."""
    weight = q.copy()
    solved: NDArray[np.float64] = np.zeros(2)
    scale, rest = 5.0, np.zeros_like(y)
    m = np.stack([np.ones_like(x), x], 1)
    for _ in range(12):
        solved = np.asarray(np.linalg.lstsq(m * weight[:, None] ** 0.5, y * weight**0.5, rcond=None)[0], np.float64)
        rest = y - m @ solved
        scale = max(0.15, 1.4826 * float(np.median(np.abs(rest))))
        weight = q / (1 + (rest / (1.5 * scale)) ** 2) ** 2
    spread = float(np.sqrt((weight * (x - np.average(x, weights=weight)) ** 2).sum()))
    error = scale / max(spread, 1e-6)
    inliers = float((np.abs(rest) < 2.0 * scale).mean())
    sure = abs(solved[1]) > clear * error and inliers > 0.5 and scale < most
    return float(solved[0]), float(solved[1]) if sure else 0.0


class Grain:
    """Which way what there is on a picture runs, in overlapping windows.

    >>> y, x = np.mgrid[0:128, 0:128]
    >>> _, leans, _ = Grain((np.sin(x + 0.1 * y) / 2 + 0.5).astype(np.float32)).leans(0)
    >>> bool(np.abs(leans + np.degrees(np.arctan(0.1))).max() < 0.5)
    True
    """

    def __init__(self, grey: Floats) -> None:
        soft = cv2.GaussianBlur(grey, (0, 0), 1.0)
        gx, gy = (cv2.Scharr(soft, cv2.CV_32F, *d) for d in ((1, 0), (0, 1)))
        strength, angle = cv2.cartToPolar(gx, gy, angleInDegrees=True)
        self.side = max(4, grey.shape[1] // WINDOWS)
        self.strength = np.square(strength)
        # Twice as many bins as degrees, for directions of which the opposite is the same
        self.bins = (np.rint(2 * angle - 0.5).astype(np.int16)) % 360

    def leans(self, axis: int) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
        """The lean of what runs along an axis in every window where something does, where the window is, and how clearly it
        runs there.

        By the directions of gradients, each weighed by its square: they lie across whatever runs.
        """
        h, w = self.bins.shape
        reach = round(2 * REACH) + 10
        middle = (np.arange(-reach, reach) + 0.5) / 2
        wanted = np.arange(-reach, reach) + (0 if axis == 0 else 180)
        found = []
        for y0 in range(0, h - self.side // 2, max(1, self.side // 2)):
            for x0 in range(0, w - self.side // 2, max(1, self.side // 2)):
                counts = self._counts(y0, x0)[wanted % 360]
                smooth = np.convolve(counts, np.ones(5) / 5, "same")
                at = int(smooth[10:-10].argmax()) + 10
                near = np.maximum(counts[at - 6 : at + 7] - np.median(smooth), 0)
                clear = float(smooth[at] / max(float(smooth.mean()), 1e-12)) - 1.3
                if clear > 0 and near.sum() > 0:
                    lean = float((near * middle[at - 6 : at + 7]).sum() / near.sum())
                    place = (x0 + self.side / 2) / w if axis == 0 else (y0 + self.side / 2) / h
                    found.append((place - 0.5, -lean if axis == 0 else lean, clear))
        x, y, q = (np.array(v, np.float64) for v in zip(*found, strict=True)) if found else (np.zeros(0),) * 3
        return x, y, q

    def _counts(self, y0: int, x0: int) -> NDArray[np.float64]:
        """How much of the gradients in a window points in each direction."""
        window = np.s_[y0 : y0 + self.side, x0 : x0 + self.side]
        strength = self.strength[window]
        most = np.percentile(strength[::2, ::2], 98)  # one strong edge is no more than one edge
        return np.asarray(np.bincount(self.bins[window].ravel(), np.minimum(strength, most).ravel(), 360), np.float64)


def _common(lean: NDArray[np.float64], weight: NDArray[np.float64]) -> tuple[float, float] | None:
    """The lean that most segments share, in degrees, and how much of their length shares it; None where there is none."""
    half = 0.75
    places = np.arange(-25, 25.01, 0.25)
    share = np.array([weight[np.abs(lean - p) <= half].sum() for p in places]) / weight.sum()
    best = float(places[int(share.argmax())])
    part = float(share.max())
    there = np.abs(lean - best) <= half
    if part < SHARED or there.sum() < 12:
        return None
    return float(np.average(lean[there], weights=weight[there])), part


def _turned(leans: list[tuple[float, float] | None]) -> float:
    """Degrees, clockwise, from how lines that run down and lines that run across lean."""
    down, over = leans
    # A line that runs down leans to the right for a turn anticlockwise, one that runs across leans down for one with it
    told = [(-down[0], down[1])] if down else []
    told += [(over[0], over[1])] if over else []
    if not told or (len(told) == 2 and abs(told[0][0] - told[1][0]) > AGREE):
        return 0.0
    return float(np.average([t for t, _ in told], weights=[p for _, p in told]))


def _quad(down: tuple[float, float], over: tuple[float, float], w: int, h: int) -> list[tuple[float, float]] | None:
    """The rectangle behind leaning lines: as large as fits into the picture, corners as parts of it."""

    def meet(x: float, y: float) -> tuple[float, float]:
        # The line that runs down through place x of the middle row, and the one that runs across through y
        a, b = math.tan(math.radians(down[0] + down[1] * x)), math.tan(math.radians(over[0] + over[1] * y))
        # X = x w + a Y, Y = y h + b X, both from the centre
        denominator = 1 - a * b
        px = (x * w + a * y * h) / denominator
        py = (y * h + b * x * w) / denominator
        return px / w + 0.5, py / h + 0.5

    for size in np.arange(0.5, 0.2, -0.01):
        corners = [meet(sx * size, sy * size) for sx, sy in ((-1, -1), (1, -1), (1, 1), (-1, 1))]
        if all(0 <= c <= 1 for p in corners for c in p):
            return [(round(float(x), 5), round(float(y), 5)) for x, y in corners]
    return None
