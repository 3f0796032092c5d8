"""Different things on both sides of a cut: found, and kept from tinting each other."""

from __future__ import annotations

from functools import partial
from typing import Any, NamedTuple

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import inlined, kernel
from silent_loom.core.base.parallel import IDLE, Task, over_rows
from silent_loom.core.moving.resample import blur
from silent_loom.core.tiling.cutting.contour import LOOK, SKIP
from silent_loom.core.tiling.cutting.layers import Layers

OBJECT = (0.06, 0.16)
"""Steps of tone between which what meets at the cut begins to be two things and not one in two lights, in features."""
STEP = 0.11**2
"""The middle of that, squared."""
SEEN = (0.03, 0.08)
"""Steps of tone between which one that the cut makes begins to be seen."""
ENOUGH = (0.02, 0.12)
"""Part of what lies beside the cut that has to be two things."""
ANY = (0.002, 0.02)
"""The same part among flat shapes."""
FLAT = (0.006, 0.012)
"""Part of a sheet of flat shapes that lies at their borders: one more border there is none too many …"""
ALONE = (0.6, 0.8)
"""… and how many of its borders have no line between."""
SHARP = 3.0
"""Texels each way within which the tone changes there, at `layers.FULL`."""
LINES = 1.5
"""Blur by which lines are told from grain, at `layers.FULL`."""
LINED = 0.25
"""Part of a step of tone by which what lies at a border is neither of both sides, where a line is there."""
DRIFT = 0.5
"""Part of the cut whose usual difference in tone is a difference in light."""
PLACES = 256
"""Along the cut, where that is told."""
KEPT = 60.0
"""Detail finer than this part of the overlap is blended alike whatever lies beside the cut."""
AT_CUT = 30.0
"""Both sides are compared for their light within this part of the overlap from the cut …"""
SHARED = 0.06
"""… and that is smooth over this part of the cut, a standard deviation."""
_LEAST = 0.004
"""What is parted less than this is not parted."""


class Parted(NamedTuple):
    """What lies beside a cut, by row.

    Attributes
    ----------
    objects : array, shape (rows,)
        0…1: 1 where both pictures show different things near the cut, and what is shown changes at the cut no more than
        one of them does there by itself, or where flat shapes meet.
    alike : array, shape (rows,)
        0…1: 1 where both show the same tone right at the cut.
    """

    objects: Floats
    alike: Floats


def _smooth_step(x: Floats, ends: tuple[float, float]) -> Floats:
    t = np.clip((x - np.float32(ends[0])) / np.float32(ends[1] - ends[0]), 0, 1)
    return t * t * (3 - 2 * t)


def _along(lines: NDArray[Any], sigma: float, closed: bool) -> Floats:
    """Blur of values by row, shape (rows, C)."""
    out: Floats = blur(np.ascontiguousarray(lines[:, None], np.float32), (0.0, sigma), closed)[:, 0]
    return out


