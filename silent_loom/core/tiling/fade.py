"""Cross-fade of two pictures of one strip that keeps their contrast."""

from __future__ import annotations

from functools import partial

import numpy as np

from silent_loom.core.images import Floats, Kind
from silent_loom.core.later import later
from silent_loom.core.parallel import Task, kernel, over_rows
from silent_loom.core.tiling.gauss import learn, sampled, score_of, value_of

ndimage = later("scipy.ndimage")


@kernel
def _fade(a, b, start, end, alike, turn, back, to_gauss, to_value, turned, out, y0, y1):  # type: ignore[no-untyped-def]
    h, w, channels = a.shape
    pair, mixed = np.empty((2, channels), np.float32), np.empty(channels, np.float32)
    for y in range(y0, y1):
        for x in range(w):
            c = np.float32(y + 0.5) if turned else np.float32(x + 0.5)
            t = min(max((c - start) / (end - start), np.float32(0)), np.float32(1))
            t = t * t * (np.float32(3) - np.float32(2) * t)
            if t <= 0:
                for k in range(channels):
                    out[y, x, k] = b[y, x, k]
                continue
            if t >= 1:
                for k in range(channels):
                    out[y, x, k] = a[y, x, k]
                continue
            for k in range(channels):
                pair[0, k], pair[1, k] = np.float32(0), np.float32(0)
                for q in range(channels):
                    pair[0, k] += turn[k, q] * a[y, x, q]
                    pair[1, k] += turn[k, q] * b[y, x, q]
            size = np.sqrt(t * t + (1 - t) * (1 - t) + 2 * t * (1 - t) * alike)
            # Close to either side its own value is taken as it is, so that nothing jumps where the fade begins
            exact = np.float32(1) - min(np.float32(1), np.float32(8) * min(t, np.float32(1) - t))
            for k in range(channels):
                g = t * score_of(pair[0, k], k, to_gauss) + (1 - t) * score_of(pair[1, k], k, to_gauss)
                mixed[k] = value_of(g / size, k, to_value)
            for k in range(channels):
                v = np.float32(0)
                for q in range(channels):
                    v += back[k, q] * mixed[q]
                plain = a[y, x, k] if t > np.float32(0.5) else b[y, x, k]
                out[y, x, k] = v + exact * (plain - v)


def _level(near: Floats, far: Floats, kind: Kind, start: float, end: float, turned: bool) -> tuple[Floats, Floats]:
    """Both pictures with the broad tone that goes over from one to the other.

    Blending Gaussian forms is for surfaces that look alike everywhere. Where one side is lighter than the other, a value
    would jump from one to the other instead of going over: so their difference, smooth along the strip, is shared out first,
    as ratios for colour.
    """
    across = 0 if turned else 1
    length = near.shape[1 - across]
    m, n = near.mean(across), far.mean(across)
    gap = np.log(np.maximum(m, 1e-4) / np.maximum(n, 1e-4)) if kind is Kind.COLOUR else m - n
    gap = ndimage.gaussian_filter1d(gap, 0.15 * length, axis=0, mode="nearest").astype(np.float32)
    c = np.arange(near.shape[across], dtype=np.float32) + np.float32(0.5)
    t = np.clip((c - start) / (end - start), 0, 1)
    t = (t * t * (3 - 2 * t)).astype(np.float32)
    share = t[:, None, None] * gap[None] if turned else t[None, :, None] * gap[:, None]
    rest = share - (gap[None] if turned else gap[:, None])
    if kind is Kind.COLOUR:
        return near * np.exp(rest), far * np.exp(share)
    return near + rest, far + share


def fade_strip(near: Floats, far: Floats, kind: Kind, width: float, turned: bool, out: Floats, task: Task) -> None:
    """Go over from ``far`` (at the start of the strip) to ``near`` (at its end), contrast kept.

    Parameters
    ----------
    near, far, out : arrays, shape (h, w, C)
        The two pictures of the strip, and where the result goes.
    kind : Kind
        Channels of colour are made uncorrelated first.
    width : float
        Part of the strip over which they fade, 0…1, around its middle.
    turned : bool
        The fade runs from top to bottom and not from left to right.

    Notes
    -----
    Each channel is given a Gaussian histogram, there blended with the weights divided by the deviation that the weighted
    sum of two such pictures has, and brought back: histogram and contrast are those of the source everywhere (Heitz &
    Neyret, High-performance by-example noise using a histogram-preserving blending operator, HPG 2018; Burley, On
    histogram-preserving blending for randomized texture tiling, JCGT 8, 2019). How alike the two already are is measured,
    or two aligned pictures would gain contrast.
    """
    n = near.shape[0] if turned else near.shape[1]
    middle, half = n / 2, max(1.0, 0.5 * width * n)
    start, end = np.float32(max(0.5, middle - half)), np.float32(min(n - 0.5, middle + half))
    near, far = _level(near, far, kind, float(start), float(end), turned)
    p, q = sampled(near), sampled(far)
    tables = learn(np.concatenate([p, q]), kind)
    p, q = p - p.mean(0), q - q.mean(0)
    alike = float(np.clip((p * q).sum() / max(float(np.sqrt((p * p).sum() * (q * q).sum())), 1e-12), 0.0, 1.0))
    fade = partial(
        _fade,
        near,
        far,
        start,
        end,
        np.float32(alike),
        tables.turn,
        tables.back,
        tables.to_gauss,
        tables.to_value,
        turned,
        out,
    )
    over_rows(near.shape[0], fade, task, cost=near.shape[1] * near.shape[2] * 2e-3)
