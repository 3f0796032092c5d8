"""Blending two pictures along a cut, band by band, with their contrast kept."""

from __future__ import annotations

from functools import partial

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.images import Floats, Kind
from silent_loom.core.kernels import kernel, subkernel
from silent_loom.core.parallel import Task, both, over_rows
from silent_loom.core.resample import blur
from silent_loom.core.tiling.parted import Parted, part_objects
from silent_loom.core.tiling.slide import slid

RATIO = 3.0
"""Each band is this much finer than the one above."""
FINEST = 0.9
"""Texels: there is no band below a blur of this."""


@kernel
def _mask(path, out, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(out.shape[1]):
            out[y, x] = min(max(np.float32(x + 1 - path[y]), np.float32(0)), np.float32(1))


@kernel
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


@kernel
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


def smoothed(p: Floats, s: float, closed: bool, task: Task) -> Floats:
    """Blur of a strip: along it the picture goes on when it is closed, across it is mirrored at the border."""
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
    """
    rows, n, channels = first.shape
    mask = np.empty((rows, n), np.float32)
    over_rows(rows, partial(_mask, path, mask), task)
    low, high = _windows(n)
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


LEAST = 1.25
"""Texels of the coarse grid that the transition of the finest detail is wide, at least."""


@kernel
def means_of_blocks(src, f, out, y0, y1):  # type: ignore[no-untyped-def]
    # Means of f × f texels; the last block of a row or column may hold fewer
    h, w, channels = src.shape
    line = np.empty((out.shape[1], channels), np.float32)
    for j in range(y0, y1):
        top, low = j * f, min(h, j * f + f)
        line[:] = 0
        for y in range(top, low):
            for i in range(out.shape[1]):
                left, right = i * f, min(w, i * f + f)
                # Sums by themselves stay in registers
                if channels == 3:
                    a, b, c = np.float32(0), np.float32(0), np.float32(0)
                    for x in range(left, right):
                        a += src[y, x, 0]
                        b += src[y, x, 1]
                        c += src[y, x, 2]
                    line[i, 0] += a
                    line[i, 1] += b
                    line[i, 2] += c
                else:
                    for k in range(channels):
                        a = np.float32(0)
                        for x in range(left, right):
                            a += src[y, x, k]
                        line[i, k] += a
        for i in range(out.shape[1]):
            count = np.float32((low - top) * (min(w, i * f + f) - i * f))
            for k in range(channels):
                out[j, i, k] = line[i, k] / count


@kernel
def _fine_moments(a, b, low_a, low_b, w, f, out, y0, y1):  # type: ignore[no-untyped-def]
    # Variance of what is finer than a block in both pictures, and their covariance, where both will show
    h, width, channels = a.shape
    for j in range(y0, y1):
        for i in range(w.shape[1]):
            aa, bb, ab = np.float32(0), np.float32(0), np.float32(0)
            if 0.002 < w[j, i] < 0.998:
                for y in range(j * f, min(h, j * f + f)):
                    for x in range(i * f, min(width, i * f + f)):
                        for k in range(channels):
                            da, db = a[y, x, k] - low_a[j, i, k], b[y, x, k] - low_b[j, i, k]
                            aa += da * da
                            bb += db * db
                            ab += da * db
                out[j, i, 3] = 1
            out[j, i, 0], out[j, i, 1], out[j, i, 2] = aa, bb, ab


@subkernel
def _taps4(at, n):  # type: ignore[no-untyped-def]
    base = int(np.floor(at))
    t = np.float32(at - base)
    w0 = ((np.float32(-0.5) * t + np.float32(1)) * t - np.float32(0.5)) * t
    w1 = (np.float32(1.5) * t - np.float32(2.5)) * t * t + np.float32(1)
    w2 = ((np.float32(-1.5) * t + np.float32(2)) * t + np.float32(0.5)) * t
    w3 = (np.float32(0.5) * t - np.float32(0.5)) * t * t
    top = n - 1
    return min(max(base - 1, 0), top), min(max(base, 0), top), min(max(base + 1, 0), top), min(base + 2, top), w0, w1, w2, w3


@kernel
def _compose(a, b, coarse, low_a, low_b, weight, gain, low, high, turned, f, out, y0, y1):  # type: ignore[no-untyped-def]
    # coarse holds, for 2 C channels, what has to be added to a and to b so that their broad parts are the blended ones.
    # What is finer is told from the broad parts as they go on smoothly: block by block it would show the blocks' borders.
    h, w, channels = a.shape
    rows, cols = weight.shape
    line, broad = np.empty((cols, 2 * channels), np.float32), np.empty((cols, 2 * channels), np.float32)
    mask, gains = np.empty(cols, np.float32), np.empty(cols, np.float32)
    index, taps = np.empty((w, 4), np.int64), np.empty((w, 4), np.float32)
    for x in range(w):
        i0, i1, i2, i3, t0, t1, t2, t3 = _taps4((x + 0.5) / f - 0.5, cols)
        index[x, 0], index[x, 1], index[x, 2], index[x, 3] = i0, i1, i2, i3
        taps[x, 0], taps[x, 1], taps[x, 2], taps[x, 3] = t0, t1, t2, t3
    for y in range(y0, y1):
        j0, j1, j2, j3, s0, s1, s2, s3 = _taps4((y + 0.5) / f - 0.5, rows)
        for i in range(cols):
            mask[i] = s0 * weight[j0, i] + s1 * weight[j1, i] + s2 * weight[j2, i] + s3 * weight[j3, i]
            gains[i] = s0 * gain[j0, i] + s1 * gain[j1, i] + s2 * gain[j2, i] + s3 * gain[j3, i]
            for k in range(2 * channels):
                line[i, k] = s0 * coarse[j0, i, k] + s1 * coarse[j1, i, k] + s2 * coarse[j2, i, k] + s3 * coarse[j3, i, k]
            for k in range(channels):
                broad[i, k] = s0 * low_a[j0, i, k] + s1 * low_a[j1, i, k] + s2 * low_a[j2, i, k] + s3 * low_a[j3, i, k]
                q = k + channels
                broad[i, q] = s0 * low_b[j0, i, k] + s1 * low_b[j1, i, k] + s2 * low_b[j2, i, k] + s3 * low_b[j3, i, k]
        for x in range(w):
            i0, i1, i2, i3 = index[x, 0], index[x, 1], index[x, 2], index[x, 3]
            t0, t1, t2, t3 = taps[x, 0], taps[x, 1], taps[x, 2], taps[x, 3]
            m = t0 * mask[i0] + t1 * mask[i1] + t2 * mask[i2] + t3 * mask[i3]
            c = y if turned else x
            t = np.float32(1) - (np.float32(1) - m * low[c]) * high[c]
            if t >= np.float32(0.998):
                for k in range(channels):
                    out[y, x, k] = a[y, x, k] + t0 * line[i0, k] + t1 * line[i1, k] + t2 * line[i2, k] + t3 * line[i3, k]
            elif t <= np.float32(0.002):
                for k in range(channels):
                    q = k + channels
                    out[y, x, k] = b[y, x, k] + t0 * line[i0, q] + t1 * line[i1, q] + t2 * line[i2, q] + t3 * line[i3, q]
            else:
                g = t1 * gains[i1] + t2 * gains[i2] + t0 * gains[i0] + t3 * gains[i3] - np.float32(1)
                for k in range(channels):
                    q = k + channels
                    whole_a = a[y, x, k] + t0 * line[i0, k] + t1 * line[i1, k] + t2 * line[i2, k] + t3 * line[i3, k]
                    whole_b = b[y, x, k] + t0 * line[i0, q] + t1 * line[i1, q] + t2 * line[i2, q] + t3 * line[i3, q]
                    mixed = t * whole_a + (1 - t) * whole_b
                    broad_a = t0 * broad[i0, k] + t1 * broad[i1, k] + t2 * broad[i2, k] + t3 * broad[i3, k]
                    broad_b = t0 * broad[i0, q] + t1 * broad[i1, q] + t2 * broad[i2, q] + t3 * broad[i3, q]
                    fine = t * (a[y, x, k] - broad_a) + (1 - t) * (b[y, x, k] - broad_b)
                    out[y, x, k] = mixed + g * fine


def _windows(n: int) -> tuple[Floats, Floats]:
    """Eases at both borders of a strip of n texels, where each picture has to be exact."""
    x = np.arange(n, dtype=np.float64) + 0.5
    fade = max(1.5, 0.14 * n)
    return _ease((x - 0.5) / fade), _ease((n - 0.5 - x) / fade)


def _composed(
    near: Floats,
    far: Floats,
    path: NDArray[np.float64],
    softness: float,
    parted: Parted | None,
    turned: bool,
    closed: bool,
    out: Floats,
    task: Task,
) -> None:
    """`join_strip` for wide overlaps, in image orientation: broad bands on a coarse grid, only the finest at full size."""
    h, w, channels = near.shape
    n, rows = (h, w) if turned else (w, h)
    f = min(8, int(softness / LEAST))
    shape = (-(-h // f), -(-w // f), channels)
    low_a, low_b = np.empty(shape, np.float32), np.empty(shape, np.float32)
    cost = w * channels * f * 3e-4
    over_rows(shape[0], lambda p, q: means_of_blocks(near, f, low_a, p, q), task, least=4, cost=cost)
    over_rows(shape[0], lambda p, q: means_of_blocks(far, f, low_b, p, q), task, least=4, cost=cost)

    def lay(a: Floats) -> Floats:
        return np.ascontiguousarray(a.transpose(1, 0, 2) if turned else a)

    small_rows, small_n = -(-rows // f), -(-n // f)
    at = np.minimum((np.arange(small_rows) + 0.5) * f - 0.5, rows - 1)
    small_path = np.interp(at, np.arange(rows), path) / f
    sides = lay(low_a), lay(low_b)
    blended = join_strip(*sides, small_path, softness / f, closed, task)
    if parted is not None:  # what it adds is broader than a block
        by_row = Parted(*(np.interp(at, np.arange(rows), line).astype(np.float32) for line in parted))
        part_objects(blended, *sides, small_path, by_row, softness / f, _windows(small_n), closed, task)
    mask = np.empty((small_rows, small_n), np.float32)
    over_rows(small_rows, partial(_mask, small_path, mask), task)
    weight = smoothed(mask, softness / f, closed, task)
    if turned:
        blended, weight = blended.transpose(1, 0, 2), np.ascontiguousarray(weight.T)
    moments = np.zeros((shape[0], shape[1], 4), np.float32)
    over_rows(shape[0], lambda p, q: _fine_moments(near, far, low_a, low_b, weight, f, moments, p, q), task, least=4)
    seen = blur(moments, 2.0 * softness / f, False, task)
    aa, bb, ab = (seen[..., k] / np.maximum(seen[..., 3], 1e-6) for k in range(3))
    want = weight * aa + (1 - weight) * bb
    have = weight**2 * aa + (1 - weight) ** 2 * bb + 2 * weight * (1 - weight) * ab
    gain = np.where(seen[..., 3] > 1e-4, np.sqrt(np.maximum(want, 0) / np.maximum(have, 1e-12)), 1.0)
    gain = np.ascontiguousarray(np.clip(gain, 1.0, 1.5), np.float32)
    coarse = np.ascontiguousarray(np.concatenate([blended - low_a, blended - low_b], 2), np.float32)
    low, high = _windows(n)
    over_rows(
        h,
        lambda p, q: _compose(near, far, coarse, low_a, low_b, weight, gain, low, high, turned, f, out, p, q),
        task,
        cost=w * channels * 1e-3,
    )


@kernel
def _to_slopes(src, out, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(src.shape[1]):
            z = max(src[y, x, 2], np.float32(1e-3))
            out[y, x, 0], out[y, x, 1] = -src[y, x, 0] / z, -src[y, x, 1] / z


@kernel
def _to_normals(src, out, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(src.shape[1]):
            a, b = src[y, x, 0], src[y, x, 1]
            n = np.float32(1) / np.sqrt(a * a + b * b + np.float32(1))
            out[y, x, 0], out[y, x, 1], out[y, x, 2] = -a * n, -b * n, n


def slopes_of(normals: Floats, task: Task) -> Floats:
    """Normal vectors as slopes (−x/z, −y/z), shape (H, W, 2)."""
    out = np.empty((*normals.shape[:2], 2), np.float32)
    over_rows(out.shape[0], partial(_to_slopes, normals, out), task)
    return out


FLOOR = np.float32(0.01)
"""Light, as a part of white, below which ratios count less and less."""


def _logs(light: Floats, task: Task) -> Floats:
    out = np.empty(light.shape, np.float32)

    def work(p: int, q: int) -> None:
        np.maximum(light[p:q], -0.9 * FLOOR, out=out[p:q])
        out[p:q] += FLOOR
        np.log(out[p:q], out=out[p:q])

    over_rows(light.shape[0], work, task)
    return out


def _light(logs: Floats, out: Floats, p: int, q: int) -> None:
    np.exp(logs[p:q], out=out[p:q])
    out[p:q] -= FLOOR


def normals_of(slopes: Floats, task: Task) -> Floats:
    """Unit normals of slopes."""
    out = np.empty((*slopes.shape[:2], 3), np.float32)
    over_rows(out.shape[0], partial(_to_normals, slopes, out), task)
    return out


def _join_into(
    out: Floats,
    near: Floats,
    far: Floats,
    path: NDArray[np.float64],
    softness: float,
    parted: Parted | None,
    turned: bool,
    closed: bool,
    task: Task,
) -> None:
    if softness / LEAST >= 2:
        _composed(near, far, path, softness, parted, turned, closed, out, task)
        return
    first, second = (np.ascontiguousarray(p.transpose(1, 0, 2) if turned else p) for p in (near, far))
    strip = join_strip(first, second, path, softness, closed, task)
    if parted is not None:
        part_objects(strip, first, second, path, parted, softness, _windows(strip.shape[1]), closed, task)
    out[:] = strip.transpose(1, 0, 2) if turned else strip


@kernel
def _copy(src, out, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        out[y] = src[y]


def closed_along(
    pixels: Floats,
    kind: Kind,
    axis: int,
    keep: int,
    path: NDArray[np.float64],
    softness: float,
    closed: bool,
    task: Task,
    *,
    parted: Parted | None = None,
    shift: Floats | None = None,
    spend: bool = False,
) -> Floats:
    """Close a sheet along an axis: its last lines are laid over its first and joined there.

    Parameters
    ----------
    pixels : array, shape (H, W, C)
    kind : Kind
        Ids are cut hard; normals are joined as slopes; colour in ratios, so that a dark joint under a darker neighbour
        stays a joint and is not pushed below black.
    axis : int
        1 to close from left to right, 0 from top to bottom.
    keep : int
        Width (height) of the result; what is beyond it is the overlap.
    path, softness, closed
        See `join_strip`; the path runs across the axis.
    parted : Parted, optional
        What lies beside the path, see `parted.parted_at`.
    shift : array, optional
        By how much both ends are moved along each other first, see `slide.slid`.
    spend : bool
        The samples given are not needed any more: they may become the result.
    """
    n = pixels.shape[axis] - keep
    turned = axis == 0
    h, w, channels = pixels.shape
    if turned and spend:
        out = pixels[:keep]
    else:
        out = np.empty((keep, w, channels) if turned else (h, keep, channels), np.float32)
        source, goal = (pixels[n:keep], out[n:]) if turned else (pixels[:, n:keep], out[:, n:])
        over_rows(source.shape[0], partial(_copy, source, goal), task)
    near, far, strip = (pixels[:n], pixels[keep:], out[:n]) if turned else (pixels[:, :n], pixels[:, keep:], out[:, :n])
    if kind is Kind.NORMAL:
        near, far = (slopes_of(p, task) for p in (near, far))
    if shift is not None:
        near, far = slid(near, far, kind, axis, shift, closed, task)
    if kind is Kind.ID:
        side = (np.arange(n)[:, None] + 0.5 < path[None, :]) if turned else (np.arange(n)[None, :] + 0.5 < path[:, None])
        strip[:] = np.where(side[..., None], far, near)
    elif kind is Kind.NORMAL:
        leaning = np.empty((*strip.shape[:2], 2), np.float32)
        _join_into(leaning, near, far, path, softness, parted, turned, closed, task)
        over_rows(strip.shape[0], partial(_to_normals, leaning, strip), task)
    elif kind is Kind.COLOUR:
        ratios = np.empty(strip.shape, np.float32)
        _join_into(ratios, _logs(near, task), _logs(far, task), path, softness, parted, turned, closed, task)
        over_rows(strip.shape[0], lambda p, q: _light(ratios, strip, p, q), task)
    else:
        _join_into(strip, near, far, path, softness, parted, turned, closed, task)
    return out
