"""Wide overlaps, joined without a copy of them: broad bands on a coarse grid, only the finest at full size.

An overlap of a sheet of 4096 texels is as much memory as a whole sheet of 2048, and every copy of it (both ends moved, their
logarithms, their slopes) takes longer to write than to compute. So its rows are fetched from the sheet when they are needed,
and of both ends only what will be seen.
"""

from __future__ import annotations

from functools import partial
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import kernel, subkernel
from silent_loom.core.base.parallel import Task, over_rows
from silent_loom.core.moving.blocks import FLOOR, Form, exp_of, lit, log_of, means_of_blocks
from silent_loom.core.moving.cubic import cubic
from silent_loom.core.moving.resample import blur
from silent_loom.core.moving.slide import displacement, inside, lean_row, slid_blocks
from silent_loom.core.tiling.joining.parted import Parted, part_objects
from silent_loom.core.tiling.joining.strip import join_strip, mask_of, smoothed, windows

LEAST = 1.25
"""Texels of the coarse grid that the transition of the finest detail is wide, at least."""
SURE = np.float32(0.002)
"""Share of an end that is not seen."""


@subkernel
def _fetch_moved(samples, shape, form, oy, ox, y, by, weight, turned, closed, first, last, whole, part, row):  # type: ignore[no-untyped-def]
    width, channels = shape[1], shape[2]
    rows = by.shape[1] if turned else by.shape[0]
    along = channels if turned else width * channels
    step = np.uintp(along)
    one, two, top = np.uintp(1), np.uintp(2), np.float32(1e-3)
    for i in range(first, last):
        x = np.uintp(i)
        v = weight[np.uintp(y) if turned else x] * by[np.uintp(y), x]
        base = np.floor(v)
        whole[x], part[x] = np.int32(base) - np.int32(1), v - base
    low, high = np.int32(rows), np.int32(-rows)
    for i in range(first, last):
        from_here = whole[np.uintp(i)] + np.int32(i if turned else y)
        low, high = min(low, from_here), max(high, from_here)
    beyond = low < 0 or high + 3 >= rows
    start = ((y + oy) * width + ox) * channels if turned else (oy * width + ox) * channels
    for i in range(first, last):
        x = np.uintp(i)
        t = part[x]
        t0, t1, t2, t3 = cubic(t)
        n = whole[x] + (i if turned else y)
        begin = start if turned else start + i * channels
        if beyond:
            a, b = np.uintp(begin + inside(n, rows, closed) * along), np.uintp(begin + inside(n + 1, rows, closed) * along)
            c, d = np.uintp(begin + inside(n + 2, rows, closed) * along), np.uintp(begin + inside(n + 3, rows, closed) * along)
        else:
            a = np.uintp(begin + n * along)
            b = a + step
            c = b + step
            d = c + step
        if form == 2:
            t0, t1 = t0 / max(samples[a + two], top), t1 / max(samples[b + two], top)
            t2, t3 = t2 / max(samples[c + two], top), t3 / max(samples[d + two], top)
            q = x + x
            row[q] = -(t0 * samples[a] + t1 * samples[b] + t2 * samples[c] + t3 * samples[d])
            a, b, c, d = a + one, b + one, c + one, d + one
            row[q + one] = -(t0 * samples[a] + t1 * samples[b] + t2 * samples[c] + t3 * samples[d])
        elif channels == 1:
            row[x] = t0 * samples[a] + t1 * samples[b] + t2 * samples[c] + t3 * samples[d]
        elif channels == 3:
            q = two * x + x
            row[q] = t0 * samples[a] + t1 * samples[b] + t2 * samples[c] + t3 * samples[d]
            a, b, c, d, q = a + one, b + one, c + one, d + one, q + one
            row[q] = t0 * samples[a] + t1 * samples[b] + t2 * samples[c] + t3 * samples[d]
            a, b, c, d, q = a + one, b + one, c + one, d + one, q + one
            row[q] = t0 * samples[a] + t1 * samples[b] + t2 * samples[c] + t3 * samples[d]
        else:
            q = np.uintp(channels * i)
            for _ in range(channels):
                row[q] = t0 * samples[a] + t1 * samples[b] + t2 * samples[c] + t3 * samples[d]
                q += one
                a, b, c, d = a + one, b + one, c + one, d + one
    if form == 2:
        lean_row(y, by, weight, turned, first, last, row)