def _usual(lines: Floats, closed: bool) -> Floats:
    """Median over `DRIFT` of the rows around each of them, shape (rows, C)."""
    rows = len(lines)
    places = min(PLACES, rows)
    at = np.minimum((np.arange(places) + 0.5) * rows / places, rows - 1).astype(int)
    reach = max(1, int(DRIFT * places / 2))
    padded = np.pad(lines[at], ((reach, reach), (0, 0)), "wrap" if closed else "edge")
    medians = np.median(sliding_window_view(padded, 2 * reach + 1, axis=0), axis=-1)
    out: Floats = medians[np.minimum(np.arange(rows) * places // rows, places - 1)].astype(np.float32)
    return out


def _most(line: Floats, reach: int, closed: bool) -> Floats:
    """The greatest value within so many rows, shape (rows,): broad bands of what lies there reach as far."""
    padded = np.pad(line, (reach, reach), "wrap" if closed else "edge")
    out: Floats = sliding_window_view(padded, 2 * reach + 1).max(1)
    return out


@inlined
def _border(base, seen, y0, x0, y1, x1, y, x, down, right, reach, close, toned):  # type: ignore[no-untyped-def]
    # Between two places: 0 where tone does not change sharply, 1 where it does with a line between, 2 without one
    length, near = np.float32(0), np.float32(0)
    for k in range(toned):
        whole = base[y1, x1, k] - base[y0, x0, k]
        part = base[y + down * close, x + right * close, k] - base[y - down * close, x - right * close, k]
        length += whole * whole
        near += part * part
    if length <= np.float32(STEP) or near <= np.float32(0.5) * length:
        return 0
    for i in range(-1, 2):  # what lies between is neither of both where a joint runs there
        v, u = y + i * down * (reach // 2), x + i * right * (reach // 2)
        t = np.float32(0)
        for k in range(toned):
            t += (seen[v, u, k] - base[y0, x0, k]) * (base[y1, x1, k] - base[y0, x0, k])
        t = min(max(t / length, np.float32(0)), np.float32(1))
        off = np.float32(0)
        for k in range(toned):
            d = seen[v, u, k] - base[y0, x0, k] - t * (base[y1, x1, k] - base[y0, x0, k])
            off += d * d
        if off > np.float32(LINED * LINED) * length:
            return 1
    return 2


@kernel("f4[:,:,::1], f4[:,:,::1], i8, i8, i8, i8[:,::1], i8, i8")
def _count(base, seen, reach, close, toned, counts, y0, y1):  # type: ignore[no-untyped-def]
    h, w = base.shape[:2]
    for y in range(max(y0, reach), min(y1, h - reach)):
        sharp, plain = 0, 0
        for x in range(reach, w - reach):
            across = _border(base, seen, y, x - reach, y, x + reach, y, x, 0, 1, reach, close, toned)
            down = _border(base, seen, y - reach, x, y + reach, x, y, x, 1, 0, reach, close, toned)
            sharp += 1 if max(across, down) > 0 else 0
            plain += 1 if max(across, down) > 1 else 0
        counts[y, 0], counts[y, 1] = sharp, plain


def _borders(side: Layers, reach: int, scale: float, toned: int, task: Task = IDLE) -> NDArray[np.float64]:
    """Part of a picture where its tone changes sharply, and part where it does so without a line between."""
    h, w = side.line.shape
    if min(h, w) <= 2 * reach:
        return np.zeros(2)
    seen = blur(np.ascontiguousarray(side.base[..., :toned] + side.detail[..., :toned]), LINES * scale, False, task)
    counts = np.zeros((h, 2), np.int64)
    over_rows(h, partial(_count, side.base, seen, reach, max(1, round(SHARP * scale)), toned, counts), task)
    out: NDArray[np.float64] = counts.sum(0) / ((h - 2 * reach) * (w - 2 * reach))
    return out


def _flat(first: Layers, second: Layers, reach: int, scale: float, toned: int, task: Task = IDLE) -> np.float32:
    """0…1: 1 where flat shapes meet without joints."""
    one, other = (_borders(side, reach, scale, toned, task) for side in (first, second))
    sharp, plain = (one + other) / 2
    common = _smooth_step(np.array([plain], np.float32), FLAT)
    alone = _smooth_step(np.array([plain / max(sharp, 1e-6)], np.float32), ALONE)
    return np.float32((common * alone)[0])


@kernel("f4[:,:,::1], f4[:,:,::1], i4[::1], f4[:,::1], f8, i8, f4[::1], i8, i8")
def _shares(first, second, at, drift, reach, toned, out, y0, y1):  # type: ignore[no-untyped-def]
    # How much of what lies beside the cut is two things, light apart
    n = first.shape[1]
    low, high = np.float32(OBJECT[0]), np.float32(OBJECT[1])
    for y in range(y0, y1):
        total, count = np.float32(0), 0
        for x in range(max(0, int(at[y] - reach) + 1), min(n, int(np.ceil(at[y] + reach)))):
            apart = np.float32(0)
            for k in range(toned):
                d = first[y, x, k] - second[y, x, k] - drift[y, k]
                apart += d * d
            t = min(max((np.sqrt(apart) - low) / (high - low), np.float32(0)), np.float32(1))
            total += t * t * (np.float32(3) - np.float32(2) * t)
            count += 1
        out[y] = total / np.float32(max(count, 1))


def parted_at(
    first: Layers, second: Layers, path: NDArray[np.int32], scale: float, toned: int, closed: bool, task: Task = IDLE
) -> Parted:
    """Where different things lie on top of each other beside a cut that parts them without a step of its own.

    Parameters
    ----------
    first, second, scale, closed
        See `contour.contour_prices`.
    path : array, shape (rows,)
        See `cut.lowest_cut`.
    toned : int
        How many of the first planes have a tone.

    >>> from silent_loom.core.tiling.cutting.layers import layers_of
    >>> even = layers_of(np.full((32, 32, 1), 0.5, np.float32), 1.0)
    >>> type(parted_at(even, even, np.full(32, 16, np.int32), 1.0, 1, False)).__name__
    'Parted'
    """
    rows, n = first.line.shape
    if toned == 0:
        return Parted(np.zeros(rows, np.float32), np.ones(rows, np.float32))
    look, at = max(2, round((LOOK + SKIP) * scale)), np.clip(path, 0, n - 1)
    y, left, right = np.arange(rows), np.maximum(at - look, 0), np.minimum(at + look, n - 1)
    a, b, c, d = (side.base[y, x, :toned] for side in (first, second) for x in (left, right))
    drift = _usual(((a + b) - (c + d)) * np.float32(0.5), closed)
    step = b - c - drift
    size = np.sqrt(np.square(step).sum(1))
    # The same step is nothing to be seen where the border of one of the pictures lies there
    beside = np.sqrt(np.minimum(np.square(step - (b - a)).sum(1), np.square(step - (d - c)).sum(1)))
    share = np.empty(rows, np.float32)
    over_rows(rows, partial(_shares, first.base, second.base, at, drift, n / 3, toned, share), task)
    share = _most(share, n // 6, closed)
    flat = _flat(first, second, look, scale, toned, task)
    natural = _smooth_step(share, ENOUGH) * (1 - _smooth_step(np.minimum(size, beside), SEEN))
    objects = natural + flat * (_smooth_step(share, ANY) - natural)
    return Parted(_along(objects[:, None], look / 2, closed)[:, 0], (1 - _smooth_step(size, SEEN)).astype(np.float32))


@kernel("f4[:,:,::1], f4[:,:,::1], f8[::1], f8, f4[:,::1], i8, i8")
def _gaps(near, far, path, reach, out, p, q):  # type: ignore[no-untyped-def]
    # By how much the near side is more than the far one, on average, around the cut
    n = near.shape[1]
    for y in range(p, q):
        out[y] = 0
        first, last = max(0, int(path[y] - reach)), min(n, int(path[y] + reach) + 1)
        for x in range(first, last):
            for k in range(near.shape[2]):
                out[y, k] += near[y, x, k] - far[y, x, k]
        for k in range(near.shape[2]):
            out[y, k] /= np.float32(max(1, last - first))


@kernel("f4[:,:,::1], f4[:,:,::1], f8[::1], f4[:,::1], f4[::1], f8, f4[::1], f4[::1], f4[:,:,::1], f4[:,:,::1], i8, i8")
def _lacking(near, far, path, drift, objects, softness, low, high, out, more, p, q):  # type: ignore[no-untyped-def]
    # What lacks to both sides parted at the cut, each with its part of their drift in tone taken off
    n = near.shape[1]
    for y in range(p, q):
        if objects[y] < np.float32(_LEAST):
            more[y] = 0
            continue
        for x in range(n):
            d = np.float32((x + 0.5 - path[y]) / (2.5 * softness))
            d = min(max(d, np.float32(-1)), np.float32(1))
            w = np.float32(0.5) + d * (np.float32(0.75) - np.float32(0.25) * d * d)
            t = np.float32((x + 0.5 - path[y]) / (0.5 * n)) + np.float32(0.5)
            t = min(max(t, np.float32(0)), np.float32(1))
            t = np.float32(1) - (np.float32(1) - t * t * (np.float32(3) - np.float32(2) * t) * low[x]) * high[x]
            for k in range(near.shape[2]):
                a = near[y, x, k] - (np.float32(1) - t) * drift[y, k]
                b = far[y, x, k] + t * drift[y, k]
                more[y, x, k] = objects[y] * (b + w * (a - b) - out[y, x, k])


def part_objects(
    out: Floats,
    near: Floats,
    far: Floats,
    path: NDArray[np.float64],
    parted: Parted,
    softness: float,
    windows: tuple[Floats, Floats],
    closed: bool,
    task: Task = IDLE,
) -> None:
    """Where the cut runs along the border of something, let both sides meet there and not go over into each other.

    Parameters
    ----------
    out, near, far : arrays, shape (rows, n, C)
        The joined strip, which is changed, and its two pictures.
    path, softness, closed
        See `strip.join_strip`.
    parted : Parted
    windows : two arrays, shape (n,)
        Eases at both borders of the strip, where each picture has to be exact.

    Notes
    -----
    Bands that go over within their own width are for what looks alike on both sides. Where an object ends at the cut they
    would tint what lies beside it. Only the difference in tone between both sides that goes on along the cut is shared out.
    Fine bands are left as they are.
    """
    if parted.objects.max(initial=0) <= _LEAST:
        return
    rows, n, channels = near.shape
    gaps = np.empty((rows, channels), np.float32)
    over_rows(rows, partial(_gaps, near, far, path, n / AT_CUT, gaps), task)
    sure = parted.alike[:, None] + np.float32(1e-3)
    drift = np.ascontiguousarray(_along(gaps * sure, SHARED * rows, closed) / _along(sure, SHARED * rows, closed))
    beyond = min(rows, int(np.ceil(3.5 * n / KEPT))) if closed else 0
    wide = np.empty((rows + 2 * beyond, n, channels), np.float32)
    more = wide[beyond : beyond + rows]
    lacking = partial(_lacking, near, far, path, drift, parted.objects, softness, *windows, out, more)
    over_rows(rows, lacking, task, cost=n * channels * 1e-3)
    if closed:
        wide[:beyond], wide[beyond + rows :] = more[rows - beyond :], more[:beyond]
    low, high = windows
    inside = np.minimum(1, 4 * low * high)[None, :, None]  # a blur reaches over the border
    out += inside * blur(wide, n / KEPT, False, task)[beyond : beyond + rows]
