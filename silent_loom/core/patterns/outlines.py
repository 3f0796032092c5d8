"""Shapes out of the paths of a drawing."""

from __future__ import annotations

from functools import lru_cache

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.images import Floats

LONGEST = 20_000
"""Letters of a path at most."""
FINE = 64
"""Straight pieces for each curve."""
SHIFT = 8
"""Bits of a texel's parts that are drawn."""


@lru_cache(maxsize=32)
def outlines(path: str) -> tuple[NDArray[np.float64], ...]:
    """Closed outlines of the ``d`` of an SVG path, each of shape (N, 2), fitted into −1…1 with its proportions kept.

    Raises
    ------
    WeaveError
        It is not such a path, or has no area.

    >>> [o.round(2).tolist() for o in outlines("M0 0 L1 0 L1 1 Z")]
    [[[-1.0, -1.0], [-1.0, -1.0], [-1.0, -1.0], [1.0, -1.0], [1.0, -1.0], [1.0, 1.0], [1.0, 1.0], [-1.0, -1.0]]]
    """
    from svgelements import Path

    if len(path) > LONGEST:
        raise WeaveError(f"the path has {len(path)} letters, at most {LONGEST} are read", "Path", "Draw it with fewer points.")
    try:
        parsed = Path(path)
        found = []
        for sub in parsed.as_subpaths():
            points: list[complex] = []
            for piece in Path(sub):
                straight = type(piece).__name__ in ("Move", "Line", "Close")
                steps = np.linspace(0, 1, 2 if straight else FINE)
                points += [complex(p.x, p.y) for p in (piece.point(t) for t in steps if piece.end is not None)]
            if len(points) > 2:
                found.append(np.array([(p.real, p.imag) for p in points]))
    except Exception as error:
        raise WeaveError(
            "this is no path of an SVG drawing", "Path", 'Take what stands in d="…" of a path: M 0 0 L 10 0 L 5 8 Z.'
        ) from error
    if not found or not np.isfinite(np.concatenate(found)).all():
        raise WeaveError("the path encloses nothing", "Path", "It begins with M, and has at least three points.")
    every = np.concatenate(found)
    area = sum(abs(float(np.sum(p[:, 0] * np.roll(p[:, 1], 1) - p[:, 1] * np.roll(p[:, 0], 1)))) for p in found)
    low, high = every.min(0), every.max(0)
    if (high - low).max() < 1e-9 or area < 1e-9 * (high - low).max() ** 2:
        raise WeaveError("the path encloses nothing", "Path", "It has at least three points, not all of them on one line.")
    return tuple((f - (low + high) / 2) * (2 / (high - low).max()) for f in found)


def drawn(
    path: str, width: int, height: int, middles: NDArray[np.float64], half: tuple[float, float], turns: NDArray[np.float64]
) -> Floats:
    """Coverage 0…1 of copies of a path on a sheet that repeats, shape (height, width); even-odd, four samples a side.

    Parameters
    ----------
    middles : float64 array, shape (N, 2)
        In texels.
    half : tuple of float
        Half a copy's size in texels.
    turns : float64 array, shape (N,)
        Radians.

    >>> drawn("M0 0 L1 0 L1 1 L0 1 Z", 4, 4, np.array([[2.0, 2.0]]), (1.0, 1.0), np.array([0.0])).max()
    np.float32(1.0)
    """
    fine = 4 if max(width, height) <= 4096 else 1
    out = np.zeros((height * fine, width * fine), np.uint8)
    shapes = outlines(path)
    reach = max(half) * 1.5
    for (x, y), turn in zip(middles, turns, strict=True):
        c, s = np.cos(turn), np.sin(turn)
        for ox in _copies(x, reach, width):
            for oy in _copies(y, reach, height):
                polygons = []
                for shape in shapes:
                    p = shape * half
                    moved = np.stack([p[:, 0] * c - p[:, 1] * s + x + ox, p[:, 0] * s + p[:, 1] * c + y + oy], 1)
                    polygons.append(np.rint((moved * fine - 0.5) * 2**SHIFT).astype(np.int32))
                cv2.fillPoly(out, polygons, 255, shift=SHIFT)
    small = cv2.resize(out, (width, height), interpolation=cv2.INTER_AREA) if fine > 1 else out
    return small.astype(np.float32) / np.float32(255)


def _copies(at: float, reach: float, size: int) -> list[int]:
    return [o for o in (-size, 0, size) if at + o + reach > 0 and at + o - reach < size]