@subkernel
def _fetch(samples, shape, form, oy, ox, y, by, weight, moved, turned, closed, first, last, whole, part, row):  # type: ignore[no-untyped-def]
    # Texels first … last of row y of one end of the overlap, which begins at (oy, ox) of the sheet: light + FLOOR, slopes,
    # or samples; into a row of channels after channels
    width, channels = shape[1], shape[2]
    start = ((y + oy) * width + ox) * channels
    if moved:
        _fetch_moved(samples, shape, form, oy, ox, y, by, weight, turned, closed, first, last, whole, part, row)
        if form == 1:
            for i in range(first * channels, last * channels):
                q = np.uintp(i)
                row[q] = lit(row[q])
    elif form == 2:
        for x in range(first, last):
            p = np.uintp(start + 3 * x)
            z = np.float32(-1) / max(samples[p + np.uintp(2)], np.float32(1e-3))
            q = np.uintp(2 * x)
            row[q], row[q + np.uintp(1)] = samples[p] * z, samples[p + np.uintp(1)] * z
    elif form == 1:
        for i in range(first * channels, last * channels):
            q = np.uintp(i)
            row[q] = lit(samples[q + np.uintp(start)])
    else:
        for i in range(first * channels, last * channels):
            q = np.uintp(i)
            row[q] = samples[q + np.uintp(start)]


@kernel(
    "f4[:,:,::1], i8, i8[:,::1], f4[:,::1], f4[:,::1], b1, b1, b1, UniTuple(i8, 2), f4[:,:,::1], f4[:,:,::1], "
    "f4[:,::1], i8, f4[:,:,::1], i8, i8",
)
def _fine_moments(src, form, origins, by, weights, moved, turned, closed, size, low_a, low_b, w, f, out, y0, y1):  # type: ignore[no-untyped-def]
    # Variance of what is finer than a block in both pictures, and their covariance, where both will show
    h, width = size
    channels = low_a.shape[2]
    samples, shape = src.reshape(-1), src.shape
    row_a, row_b = np.empty(width * channels, np.float32), np.empty(width * channels, np.float32)
    bases, parts = np.empty(width, np.int32), np.empty(width, np.float32)
    cols = w.shape[1]
    for j in range(y0, y1):
        out[j] = 0
        i = 0
        while i < cols:
            if not 0.002 < w[j, i] < 0.998:
                i += 1
                continue
            end = i + 1
            while end < cols and 0.002 < w[j, end] < 0.998:
                end += 1
            first, last = i * f, min(width, end * f)
            for y in range(j * f, min(h, j * f + f)):
                oy, ox = origins[0, 0], origins[0, 1]
                _fetch(samples, shape, form, oy, ox, y, by, weights[0], moved, turned, closed, first, last, bases, parts, row_a)
                oy, ox = origins[1, 0], origins[1, 1]
                _fetch(samples, shape, form, oy, ox, y, by, weights[1], moved, turned, closed, first, last, bases, parts, row_b)
                if form == 1:
                    for p in range(first * channels, last * channels):
                        q = np.uintp(p)
                        row_a[q], row_b[q] = log_of(row_a[q]), log_of(row_b[q])
                for n in range(i, end):
                    for k in range(channels):
                        mean_a, mean_b = low_a[j, n, k], low_b[j, n, k]
                        aa, bb, ab = np.float32(0), np.float32(0), np.float32(0)
                        for x in range(n * f, min(width, n * f + f)):
                            q = np.uintp(x * channels + k)
                            a, b = row_a[q] - mean_a, row_b[q] - mean_b
                            aa += a * a
                            bb += b * b
                            ab += a * b
                        out[j, n, 0] += aa
                        out[j, n, 1] += bb
                        out[j, n, 2] += ab
            out[j, i:end, 3] = 1
            i = end


@subkernel
def _taps4(at, n):  # type: ignore[no-untyped-def]
    base = int(np.floor(at))
    w0, w1, w2, w3 = cubic(np.float32(at - base))
    top = n - 1
    return min(max(base - 1, 0), top), min(max(base, 0), top), min(max(base + 1, 0), top), min(base + 2, top), w0, w1, w2, w3


