"""What drifts between both ends of an overlap, taken out by bending both towards each other."""

from __future__ import annotations

from functools import partial
from typing import Any

import cv2
import numpy as np

from silent_loom.core.base.images import Floats, Kind
from silent_loom.core.base.kernels import inlined, kernel
from silent_loom.core.base.parallel import Task, over_rows
from silent_loom.core.moving.carry import cubic_weights, placed
from silent_loom.core.moving.resample import blur, reduce_area
from silent_loom.core.moving.slopes import normals_of, slopes_of

CELL = 8
"""Texels of the decision size to a value of the kept field, which is smooth over more than that."""
STAGES = ((1 / 12, 1.5, 6), (1 / 24, 0.8, 6), (0.0, 0.5, 3))
"""Blur of what is compared, as a part of the shorter repeat; window a drift is told over, as a part of the longer one; rounds."""
DAMP = 0.02
ENOUGH = 14
"""Texels of the shorter repeat at which drift is looked for, at least."""
STEEPEST = 0.25
"""How much of the overlap both ends may be moved by at most; more would fold."""
WORTH = 0.8
"""A drift is kept where it leaves less than this part of the difference."""


def drift_between(
    first: Floats, second: Floats, repeat: tuple[float, float], closed: bool, task: Task, only: int | None = None
) -> Floats | None:
    """Where the second of two strips shows what the first one shows.

    Parameters
    ----------
    first, second : arrays, shape (rows, n, K)
        Features of both ends of an overlap, alike but for a smooth drift.
    repeat : tuple of float
        The shorter and the longer repeat in texels: nothing finer than a part of the first is smoothed away, and a drift is
        told over about as much as the second.
    closed : bool
        The rows wrap.
    only : int, optional
        What stripes alone tell: 0 a drift across, 1 one along. Whatever lies between them belongs to no other place.

    Returns
    -------
    array, shape (R, N, 2), or None
        On a grid of `CELL` texels: across, as a part of n, and along, as a part of the rows; ``first(p)`` looks like
        ``second(p + u(p))``. None where nothing is gained by moving anything.

    Notes
    -----
    Iterative registration over soft windows (Lucas & Kanade 1981), from wide ones to narrow ones, damped where a direction
    shows no structure: along stripes nothing is moved. What fits badly is taken from around it each time the windows
    shrink, since an element that was taken for its neighbour fits worse than the rest.

    >>> from silent_loom.core.base.parallel import IDLE
    >>> strip = np.random.default_rng(1).random((128, 64, 1)).astype(np.float32)
    >>> drift = drift_between(strip, strip, (16.0, 32.0), False, IDLE)
    >>> drift is None or float(np.abs(drift).max()) < 0.1
    True
    """
    rows, n, _ = first.shape
    finest, period = repeat
    pad = min(rows, int(np.ceil(3 * period))) if closed else 0
    a, b = (np.concatenate([s[rows - pad :], s, s[:pad]]) if pad else s for s in (first, second))
    # Found where the shorter repeat has just enough texels, then placed exactly
    f = max(1, int(finest / ENOUGH))
    u: Any = np.zeros((2, 2, 2), np.float32)
    for scale, stages in ((f, STAGES[:-1]), (1, STAGES[-1:])):
        small_a, small_b = (_reduced(s, scale) for s in (a, b))
        high, wide = small_a.shape[:2]
        u = cv2.resize(u, (wide, high), interpolation=cv2.INTER_LINEAR) * np.array([wide, high], np.float32)
        found = _registered(small_a, small_b, u, finest / scale, period / scale, stages, only, task)
        u = found / np.array([wide, high], np.float32)
    high, wide = a.shape[:2]
    across, along = _places(u)
    after = np.square(a - _moved(b, across, along)).sum(2)
    inner = slice(pad, pad + rows)
    if after[inner].mean() >= WORTH * np.square(a - b).sum(2)[inner].mean():
        return None
    return reduce_area(
        np.ascontiguousarray(u[inner] * np.array([1, high / rows], np.float32)), max(2, n // CELL), max(2, rows // CELL)
    )


def _registered(
    a: Floats,
    b: Floats,
    u: Floats,
    finest: float,
    period: float,
    stages: tuple[tuple[float, float, int], ...],
    only: int | None,
    task: Task,
) -> Floats:
    # Tone that differs, by light or from element to element, says nothing of place
    a, b = (_blurred(s, 0.7, task) - _blurred(s, 0.5 * period, task) for s in (a, b))
    most = np.float32(STEEPEST * a.shape[1])
    size = np.array([a.shape[1], a.shape[0]], np.float32)
    for soft, part, rounds in stages:
        window = max(4.0, part * period)
        soft_a, soft_b = (_blurred(s, max(0.7, soft * finest), task) for s in (a, b))
        for _ in range(rounds):
            task.checkpoint()
            u = np.clip(u + _step(soft_a, _moved(soft_b, *_places(u / size)), window, only, task), -most, most)
        gap = np.square(soft_a - _moved(soft_b, *_places(u / size))).sum(2)
        misfit = _blurred(gap, 0.5 * window, task)
        trust = np.exp(-np.square(misfit / (2.0 * float(np.median(misfit)) + 1e-12)))[..., None] + np.float32(1e-3)
        u = _blurred(u * trust, part * period, task) / _blurred(trust, part * period, task)
    return u


def _places(u: Floats) -> tuple[Floats, Floats]:
    """Where each texel is moved to, in texels; ``u`` in parts of the strip's width and height."""
    h, w = u.shape[:2]
    return np.arange(w, dtype=np.float32) + u[..., 0] * w, np.arange(h, dtype=np.float32)[:, None] + u[..., 1] * h


def _reduced(planes: Floats, by: int) -> Floats:
    h, w = planes.shape[:2]
    return planes if by == 1 else reduce_area(np.ascontiguousarray(planes), max(4, w // by), max(4, h // by))


def _blurred(planes: Floats, sigma: float, task: Task) -> Floats:
    return blur(np.ascontiguousarray(planes, np.float32), sigma, False, task)


@kernel("f4[:,:,::1], f4[:,:,::1], f4[:,:,::1], i8, i8")
def _sums(still, moved, out, y0, y1):  # type: ignore[no-untyped-def]
    # Products of the mean slopes of both, and of those with what they differ by
    h, w, planes = still.shape
    for y in range(y0, y1):
        top, low = max(y - 1, 0), min(y + 1, h - 1)
        for x in range(w):
            left, right = max(x - 1, 0), min(x + 1, w - 1)
            xx, xy, yy, xe, ye = np.float32(0), np.float32(0), np.float32(0), np.float32(0), np.float32(0)
            for k in range(planes):
                gx = still[y, right, k] - still[y, left, k] + moved[y, right, k] - moved[y, left, k]
                gy = still[low, x, k] - still[top, x, k] + moved[low, x, k] - moved[top, x, k]
                gx, gy = gx / np.float32(2 * (right - left)), gy / np.float32(2 * (low - top))
                gap = still[y, x, k] - moved[y, x, k]
                xx += gx * gx
                xy += gx * gy
                yy += gy * gy
                xe += gx * gap
                ye += gy * gap
            out[y, x, 0], out[y, x, 1], out[y, x, 2], out[y, x, 3], out[y, x, 4] = xx, xy, yy, xe, ye


def _step(still: Floats, moved: Floats, window: float, only: int | None, task: Task) -> Floats:
    """How much further, texel by texel, to move what was moved so that it fits what stands still."""
    sums = np.empty((*still.shape[:2], 5), np.float32)
    over_rows(still.shape[0], partial(_sums, still, moved, sums), task)
    soft = _blurred(sums, window, task)
    xx, xy, yy, xe, ye = (soft[..., k] for k in range(5))
    damp = np.float32(DAMP * float((xx + yy).mean()) + 1e-9)
    xx, yy = xx + damp, yy + damp
    if only is None:
        step = np.stack([yy * xe - xy * ye, xx * ye - xy * xe], 2) / (xx * yy - xy * xy)[..., None]
    else:
        step = np.stack([np.zeros_like(xe), ye / yy] if only else [xe / xx, np.zeros_like(ye)], 2)
    out: Floats = np.clip(step, np.float32(-2), np.float32(2))
    return out


def _moved(planes: Floats, across: Floats, along: Floats) -> Floats:
    parts = [
        cv2.remap(np.ascontiguousarray(planes[..., k : k + 4]), across, along, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
        for k in range(0, planes.shape[2], 4)
    ]
    return np.concatenate([p.reshape(*across.shape, -1) for p in parts], 2)


@inlined
def _cubic(src, u, v, wrap_x, wrap_y, k):  # type: ignore[no-untyped-def]
    h, w, _ = src.shape
    fx, fy = np.floor(u), np.floor(v)
    i, j = int(fx), int(fy)
    wx, wy = cubic_weights(u - fx), cubic_weights(v - fy)
    xa, xb = placed(i - 1, w, wrap_x), placed(i, w, wrap_x)
    xc, xd = placed(i + 1, w, wrap_x), placed(i + 2, w, wrap_x)
    s = np.float32(0)
    for m in range(4):
        y = placed(j - 1 + m, h, wrap_y)
        t = wy[0] if m == 0 else (wy[1] if m == 1 else (wy[2] if m == 2 else wy[3]))
        s += t * (wx[0] * src[y, xa, k] + wx[1] * src[y, xb, k] + wx[2] * src[y, xc, k] + wx[3] * src[y, xd, k])
    return s


@inlined
def _source(field, across, along, n, rows, far, closed):  # type: ignore[no-untyped-def]
    # Where a place of the strip is taken from, in texels of the strip: the far end all the way where it alone shows
    x = (across + 0.5) * field.shape[1] / n - 0.5
    y = (along + 0.5) * field.shape[0] / rows - 0.5
    t = min(max((across + 0.5) / n, 0.0), 1.0)
    share = t * t * (3 - 2 * t) - (0.0 if far else 1.0)
    du, dv = _cubic(field, x, y, False, closed, 0), _cubic(field, x, y, False, closed, 1)
    return across + share * du * n, along + share * dv * rows


@kernel("f4[:,:,::1], f4[:,:,::1], i8, b1, b1, b1, b1, b1, f4[:,:,::1], i8, i8")
def _bend(src, field, keep, turned, closed, far, nearest, slopes, out, y0, y1):  # type: ignore[no-untyped-def]
    h, w, channels = out.shape
    n, rows = (h, w) if turned else (w, h)
    start = keep if far else 0
    for y in range(y0, y1):
        for x in range(w):
            across, along = (y, x) if turned else (x, y)
            pa, pl = _source(field, float(across), float(along), n, rows, far, closed)
            u, v = (pl, pa + start) if turned else (pa + start, pl)
            wrap_x, wrap_y = closed and turned, closed and not turned
            if nearest:
                i, j = placed(int(np.floor(v + 0.5)), src.shape[0], wrap_y), placed(int(np.floor(u + 0.5)), src.shape[1], wrap_x)
                for k in range(channels):
                    out[y, x, k] = src[i, j, k]
                continue
            for k in range(channels):
                out[y, x, k] = _cubic(src, u, v, wrap_x, wrap_y, k)
            if slopes:
                # Through the transpose of the Jacobian; the second slope goes up, rows go down
                qa = _source(field, across + 0.5, float(along), n, rows, far, closed)
                qb = _source(field, across - 0.5, float(along), n, rows, far, closed)
                qc = _source(field, float(across), along + 0.5, n, rows, far, closed)
                qd = _source(field, float(across), along - 0.5, n, rows, far, closed)
                aa, la, al, ll = qa[0] - qb[0], qa[1] - qb[1], qc[0] - qd[0], qc[1] - qd[1]
                right, down = out[y, x, 0], -out[y, x, 1]
                if turned:
                    out[y, x, 0], out[y, x, 1] = ll * right + al * down, -(la * right + aa * down)
                else:
                    out[y, x, 0], out[y, x, 1] = aa * right + la * down, -(al * right + ll * down)


def bent(pixels: Floats, kind: Kind | None, axis: int, keep: int, field: Floats, closed: bool, task: Task) -> Floats:
    """A sheet with both ends of its overlap bent so that they show the same elements at the same places.

    Parameters
    ----------
    pixels : array, shape (H, W, C)
    kind : Kind or None
        Ids are moved by nearest, normals turned with the field; None for planes of any kind.
    axis : int
        1 when the sheet will be closed from left to right, 0 from top to bottom.
    keep : int
        Width (height) of the closed sheet.
    field : array, shape (R, N, 2)
        See `drift_between`.
    closed : bool
        The other axis is closed already.

    Returns
    -------
    array, shape (H, W, C)
        At the outer border of the strip that stays, each end is as it was; from there the bend grows smoothly, so that
        nothing jumps where the overlap ends (features brought together before a cut: Wu & Yu 2004).

    >>> from silent_loom.core.base.parallel import IDLE
    >>> pixels = np.random.default_rng(1).random((32, 48, 1)).astype(np.float32)
    >>> still = np.zeros((32, 16, 2), np.float32)
    >>> float(np.abs(bent(pixels, Kind.DATA, 1, 32, still, False, IDLE) - pixels).max()) < 1e-6
    True
    """
    n = pixels.shape[axis] - keep
    normal = kind is Kind.NORMAL
    values = slopes_of(pixels, task) if normal else pixels
    out = values.copy()
    for far in (False, True):
        at = slice(keep, None) if far else slice(0, n)
        strip = np.empty_like(out[at] if axis == 0 else out[:, at])
        over_rows(
            strip.shape[0],
            partial(_bend, values, field, keep, axis == 0, closed, far, kind is Kind.ID, normal, strip),
            task,
            cost=strip.shape[1] * values.shape[2] * 4e-5,
        )
        if axis == 0:
            out[at] = strip
        else:
            out[:, at] = strip
    return normals_of(out, task) if normal else out
