"""Two pictures of one strip, blended along a path, band by band, with their contrast kept."""

from __future__ import annotations

from functools import partial

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import Task, both, over_rows
from silent_loom.core.moving.resample import blur

RATIO = 3.0
"""Each band is this much finer than the one above."""
FINEST = 0.9
"""Texels: there is no band below a blur of this."""


@kernel("f8[::1], f4[:,::1], i8, i8")
def mask_of(path, out, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(out.shape[1]):
            out[y, x] = min(max(np.float32(x + 1 - path[y]), np.float32(0)), np.float32(1))


@kernel("f4[:,:,::1], f4[:,:,::1], f4[:,::1], f4[:,:,::1], f4[::1], f4[::1], b1, f4[:,:,::1], i8, i8")
def _weigh_band(a, b, w, v, low, high, gain_on, out, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(w.shape[1]):
            t = np.float32(1) - (np.float32(1) - w[y, x] * low[x]) * high[x]
            g = np.float32(1)
            if gain_on and 0.002 < t < 0.998:
                aa, bb, ab = v[y, x, 0], v[y, x, 1], v[y, x, 2]
                want = t * aa + (1 - t) * bb
                have = t * t * aa + (1 - t) * (1 - t) * bb + 2 * t * (1 - t) * ab
                g = min(np.sqrt(want / max(have, np.float32(1e-12))), np.float32(1.5)) if want > 1e-12 else np.float32(1)
                g = max(g, np.float32(1))
            for k in range(a.shape[2]):
                out[y, x, k] += g * (t * a[y, x, k] + (1 - t) * b[y, x, k])


@kernel("f4[:,:,::1], f4[:,:,::1], f4[:,:,::1], i8, i8")
def _moments(a, b, out, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(a.shape[1]):
            aa, bb, ab = np.float32(0), np.float32(0), np.float32(0)
            for k in range(a.shape[2]):
                aa += a[y, x, k] * a[y, x, k]
                bb += b[y, x, k] * b[y, x, k]
                ab += a[y, x, k] * b[y, x, k]
            out[y, x, 0], out[y, x, 1], out[y, x, 2] = aa, bb, ab


def _ease(x: NDArray[np.float64]) -> Floats:
    t = np.clip(x, 0, 1)
    out: Floats = (t * t * (3 - 2 * t)).astype(np.float32)
    return out


def windows(n: int) -> tuple[Floats, Floats]:
    """Eases at both borders of a strip of n texels, where each picture has to be exact.

    >>> first, second = windows(4)
    >>> (first + second).tolist()
    [1.0, 1.7407407760620117, 1.7407407760620117, 1.0]
    """
    x = np.arange(n, dtype=np.float64) + 0.5
    fade = max(1.5, 0.14 * n)
    return _ease((x - 0.5) / fade), _ease((n - 0.5 - x) / fade)


def smoothed(p: Floats, s: float, closed: bool, task: Task) -> Floats:
    """Blur of a strip: along it the picture goes on when it is closed, across it is mirrored at the border.

    >>> from silent_loom.core.base.parallel import IDLE
    >>> float(smoothed(np.ones((8, 8, 1), np.float32), 2.0, True, IDLE).max().round(3))
    1.0
    """
    if not closed:
        return blur(p, s, False, task)
    rows = p.shape[0]
    pad = min(rows, int(np.ceil(3.5 * s)))
    widened = np.concatenate([p[-pad:], p, p[:pad]])
    return np.ascontiguousarray(blur(widened, s, False, task)[pad:-pad])


def join_strip(first: Floats, second: Floats, path: NDArray[np.float64], softness: float, closed: bool, task: Task) -> Floats:
    """Two pictures of one strip, joined along a path.

    Parameters
    ----------
    first, second : arrays, shape (rows, n, C)
        Row y shows ``second`` left of path[y] and ``first`` right of it.
    path : array, shape (rows,)
        In texels, fractions allowed.
    softness : float
        Transition of the finest band, standard deviation in texels.
    closed : bool
        The rows wrap.

    Notes
    -----
    A multiresolution spline (Burt & Adelson 1983): each band of detail goes over within a width of its own size, so
    broad differences in tone fade over the whole overlap while fine structure is cut sharply and never doubled. Within
    each band the blend is scaled so that its variance is the weighted mean of the two, measured locally with their
    covariance (after Heitz & Neyret 2018): no washed-out stripe. At the strip's borders each picture is exact.

    >>> from silent_loom.core.base.parallel import IDLE
    >>> first, second = np.zeros((8, 16, 1), np.float32), np.ones((8, 16, 1), np.float32)
    >>> joined = join_strip(first, second, np.full(8, 8.0), 1.0, True, IDLE)
    >>> float(joined[4, 0, 0]), float(joined[4, 15, 0])
    (1.0, 0.0)
    """
    rows, n, channels = first.shape
    mask = np.empty((rows, n), np.float32)
    over_rows(rows, partial(mask_of, path, mask), task)
    low, high = windows(n)
    sigmas: list[float] = []
    sigma = n / 5.0
    while sigma > FINEST:
        sigmas.append(sigma)
        sigma /= RATIO
    out = np.zeros((rows, n, channels), np.float32)

    smooth = partial(smoothed, closed=closed, task=task)
    rest_a, rest_b = first, second
    empty = np.zeros((1, 1, 3), np.float32)
    parts: list[tuple[Floats, Floats, float, bool]] = []
    for s in reversed(sigmas):  # finest first: each blur works on what the last one left
        soft_a, soft_b = both(partial(smooth, rest_a, s), partial(smooth, rest_b, s))
        width = max(softness, s / RATIO)  # what is finer than the transition goes over with it, but keeps a contrast of its own
        parts.append((rest_a - soft_a, rest_b - soft_b, width, True))
        rest_a, rest_b = soft_a, soft_b
    parts.append((rest_a, rest_b, (sigmas[0] if sigmas else softness), False))
    for a, b, width, keep in parts:
        task.checkpoint()
        if keep and width > 1.0:
            products = np.empty((rows, n, 3), np.float32)
            over_rows(rows, partial(_moments, a, b, products), task)
            w, moments = both(partial(smooth, mask, width), partial(smooth, products, max(2.0, 2.0 * width)))
        else:
            keep, moments, w = False, empty, smooth(mask, width)
        over_rows(rows, partial(_weigh_band, a, b, w, moments, low, high, keep, out), task)
    return out