@subkernel
def _finer(coarse, channel, count, rows, taps, f, first, last, steps, out):  # type: ignore[no-untyped-def]
    # Texels first … last of one row between the means of blocks, by four taps down and five along (two of them of half the
    # block only). Every block is laid out as its texels first, with two more at either end: then all is plain vector code.
    b0, b1, b2, b3, s0, s1, s2, s3 = rows
    j0, j1, j2, j3 = np.uintp(b0), np.uintp(b1), np.uintp(b2), np.uintp(b3)
    cols = coarse.shape[1]
    size = f * count
    start, end = max(0, first // f), min(cols, -(-last // f))
    stride, block = np.uintp(count), np.uintp(size)
    for i in range(start - 2, end + 2):
        n = np.uintp(min(max(i, 0), cols - 1))
        for k in range(count):
            c, p = np.uintp(channel + k), np.uintp((i + 2) * size + k)
            v = s0 * coarse[j0, n, c] + s1 * coarse[j1, n, c] + s2 * coarse[j2, n, c] + s3 * coarse[j3, n, c]
            for _ in range(f):
                steps[p] = v
                p += stride
    for i in range(start * size, end * size):
        q = np.uintp(i)
        v = taps[0, q] * steps[q] + taps[1, q] * steps[q + block] + taps[2, q] * steps[q + block + block]
        out[q] = v + taps[3, q] * steps[q + block + block + block] + taps[4, q] * steps[q + block + block + block + block]


@subkernel
def _tap_rows(f, count, out):  # type: ignore[no-untyped-def]
    # What `_finer` takes of five blocks, texel by texel
    out[:] = 0
    for q in range(out.shape[1]):
        x = q // count % f
        _, _, _, _, w0, w1, w2, w3 = _taps4((x + 0.5) / f + 1.5, 8)
        before = 0 if 2 * x + 1 < f else 1
        out[before, q], out[before + 1, q], out[before + 2, q], out[before + 3, q] = w0, w1, w2, w3


@subkernel
def _blend(form, first, last, channels, share, gains, row_a, row_b, more_a, more_b, broad_a, broad_b):  # type: ignore[no-untyped-def]
    # Both ends at once, into the row of the first: broad parts by share, fine parts with the contrast they would have lost
    p, q = first * channels, last * channels
    if form == 1:
        for i in range(p, q):
            n = np.uintp(i)
            row_a[n], row_b[n] = log_of(row_a[n]), log_of(row_b[n])
    for i in range(first, last):
        t, g = share[np.uintp(i)], gains[np.uintp(i)] - np.float32(1)
        for m in range(i * channels, (i + 1) * channels):
            n = np.uintp(m)
            a, b = row_a[n], row_b[n]
            fine = t * (a - broad_a[n]) + (np.float32(1) - t) * (b - broad_b[n])
            row_a[n] = t * (a + more_a[n]) + (np.float32(1) - t) * (b + more_b[n]) + g * fine
    if form == 1:
        for i in range(p, q):
            n = np.uintp(i)
            row_a[n] = exp_of(row_a[n]) - FLOOR


@subkernel
def _one_end(form, p, q, row, more):  # type: ignore[no-untyped-def]
    # Only one end is seen: its samples with the broad part that they share with the other
    if form == 1:
        for i in range(p, q):
            n = np.uintp(i)
            row[n] = row[n] * exp_of(more[n]) - FLOOR
    else:
        for i in range(p, q):
            n = np.uintp(i)
            row[n] += more[n]


@subkernel
def _finished(form, first, last, channels, row, done):  # type: ignore[no-untyped-def]
    # As samples again: slopes become normals
    if form == 2:
        for i in range(first, last):
            n = np.uintp(2 * i)
            u, v = row[n], row[n + np.uintp(1)]
            z = np.float32(1) / np.sqrt(u * u + v * v + np.float32(1))
            n = np.uintp(3 * i)
            done[n], done[n + np.uintp(1)], done[n + np.uintp(2)] = -u * z, -v * z, z
    else:
        for i in range(first * channels, last * channels):
            n = np.uintp(i)
            done[n] = row[n]


@kernel(
    "f4[:,:,::1], i8, i8[:,::1], f4[:,::1], f4[:,::1], b1, b1, b1, UniTuple(i8, 2), f4[:,:,::1], f4[:,:,::1], "
    "f4[:,:,::1], f4[:,:,::1], f4[:,:,::1], f4[::1], f4[::1], i8, f4[:,:,::1], i8, i8",
)
def _compose(  # type: ignore[no-untyped-def]
    src, form, origins, by, weights, moved, turned, closed, size, coarse, low_a, low_b, weight, gain, low, high, f, out, y0, y1
):
    # coarse holds, for 2 C channels, what has to be added to a and to b so that their broad parts are the blended ones.
    # What is finer is told from the broad parts as they go on smoothly: block by block it would show the blocks' borders.
    h, w = size
    channels = low_a.shape[2]
    rows, cols = weight.shape[0], weight.shape[1]
    samples, shape, result = src.reshape(-1), src.shape, out.reshape(-1)
    whole = cols * f * channels
    taps, taps1 = np.empty((5, whole), np.float32), np.empty((5, cols * f), np.float32)
    _tap_rows(f, channels, taps)
    _tap_rows(f, 1, taps1)
    steps = np.empty((cols + 4) * f * channels, np.float32)
    row_a, row_b = np.empty(whole, np.float32), np.empty(whole, np.float32)
    more_a, more_b = np.empty(whole, np.float32), np.empty(whole, np.float32)
    broad_a, broad_b = np.empty(whole, np.float32), np.empty(whole, np.float32)
    bases, parts = np.empty(w, np.int32), np.empty(w, np.float32)
    share, gains = np.empty(cols * f, np.float32), np.empty(cols * f, np.float32)
    done = np.empty(w * shape[2], np.float32)
    for y in range(y0, y1):
        down = _taps4((y + 0.5) / f - 0.5, rows)
        _finer(weight, 0, 1, down, taps1, f, 0, w, steps, share)
        for i in range(w):
            u = np.uintp(i)
            c = np.uintp(y) if turned else u
            share[u] = np.float32(1) - (np.float32(1) - share[u] * low[c]) * high[c]
        line = y * out.shape[1] * shape[2]
        x = 0
        while x < w:
            # Runs of texels where one end is seen, or the other, or both
            first, t = x, share[x]
            sort = 0 if t >= np.float32(1) - SURE else (1 if t <= SURE else 2)
            x += 1
            while x < w:
                t = share[np.uintp(x)]
                if sort != (0 if t >= np.float32(1) - SURE else (1 if t <= SURE else 2)):
                    break
                x += 1
            if sort != 1:
                oy, ox = origins[0, 0], origins[0, 1]
                _fetch(samples, shape, form, oy, ox, y, by, weights[0], moved, turned, closed, first, x, bases, parts, row_a)
                _finer(coarse, 0, channels, down, taps, f, first, x, steps, more_a)
            if sort != 0:
                oy, ox = origins[1, 0], origins[1, 1]
                _fetch(samples, shape, form, oy, ox, y, by, weights[1], moved, turned, closed, first, x, bases, parts, row_b)
                _finer(coarse, channels, channels, down, taps, f, first, x, steps, more_b)
            if sort == 2:
                _finer(low_a, 0, channels, down, taps, f, first, x, steps, broad_a)
                _finer(low_b, 0, channels, down, taps, f, first, x, steps, broad_b)
                _finer(gain, 0, 1, down, taps1, f, first, x, steps, gains)
                _blend(form, first, x, channels, share, gains, row_a, row_b, more_a, more_b, broad_a, broad_b)
            elif sort == 1:
                _one_end(form, first * channels, x * channels, row_b, more_b)
            else:
                _one_end(form, first * channels, x * channels, row_a, more_a)
            _finished(form, first, x, channels, row_b if sort == 1 else row_a, done)
        # Only now, as the result may lie where the row was fetched from
        for i in range(w * shape[2]):
            n = np.uintp(i)
            result[n + np.uintp(line)] = done[n]


class _Move(NamedTuple):
    """By how much both ends move along the overlap, texel by texel, and the part of it that each does."""

    by: Floats
    weights: Floats


def join_wide(
    pixels: Floats,
    form: Form,
    axis: int,
    keep: int,
    path: NDArray[np.float64],
    softness: float,
    parted: Parted | None,
    shift: Floats | None,
    closed: bool,
    out: Floats,
    task: Task,
) -> None:
    """`strip.join_strip` of both ends of a sheet, moved along each other or not, for overlaps wide enough for a coarse grid.

    Parameters
    ----------
    pixels : array, shape (H, W, C)
        The whole sheet, in one piece of memory.
    form : Form
        How its samples go over.
    axis, keep, path, softness, closed, parted, shift
        See `join.closed_along`; at least 2 `LEAST` of softness.
    out : array
        The result; what lies in the overlap is written. May be the beginning of ``pixels`` itself when axis is 0.

    Notes
    -----
    What is broader than a block is moved as blocks. That is not quite the broad part of what is moved texel by texel, but the
    same on both sides of what is added to it, so it falls out but for the few texels where both ends are seen.
    """
    turned = axis == 0
    n = pixels.shape[axis] - keep
    h, w = (n, pixels.shape[1]) if turned else (pixels.shape[0], n)
    rows = w if turned else h
    channels = 2 if form is Form.SLOPES else pixels.shape[2]
    origins = np.array([(0, 0), (keep, 0) if turned else (0, keep)], np.int64)
    size = (h, w)
    f = min(8, int(softness / LEAST))
    shape = (-(-h // f), -(-w // f), channels)
    low_a, low_b = (means_of_blocks(pixels, form, (int(y), int(x)), size, f, task) for y, x in origins)
    move = _Move(np.zeros((1, 1), np.float32), np.zeros((2, 1), np.float32))
    if shift is not None:
        by, share = displacement(shift, rows, n, turned, closed)
        move = _Move(by, np.stack([share - 1, share]))
        low_a, low_b = slid_blocks(low_a, low_b, form is Form.SLOPES, axis, shift, rows / f, closed, task)

    def lay(a: Floats) -> Floats:
        return np.ascontiguousarray(a.transpose(1, 0, 2) if turned else a)

    small_rows, small_n = -(-rows // f), -(-n // f)
    at = np.minimum((np.arange(small_rows) + 0.5) * f - 0.5, rows - 1)
    small_path = np.interp(at, np.arange(rows), path) / f
    sides = lay(low_a), lay(low_b)
    blended = join_strip(*sides, small_path, softness / f, closed, task)
    if parted is not None:  # what it adds is broader than a block
        by_row = Parted(*(np.interp(at, np.arange(rows), line).astype(np.float32) for line in parted))
        part_objects(blended, *sides, small_path, by_row, softness / f, windows(small_n), closed, task)
    mask = np.empty((small_rows, small_n), np.float32)
    over_rows(small_rows, partial(mask_of, small_path, mask), task)
    weight = smoothed(mask, softness / f, closed, task)
    if turned:
        blended, weight = np.ascontiguousarray(blended.transpose(1, 0, 2)), np.ascontiguousarray(weight.T)
    moments = np.empty((shape[0], shape[1], 4), np.float32)
    fetched = (pixels, int(form), origins, *move, shift is not None, turned, closed, size)
    over_rows(shape[0], partial(_fine_moments, *fetched, low_a, low_b, weight, f, moments), task, least=4)
    seen = blur(moments, 2.0 * softness / f, False, task)
    aa, bb, ab = (seen[..., k] / np.maximum(seen[..., 3], 1e-6) for k in range(3))
    want = weight * aa + (1 - weight) * bb
    have = weight**2 * aa + (1 - weight) ** 2 * bb + 2 * weight * (1 - weight) * ab
    gain = np.where(seen[..., 3] > 1e-4, np.sqrt(np.maximum(want, 0) / np.maximum(have, 1e-12)), 1.0)
    gain = np.ascontiguousarray(np.clip(gain, 1.0, 1.5)[..., None], np.float32)
    coarse = np.ascontiguousarray(np.concatenate([blended - low_a, blended - low_b], 2), np.float32)
    work = partial(_compose, *fetched, coarse, low_a, low_b, weight[..., None], gain, *windows(n), f, out)
    over_rows(h, work, task, cost=w * channels * 1e-3)
