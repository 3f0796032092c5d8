"""Cross-fade of two pictures of one strip that keeps their contrast."""

from __future__ import annotations

from functools import partial

import numpy as np

from silent_loom.core.images import Floats, Kind
from silent_loom.core.later import later
from silent_loom.core.parallel import Task, kernel, over_rows
from silent_loom.core.resample import blur
from silent_loom.core.tiling.gauss import learn, sampled, scores_of, value_of
from silent_loom.core.tiling.join import smoothed

ndimage = later("scipy.ndimage")

BANDS = (1.0, 2.0, 4.0, 8.0, 16.0)
"""Blurs between which contrast is kept apart, standard deviations in texels; what is broader is one band more."""
BLOCK = 256
"""Rows of each of four places where likeness is told on large strips."""


@kernel
def _values(mixed, a, b, share, back, to_value, turned, out, y0, y1):  # type: ignore[no-untyped-def]
    h, w, channels = a.shape
    value = np.empty(channels, np.float32)
    for y in range(y0, y1):
        for x in range(w):
            t = share[y] if turned else share[x]
            for k in range(channels):
                value[k] = value_of(mixed[x, y, k] if turned else mixed[y, x, k], k, to_value)
            # Close to either side its own value is taken as it is, so that nothing jumps where the fade begins
            exact = np.float32(1) - min(np.float32(1), np.float32(8) * min(t, np.float32(1) - t))
            for k in range(channels):
                v = np.float32(0)
                for q in range(channels):
                    v += back[k, q] * value[q]
                plain = a[y, x, k] if t > np.float32(0.5) else b[y, x, k]
                out[y, x, k] = v + exact * (plain - v)


@kernel
def _mix(a, b, share, gain, mixed, out, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(a.shape[1]):
            t = share[x]
            for k in range(a.shape[2]):
                v = t * a[y, x, k] + (np.float32(1) - t) * b[y, x, k]
                mixed[y, x, k] = v
                out[y, x, k] = gain[x, k] * v


@kernel
def _weigh(mixed, soft, gain, rest, out, y0, y1):  # type: ignore[no-untyped-def]
    # Adds the band between two blurs, as much as it lacks beside what the broadest parts get
    for y in range(y0, y1):
        for x in range(mixed.shape[1]):
            for k in range(mixed.shape[2]):
                out[y, x, k] += (gain[x, k] - rest[x, k]) * (mixed[y, x, k] - soft[y, x, k])


@kernel
def _products(a, b, soft_a, soft_b, weight, out, y0, y1):  # type: ignore[no-untyped-def]
    # Row by row: products of what lies between both blurs, of one with the other and of each with itself
    for y in range(y0, y1):
        out[y] = 0
        for x in range(a.shape[1]):
            for k in range(a.shape[2]):
                p, q = a[y, x, k] - soft_a[y, x, k], b[y, x, k] - soft_b[y, x, k]
                out[y, 0, k] += weight[x] * p * q
                out[y, 1, k] += weight[x] * p * p
                out[y, 2, k] += weight[x] * q * q


def _likeness(first: Floats, second: Floats, share: Floats, task: Task) -> Floats:
    """Correlation of both strips, for every band and then for what is broader, by channel; shape (bands + 1, C)."""
    rows = first.shape[0]
    starts = [0] if rows <= 4 * BLOCK else [round(i * (rows - BLOCK) / 3) for i in range(4)]
    weight = share * (1 - share)
    sums = np.zeros((len(BANDS) + 1, 3, first.shape[2]))
    for start in starts:
        at = slice(start, start + BLOCK if len(starts) > 1 else rows)
        a, b = np.ascontiguousarray(first[at]), np.ascontiguousarray(second[at])
        lines = np.empty((a.shape[0], *sums.shape[1:]), np.float32)
        for i, sigma in enumerate((*BANDS, None)):
            soft_a, soft_b = (
                np.broadcast_to(s.mean((0, 1)), s.shape).copy() if sigma is None else blur(s, sigma, False) for s in (a, b)
            )
            over_rows(a.shape[0], partial(_products, a, b, soft_a, soft_b, weight, lines), task)
            sums[i] += lines.sum(0, dtype=np.float64)
            a, b = soft_a, soft_b
    found: Floats = (sums[:, 0] / np.maximum(np.sqrt(sums[:, 1] * sums[:, 2]), 1e-12)).astype(np.float32)
    return np.clip(found, np.float32(-0.5), np.float32(1))


def _mixed(first: Floats, second: Floats, share: Floats, closed: bool, task: Task) -> Floats:
    """Two strips of scores, shape (rows, n, C), with shares of the first by column, every band as rich as it was.

    The share changes slowly, so the bands of the mixture are the mixture of the bands.
    """
    t = share[:, None]
    gains = [1 / np.sqrt(t * t + (1 - t) * (1 - t) + 2 * t * (1 - t) * alike) for alike in _likeness(first, second, share, task)]
    mixed, out = np.empty(first.shape, np.float32), np.empty(first.shape, np.float32)
    over_rows(first.shape[0], partial(_mix, first, second, share, gains[-1], mixed, out), task)
    for sigma, gain in zip(BANDS, gains[:-1], strict=True):
        soft = smoothed(mixed, sigma, closed, task)
        over_rows(first.shape[0], partial(_weigh, mixed, soft, gain, gains[-1], out), task)
        mixed = soft
    return out


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
    histogram-preserving blending for randomized texture tiling, JCGT 8, 2019). How alike the two already are is measured
    band by band, or what is aligned would gain contrast: long grain has broad parts that happen to agree, and taking
    them for all of it would cost the fine ones theirs.
    """
    n = near.shape[0] if turned else near.shape[1]
    middle, half = n / 2, max(1.0, 0.5 * width * n)
    start, end = np.float32(max(0.5, middle - half)), np.float32(min(n - 0.5, middle + half))
    near, far = _level(near, far, kind, float(start), float(end), turned)
    tables = learn(np.concatenate([sampled(near), sampled(far)]), kind)
    c = np.arange(n, dtype=np.float32) + np.float32(0.5)
    t = np.clip((c - start) / (end - start), 0, 1)
    share = (t * t * (3 - 2 * t)).astype(np.float32)
    scores = [scores_of(side, tables, task) for side in (near, far)]
    if turned:
        scores = [np.ascontiguousarray(s.transpose(1, 0, 2)) for s in scores]
    mixed = _mixed(scores[0], scores[1], share, turned, task)  # from top to bottom a sheet is closed last
    put = partial(_values, mixed, near, far, share, tables.back, tables.to_value, turned, out)
    over_rows(near.shape[0], put, task, cost=near.shape[1] * near.shape[2] * 1e-3)
