"""Both ends of an overlap moved along it towards each other, so that what was found to belong together meets."""

from __future__ import annotations

from functools import partial

import numpy as np

from silent_loom.core.base.images import Floats, Kind
from silent_loom.core.base.kernels import inlined, kernel, subkernel
from silent_loom.core.base.parallel import IDLE, Task, over_rows
from silent_loom.core.moving.cubic import cubic
from silent_loom.core.moving.resample import between
from silent_loom.core.moving.slopes import normals_of, slopes_of


@inlined
def inside(i, rows, closed):  # type: ignore[no-untyped-def]
    if closed:
        return i + rows if i < 0 else (i - rows if i >= rows else i)
    return min(max(i, 0), rows - 1)


@kernel("f4[:,:,::1], f4[:,::1], f4[::1], b1, b1, b1, f4[:,:,::1], i8, i8")
def _slide(src, by, weight, turned, closed, nearest, out, y0, y1):  # type: ignore[no-untyped-def]
    h, w, channels = out.shape
    rows, step = (w, np.uintp(channels)) if turned else (h, np.uintp(w * channels))
    one = np.uintp(1)
    whole, taps = np.empty(w, np.int32), np.empty((4, w), np.float32)
    values = src.reshape(-1)  # with places that are never negative, which would be asked of each of them
    for y in range(y0, y1):
        for x in range(w):
            v = (weight[y] if turned else weight[x]) * by[y, x]
            base = np.floor(v + np.float32(0.5) if nearest else v)
            t = np.float32(0) if nearest else v - base
            whole[x] = np.int32(base)
            taps[0, x], taps[1, x], taps[2, x], taps[3, x] = cubic(t)
        low, high = whole.min(), whole.max()
        first, last = 0, w  # where nothing comes from beyond the ends
        if turned:
            first, last = min(w, max(0, 1 - low)), max(0, w - max(0, 2 + high))
        elif y + low < 1 or y + high + 2 >= rows:
            last = 0
        for x in range(w):
            if first <= x < last:
                continue
            i = (x if turned else y) + whole[x]
            a, b = inside(i - 1, rows, closed), inside(i, rows, closed)
            c, d = inside(i + 1, rows, closed), inside(i + 2, rows, closed)
            for k in range(channels):
                if turned:
                    p, q, r, s = src[y, a, k], src[y, b, k], src[y, c, k], src[y, d, k]
                else:
                    p, q, r, s = src[a, x, k], src[b, x, k], src[c, x, k], src[d, x, k]
                out[y, x, k] = taps[0, x] * p + taps[1, x] * q + taps[2, x] * r + taps[3, x] * s
        if channels == 1:
            for x in range(first, last):
                p = np.uintp((y * w + x + whole[x] - 1) if turned else ((y + whole[x] - 1) * w + x))
                q, r, s = p + step, p + step + step, p + step + step + step
                u = taps[0, x] * values[p] + taps[1, x] * values[q]
                out[y, x, 0] = u + taps[2, x] * values[r] + taps[3, x] * values[s]
            continue
        for x in range(first, last):
            p = np.uintp(((y * w + x + whole[x] - 1) if turned else ((y + whole[x] - 1) * w + x)) * channels)
            q, r, s = p + step, p + step + step, p + step + step + step
            t0, t1, t2, t3 = taps[0, x], taps[1, x], taps[2, x], taps[3, x]
            out[y, x, 0] = t0 * values[p] + t1 * values[q] + t2 * values[r] + t3 * values[s]
            p, q, r, s = p + one, q + one, r + one, s + one
            out[y, x, 1] = t0 * values[p] + t1 * values[q] + t2 * values[r] + t3 * values[s]
            for k in range(2, channels):
                p, q, r, s = p + one, q + one, r + one, s + one
                out[y, x, k] = t0 * values[p] + t1 * values[q] + t2 * values[r] + t3 * values[s]


