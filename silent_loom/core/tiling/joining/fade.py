"""Cross-fade of two pictures of one strip that keeps their contrast."""

from __future__ import annotations

from functools import partial

import numpy as np

from silent_loom.core.base.images import Floats, Kind
from silent_loom.core.base.kernels import inlined, kernel
from silent_loom.core.base.lazy_modules import later
from silent_loom.core.base.parallel import Task, over_rows
from silent_loom.core.look.contrast import keep_contrast
from silent_loom.core.moving.gauss import learn, sampled, scores_of, value_of
from silent_loom.core.moving.resample import blur
from silent_loom.core.tiling.joining.strip import smoothed

ndimage = later("scipy.ndimage")

BANDS = (1.0, 2.0, 4.0, 8.0, 16.0)
"""Blurs between which contrast is kept apart, standard deviations in texels; what is broader is one band more."""
PLACES = 12
"""Along a strip, where it is told how alike both sides are."""
BLOCK = 96
"""Rows looked at there, at most."""


@kernel(
    "f4[:,:,::1], f4[:,:,::1], f4[:,:,::1], f4[::1], f4[:,::1], f4[:,::1], b1, f4[:,:,::1], i8, i8",
    "f4[:,:,::1], f4[:,:,::1], f4[:,:,::1], f4[::1], f4[:,::1], f4[:,::1], b1, f4[:,:,:], i8, i8",
)
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


@inlined
def _gain(t, alike):  # type: ignore[no-untyped-def]
    # What the weighted sum of two pictures has to be multiplied by to vary as much as either
    u = np.float32(1) - t
    return np.float32(1) / np.sqrt(t * t + u * u + np.float32(2) * t * u * alike)


@kernel("f4[:,:,::1], f4[:,:,::1], f4[::1], f4[:,::1], f4[:,:,::1], f4[:,:,::1], i8, i8")
def _mix(a, b, share, alike, mixed, out, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(a.shape[1]):
            t = share[x]
            for k in range(a.shape[2]):
                v = t * a[y, x, k] + (np.float32(1) - t) * b[y, x, k]
                mixed[y, x, k] = v
                out[y, x, k] = _gain(t, alike[y, k]) * v


@kernel("f4[:,:,::1], f4[:,:,::1], f4[::1], f4[:,::1], f4[:,::1], f4[:,:,::1], i8, i8")
def _weigh(mixed, soft, share, alike, rest, out, y0, y1):  # type: ignore[no-untyped-def]
    # Adds the band between two blurs, as much as it lacks beside what the broadest parts get
    for y in range(y0, y1):
        for x in range(mixed.shape[1]):
            for k in range(mixed.shape[2]):
                more = _gain(share[x], alike[y, k]) - _gain(share[x], rest[y, k])
                out[y, x, k] += more * (mixed[y, x, k] - soft[y, x, k])


@kernel("f4[:,:,::1], f4[:,:,::1], f4[:,:,::1], f4[:,:,::1], f4[::1], f4[:,:,::1], i8, i8")
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


def _likeness(first: Floats, second: Floats, share: Floats, closed: bool, task: Task) -> Floats:
    """Correlation of both strips by row and channel, for every band and then for what is broader.

    Returns
    -------
    array, shape (bands + 1, rows, C)
        Told at `PLACES` places and in between gone over: fibres that lie side by side here may cross further on.
    """
    rows, weight = first.shape[0], share * (1 - share)
    edges = np.linspace(0, rows, min(PLACES, max(1, rows // 8)) + 1)
    middles = (edges[:-1] + edges[1:]) / 2
    sums = np.zeros((len(middles), len(BANDS) + 1, 3, first.shape[2]))
    pieces = [slice(0, rows)]
    if rows > len(middles) * BLOCK:
        pieces = [slice(int(m) - BLOCK // 2, int(m) + BLOCK // 2) for m in middles]
    for piece in pieces:
        a, b = np.ascontiguousarray(first[piece]), np.ascontiguousarray(second[piece])
        lines = np.empty((a.shape[0], *sums.shape[2:]), np.float32)
        place = np.searchsorted(edges, np.arange(piece.start, piece.stop), "right") - 1
        for i, sigma in enumerate((*BANDS, None)):
            soft_a, soft_b = (
                np.broadcast_to(s.mean((0, 1)), s.shape).copy() if sigma is None else blur(s, sigma, False) for s in (a, b)
            )
            over_rows(a.shape[0], partial(_products, a, b, soft_a, soft_b, weight, lines), task)
            np.add.at(sums[:, i], place, lines)
            a, b = soft_a, soft_b
    found = np.clip(sums[..., 0, :] / np.maximum(np.sqrt(sums[..., 1, :] * sums[..., 2, :]), 1e-12), -0.5, 1.0)
    if closed:
        middles = np.r_[middles[-1] - rows, middles, middles[0] + rows]
        found = np.concatenate([found[-1:], found, found[:1]])
    at = np.clip(np.arange(rows) + 0.5, middles[0], middles[-1])
    after = np.clip(np.searchsorted(middles, at), 1, max(1, len(middles) - 1))
    if len(middles) == 1:
        return np.repeat(found, rows, 0).transpose(1, 0, 2).astype(np.float32)
    part = ((at - middles[after - 1]) / (middles[after] - middles[after - 1]))[:, None, None]
    by_row: Floats = ((1 - part) * found[after - 1] + part * found[after]).astype(np.float32)
    return np.ascontiguousarray(by_row.transpose(1, 0, 2))


def _mixed(first: Floats, second: Floats, share: Floats, closed: bool, task: Task) -> Floats:
    """Two strips of scores, shape (rows, n, C), with shares of the first by column, every band as rich as it was.

    The share changes slowly, so the bands of the mixture are the mixture of the bands.
    """
    *alike, rest = _likeness(first, second, share, closed, task)
    mixed, out = np.empty(first.shape, np.float32), np.empty(first.shape, np.float32)
    over_rows(first.shape[0], partial(_mix, first, second, share, rest, mixed, out), task)
    for sigma, by_row in zip(BANDS, alike, strict=True):
        soft = smoothed(mixed, sigma, closed, task)
        over_rows(first.shape[0], partial(_weigh, mixed, soft, share, by_row, rest, out), task)
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
    them for all of it would cost the fine ones theirs. It is measured at a dozen places along the strip, too, since
    grain that agrees here runs against the other side's further on. What is still lost, see `keep_contrast`.
    """
    n = near.shape[0] if turned else near.shape[1]
    middle, half = n / 2, max(1.0, 0.5 * width * n)
    start = np.float32(max(0.5, middle - half))
    end = np.float32(max(start + 1e-3, min(n - 0.5, middle + half)))  # nothing fades within a single texel
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
    if turned:
        flat, first, second = (np.ascontiguousarray(s.transpose(1, 0, 2)) for s in (out, near, far))
        keep_contrast(flat, first, second, share, kind, True, task)
        out[:] = flat.transpose(1, 0, 2)
    else:
        keep_contrast(out, near, far, share, kind, False, task)
