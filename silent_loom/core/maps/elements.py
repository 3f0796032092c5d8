"""What is known of each element by its label: where it lies, how large it is, which way it points, its own random numbers."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import kernel
from silent_loom.core.maps.flood import Labels

Numbers = NDArray[np.float64]


@dataclass(frozen=True)
class Elements:
    """Figures of labels 0…n, by label; lengths in texels.

    Attributes
    ----------
    x, y : centre, on a sheet that wraps the mean about the element's own place
    area : texels
    turn : direction of the longer axis in radians, from the right towards the bottom
    along, across : standard deviations along that axis and across it
    """

    x: Numbers
    y: Numbers
    area: Numbers
    turn: Numbers
    along: Numbers
    across: Numbers


def measured(labels: Labels, wraps: bool) -> Elements:
    """Figures of every label; those of labels that do not occur are 0.

    >>> measured(np.array([[1, 1, 2], [1, 1, 2]], np.int32), False).area.tolist()
    [0.0, 4.0, 2.0]
    """
    h, w = labels.shape
    flat = labels.ravel()
    area = np.bincount(flat).astype(float)
    some = np.maximum(area, 1)
    yy, xx = (a.ravel() for a in np.mgrid[0:h, 0:w])
    if wraps:  # the mean direction on two circles, then the mean of what is left about it
        x, y = (
            np.angle(np.bincount(flat, np.cos(t)) + 1j * np.bincount(flat, np.sin(t))) * n / (2 * np.pi)
            for t, n in ((xx * (2 * np.pi / w), w), (yy * (2 * np.pi / h), h))
        )
    else:
        x, y = np.bincount(flat, xx) / some, np.bincount(flat, yy) / some
    dx, dy = offsets(xx, x[flat], w, wraps), offsets(yy, y[flat], h, wraps)
    mx, my = np.bincount(flat, dx) / some, np.bincount(flat, dy) / some
    x, y = x + mx, y + my
    sxx = np.bincount(flat, dx * dx) / some - mx * mx
    syy = np.bincount(flat, dy * dy) / some - my * my
    sxy = np.bincount(flat, dx * dy) / some - mx * my
    middle, swing = (sxx + syy) / 2, np.hypot((sxx - syy) / 2, sxy)
    turn = 0.5 * np.arctan2(2 * sxy, sxx - syy)
    return Elements(x, y, area, turn, np.sqrt(middle + swing), np.sqrt(np.maximum(middle - swing, 0)))


def offsets(at: NDArray[Any], centre: Numbers, period: int, wraps: bool) -> Numbers:
    """How far places lie from a centre, the shorter way round on a sheet that wraps.

    >>> offsets(np.array([1.0, 9.0]), np.array([0.0, 0.0]), 10, True).tolist()
    [1.0, -1.0]
    """
    far: Numbers = at - centre
    return (far + period / 2) % period - period / 2 if wraps else far


def inner_of(labels: Labels, wraps: bool) -> NDArray[np.bool_]:
    """Texels whose neighbours to the right and below are of the same element, shape (H, W).

    >>> inner_of(np.array([[1, 1, 2], [1, 1, 2], [1, 1, 2]], np.int32), False).tolist()
    [[True, False, True], [True, False, True], [True, True, True]]
    """
    out = (labels == np.roll(labels, -1, 1)) & (labels == np.roll(labels, -1, 0))
    if not wraps:
        out[:, -1] = out[-1] = True
    return np.asarray(out)


def random(count: int, seed: int, channel: int) -> Numbers:
    """A number 0…1 for every label 0…count−1, the same for a label whatever the count.

    >>> random(3, 7, 0).round(3).tolist() == random(5, 7, 0)[:3].round(3).tolist()
    True
    """
    start = ((seed % 2**32 + 1) * 0x9E3779B97F4A7C15 + (channel + 1) * 0xD1B54A32D192ED03) % 2**64
    v = np.arange(count, dtype=np.uint64) + np.uint64(start)
    for shift, factor in ((30, 0xBF58476D1CE4E5B9), (27, 0x94D049BB133111EB)):  # SplitMix64 (Steele, Lea & Flood 2014)
        v = (v ^ (v >> np.uint64(shift))) * np.uint64(factor)
    v = v ^ (v >> np.uint64(31))
    out: Numbers = (v >> np.uint64(11)).astype(np.float64) / 2.0**53
    return out


RANDOMS = 4
"""Random numbers of each element."""


def chances(count: int, seed: int) -> Floats:
    """Four random numbers for every label 0…count−1, shape (count, 4).

    >>> chances(3, 7).shape
    (3, 4)
    """
    return np.stack([random(count, seed, k) for k in range(RANDOMS)], 1).astype(np.float32)


@kernel("i4[:,::1], b1, i4[:,::1], i8, i8")
def _voted(small, wraps, out, y0, y1):  # type: ignore[no-untyped-def]
    # The label with the most weight among the four around a place, bilinear: slanting borders, no stairs
    h, w = small.shape
    rows, cols = out.shape
    for y in range(y0, y1):
        v = (y + 0.5) * h / rows - 0.5
        ya = int(np.floor(v))
        ty = v - ya
        yb = ya + 1
        if wraps:
            ya, yb = (ya + h) % h, yb % h
        else:
            ya, yb = max(ya, 0), min(yb, h - 1)
        for x in range(cols):
            u = (x + 0.5) * w / cols - 0.5
            xa = int(np.floor(u))
            tx = u - xa
            xb = xa + 1
            if wraps:
                xa, xb = (xa + w) % w, xb % w
            else:
                xa, xb = max(xa, 0), min(xb, w - 1)
            a, b, c, d = small[ya, xa], small[ya, xb], small[yb, xa], small[yb, xb]
            wa, wb, wc, wd = (1 - tx) * (1 - ty), tx * (1 - ty), (1 - tx) * ty, tx * ty
            sa = wa + (wb if b == a else 0) + (wc if c == a else 0) + (wd if d == a else 0)
            sb = wb + (wa if a == b else 0) + (wc if c == b else 0) + (wd if d == b else 0)
            sc = wc + (wa if a == c else 0) + (wb if b == c else 0) + (wd if d == c else 0)
            best, most = a, sa
            if sb > most:
                best, most = b, sb
            if sc > most:
                best, most = c, sc
            if wd > most:
                best = d
            out[y, x] = best


def sized(labels: Labels, width: int, height: int, wraps: bool) -> Labels:
    """Labels at another size, their borders smooth.

    >>> sized(np.array([[1, 2]], np.int32), 4, 1, False).tolist()
    [[1, 1, 2, 2]]
    """
    if labels.shape == (height, width):
        return labels
    out = np.empty((height, width), np.int32)
    _voted(np.ascontiguousarray(labels, np.int32), wraps, out, 0, height)
    return out


def labels_of(plane: Floats) -> Labels:
    """Labels of an id thread as whole numbers.

    >>> labels_of(np.array([[0.2, 0.2], [0.7, 0.7]], np.float32)).tolist()
    [[0, 0], [1, 1]]
    """
    return np.ascontiguousarray(np.rint(plane), np.int32)