@subkernel
def lean_row(y, by, weight, turned, first, last, row):  # type: ignore[no-untyped-def]
    # Slopes through the transpose of the Jacobian; the second slope goes up, rows go down
    h, w = by.shape
    one = np.uintp(1)
    at, up, down = np.uintp(y), np.uintp(max(y - 1, 0)), np.uintp(min(y + 1, h - 1))
    apart = np.float32(1) / np.float32(down - up)
    for i in range(first, last):
        x, left, right = np.uintp(i), np.uintp(max(i - 1, 0)), np.uintp(min(i + 1, w - 1))
        beside = np.float32(1) / np.float32(right - left)
        q = x + x
        p, r = row[q], -row[q + one]
        if turned:
            vx, vy = weight[at] * (by[at, right] - by[at, left]), weight[down] * by[down, x] - weight[up] * by[up, x]
            vx, vy = vx * beside, vy * apart
            row[q], row[q + one] = p + vx * p, -(r + vy * p)
        else:
            vx, vy = weight[right] * by[at, right] - weight[left] * by[at, left], weight[x] * (by[down, x] - by[up, x])
            vx, vy = vx * beside, vy * apart
            row[q], row[q + one] = p + vx * r, -(r + vy * r)


@kernel("f4[:,::1], f4[::1], b1, f4[:,:,::1], i8, i8")
def _lean(by, weight, turned, out, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        lean_row(y, by, weight, turned, 0, by.shape[1], out[y].reshape(-1))


def _spread(shift: Floats, rows: int, n: int, closed: bool) -> Floats:
    """A field at another size, smoothly; shape (rows, n)."""
    sides = []
    for size, known, wraps in ((rows, shift.shape[0], closed), (n, shift.shape[1], False)):
        index, taps = between(size, known, known / size, wraps)
        side = np.zeros((size, known), np.float32)
        np.add.at(side, (np.arange(size)[:, None], index), taps)
        sides.append(side)
    out: Floats = sides[0] @ shift.astype(np.float32) @ sides[1].T
    return out


def displacement(
    shift: Floats, rows: int, n: int, turned: bool, closed: bool, length: float | None = None
) -> tuple[Floats, Floats]:
    """By how many texels the ends of an overlap lie apart at each of them, and what part of that the far end moves by.

    Parameters
    ----------
    shift, closed
        See `slid`.
    rows, n : int
        Texels along the overlap and across it.
    turned : bool
        Whether the field is laid as the sheet is that will be closed from top to bottom.
    length : float, optional
        Texels along the overlap that parts are parts of; ``rows`` unless told.

    Returns
    -------
    by : array, shape (rows, n), or (n, rows) when turned
    share : array, shape (n,)
        The near end moves by ``share`` − 1 of it.

    >>> by, weight = displacement(np.full((4, 2), 0.25, np.float32), 8, 5, False, False)
    >>> by.shape, float(by.mean().round(3)), weight.ravel().astype(float).round(2).tolist()
    ((8, 5), 2.0, [0.03, 0.22, 0.5, 0.78, 0.97])
    """
    by = _spread(shift, rows, n, closed) * np.float32(rows if length is None else length)
    t = (np.arange(n, dtype=np.float32) + np.float32(0.5)) / np.float32(n)
    return np.ascontiguousarray(by.T if turned else by), t * t * (3 - 2 * t)


def slid(
    near: Floats, far: Floats, kind: Kind | None, axis: int, shift: Floats, closed: bool, task: Task = IDLE
) -> tuple[Floats, Floats]:
    """Both pictures of an overlap, moved along it towards each other.

    Parameters
    ----------
    near, far : arrays, shape (h, w, C)
        What lies at the start and at the end of the sheet. Normals as slopes, C = 2.
    kind : Kind or None
        Ids are moved by nearest, slopes of normals turned with the field; None for planes of any kind.
    axis : int
        1 when the sheet will be closed from left to right, 0 from top to bottom.
    shift : array, shape (R, N)
        As parts of the rows: the near end at p shows what the far end shows at p + shift(p). See `meet.meeting`.
    closed : bool
        The other axis is closed already.

    Returns
    -------
    near, far : arrays, shape (h, w, C)
        At the border of the strip where an end alone is shown it is as it was; from there it moves more and more, by half
        in the middle, where both are shown in equal parts. So nothing jumps where the overlap ends.

    >>> from silent_loom.core.base.parallel import IDLE
    >>> near, far = np.random.default_rng(1).random((2, 32, 16, 1)).astype(np.float32)
    >>> one, other = slid(near, far, Kind.DATA, 1, np.zeros((4, 2), np.float32), False, IDLE)
    >>> bool(np.allclose(one, near, atol=1e-6)), bool(np.allclose(other, far, atol=1e-6))
    (True, True)
    """
    return _slid(near, far, kind is Kind.ID, kind is Kind.NORMAL, axis, shift, None, closed, task)


def with_ends_slid(
    pixels: Floats, kind: Kind | None, axis: int, keep: int, shift: Floats, closed: bool, task: Task = IDLE
) -> Floats:
    """A sheet, both ends of whose overlap lie where `slid` takes them; shape (H, W, C), normals as they are.

    Parameters
    ----------
    pixels : array, shape (H, W, C)
        Normals as normals, C = 3.
    keep : int
        Width (height) of the closed sheet; what is beyond it is the overlap.
    kind, axis, shift, closed
        See `slid`.

    >>> from silent_loom.core.base.parallel import IDLE
    >>> pixels = np.random.default_rng(1).random((32, 48, 1)).astype(np.float32)
    >>> same = with_ends_slid(pixels, Kind.DATA, 1, 32, np.zeros((4, 2), np.float32), False, IDLE)
    >>> bool(np.allclose(same, pixels, atol=1e-6))
    True
    """
    sheet = slopes_of(pixels, task) if kind is Kind.NORMAL else pixels.copy()
    n = sheet.shape[axis] - keep
    near, far = (sheet[:, :n], sheet[:, keep:]) if axis else (sheet[:n], sheet[keep:])
    near[:], far[:] = slid(near, far, kind, axis, shift, closed, task)
    return normals_of(sheet, task) if kind is Kind.NORMAL else sheet


def slid_blocks(
    near: Floats, far: Floats, slopes: bool, axis: int, shift: Floats, length: float, closed: bool, task: Task = IDLE
) -> tuple[Floats, Floats]:
    """`slid` for means of blocks, ``length`` of which are as long as the overlap: the last one may be cut off.

    >>> from silent_loom.core.base.parallel import IDLE
    >>> near, far = np.random.default_rng(1).random((2, 32, 16, 1)).astype(np.float32)
    >>> one, other = slid_blocks(near, far, False, 1, np.zeros((4, 2), np.float32), 16.0, False, IDLE)
    >>> bool(np.allclose(one, near, atol=1e-6))
    True
    """
    return _slid(near, far, False, slopes, axis, shift, length, closed, task)


def _slid(
    near: Floats,
    far: Floats,
    nearest: bool,
    slopes: bool,
    axis: int,
    shift: Floats,
    length: float | None,
    closed: bool,
    task: Task,
) -> tuple[Floats, Floats]:
    turned = axis == 0
    n, rows = (near.shape[0], near.shape[1]) if turned else (near.shape[1], near.shape[0])
    by, share = displacement(shift, rows, n, turned, closed, length)
    cost = by.shape[1] * near.shape[2] * 3e-3
    ends: list[Floats] = []
    for side, weight in ((near, share - 1), (far, share)):
        out = np.empty(side.shape, np.float32)
        over_rows(
            len(out), partial(_slide, np.ascontiguousarray(side), by, weight, turned, closed, nearest, out), task, cost=cost
        )
        if slopes:
            over_rows(len(out), partial(_lean, by, weight, turned, out), task, cost=cost)
        ends.append(out)
    return ends[0], ends[1]
