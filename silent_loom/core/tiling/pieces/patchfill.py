"""Filling a hole from the rest of a surface by patch search."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import kernel, subkernel
from silent_loom.core.base.lazy_modules import later
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.look.motif.lattice import candidates, correlation
from silent_loom.core.moving.resample import blur

ndimage = later("scipy.ndimage")

HALF = 3
"""Patches are seven texels wide."""


@subkernel
def _distance(a, flat, y, x, v, u, wraps, best):  # type: ignore[no-untyped-def]
    # flat: the rows of a as they lie in memory
    h, w, channels = a.shape
    total = np.float32(0)
    if min(y, v) >= HALF and max(y, v) < h - HALF and min(x, u) >= HALF and max(x, u) < w - HALF:
        from_x, from_u = np.uintp((x - HALF) * channels), np.uintp((u - HALF) * channels)
        for dy in range(-HALF, HALF + 1):
            one, other = np.uintp(y + dy), np.uintp(v + dy)
            for i in range((2 * HALF + 1) * channels):  # one run through memory, without a test: vector code
                d = flat[one, from_x + np.uintp(i)] - flat[other, from_u + np.uintp(i)]
                total += d * d
            if total >= best:
                return total
        return total
    for dy in range(-HALF, HALF + 1):
        ya, yb = y + dy, v + dy
        if wraps:
            ya, yb = ya % h, yb % h
        else:
            ya, yb = min(max(ya, 0), h - 1), min(max(yb, 0), h - 1)
        for dx in range(-HALF, HALF + 1):
            xa, xb = x + dx, u + dx
            if wraps:
                xa, xb = xa % w, xb % w
            else:
                xa, xb = min(max(xa, 0), w - 1), min(max(xb, 0), w - 1)
            for k in range(channels):
                d = a[ya, xa, k] - a[yb, xb, k]
                total += d * d
        if total >= best:
            return total
    return total


@kernel("f4[:,:,::1], b1[:,::1], i8[::1,:], i8[:,::1], f4[::1], i8[:,::1], b1, i8, b1")
def _search(a, good, places, field, cost, index, wraps, seed, backwards):  # type: ignore[no-untyped-def]
    # One sweep of PatchMatch over the texels of the hole: offers of neighbours, then random ones nearer and nearer
    h, w, channels = a.shape
    flat = a.reshape(h, w * channels)
    state = np.uint64(seed * 2654435761 + 88172645463325252)
    n = places.shape[0]
    for m in range(n):
        q = n - 1 - m if backwards else m
        y, x = places[q, 0], places[q, 1]
        step = -1 if not backwards else 1
        for axis in range(2):
            ny, nx = (y + step, x) if axis == 0 else (y, x + step)
            if wraps:
                ny, nx = ny % h, nx % w
            elif ny < 0 or nx < 0 or ny >= h or nx >= w:
                continue
            other = index[ny, nx]
            if other < 0:
                continue
            v, u = field[other, 0] + (y - ny), field[other, 1] + (x - nx)
            if wraps:
                v, u = v % h, u % w
            if v < 0 or u < 0 or v >= h or u >= w or not good[v, u]:
                continue
            d = _distance(a, flat, y, x, v, u, wraps, cost[q])
            if d < cost[q]:
                cost[q], field[q, 0], field[q, 1] = d, v, u
        reach = max(h, w)
        while reach >= 1:
            state ^= state << np.uint64(13)
            state ^= state >> np.uint64(7)
            state ^= state << np.uint64(17)
            r1 = np.int64(state % np.uint64(2 * reach + 1)) - reach
            r2 = np.int64((state >> np.uint64(32)) % np.uint64(2 * reach + 1)) - reach
            v, u = field[q, 0] + r1, field[q, 1] + r2
            if wraps:
                v, u = v % h, u % w
            if 0 <= v < h and 0 <= u < w and good[v, u]:
                d = _distance(a, flat, y, x, v, u, wraps, cost[q])
                if d < cost[q]:
                    cost[q], field[q, 0], field[q, 1] = d, v, u
            reach //= 2


@kernel("f4[:,:,::1], i8[::1,:], i8[:,::1], f4[::1], b1")
def _again(a, places, field, cost, wraps):  # type: ignore[no-untyped-def]
    flat = a.reshape(a.shape[0], a.shape[1] * a.shape[2])
    for q in range(places.shape[0]):
        cost[q] = _distance(a, flat, places[q, 0], places[q, 1], field[q, 0], field[q, 1], wraps, np.float32(1e30))


@kernel("f4[:,:,::1], i8[::1,:], i8[:,::1], f4[::1], i8[:,::1], b1, f4[:,::1]")
def _vote(a, places, field, says, index, wraps, out):  # type: ignore[no-untyped-def]
    # Every texel of the hole: mean of what the patches that cover it say, the better ones more
    h, w, channels = a.shape
    for q in range(places.shape[0]):
        y, x = places[q, 0], places[q, 1]
        weight = np.float32(0)
        for k in range(channels):
            out[q, k] = 0
        for dy in range(-HALF, HALF + 1):
            for dx in range(-HALF, HALF + 1):
                ny, nx = y + dy, x + dx
                if wraps:
                    ny, nx = ny % h, nx % w
                elif ny < 0 or nx < 0 or ny >= h or nx >= w:
                    continue
                other = index[ny, nx]
                if other < 0:
                    continue
                v, u = field[other, 0] - dy, field[other, 1] - dx
                if wraps:
                    v, u = v % h, u % w
                elif v < 0 or u < 0 or v >= h or u >= w:
                    continue
                if index[v, u] >= 0:
                    continue
                t = says[other]
                weight += t
                for k in range(channels):
                    out[q, k] += t * a[v, u, k]
        if weight > 0:
            for k in range(channels):
                out[q, k] /= weight
        else:
            for k in range(channels):
                out[q, k] = a[field[q, 0], field[q, 1], k]


def _reduced(planes: Floats, hole: NDArray[np.bool_], w: int, h: int) -> Floats:
    """Average of what is known only."""
    known = (~hole).astype(np.float32)
    weight = cv2.resize(known, (w, h), interpolation=cv2.INTER_AREA)
    # Plane by plane: the library takes no more than four at once, and a material may have more
    each = [cv2.resize(planes[..., k] * known, (w, h), interpolation=cv2.INTER_AREA) for k in range(planes.shape[2])]
    total = np.stack(each, -1)
    out: Floats = total / np.maximum(weight, 1e-6)[..., None]
    if (weight <= 1e-6).any():
        nearest = ndimage.distance_transform_edt(weight <= 1e-6, return_distances=False, return_indices=True)
        out = out[nearest[0], nearest[1]]
    return np.ascontiguousarray(out, np.float32)


def fill(
    planes: Floats, hole: NDArray[np.bool_], wraps: bool, avoid: NDArray[np.bool_] | None = None, task: Task = IDLE
) -> NDArray[np.int32]:
    """Where every texel of a hole is to be taken from.

    Parameters
    ----------
    planes : array, shape (H, W, K)
        Features by which patches are compared.
    hole : bool array, shape (H, W)
    wraps : bool
        Patches go on at the opposite edges.
    avoid : bool array, optional
        Places that are not to be copied from, either.

    Returns
    -------
    int32 array, shape (N, 2)
        Row and column for every texel of the hole, in the order of ``np.argwhere(hole)``; none lies in the hole.

    Raises
    ------
    ValueError
        There is nothing to copy from.

    Notes
    -----
    From coarse to fine, the nearest patch of every texel is searched (PatchMatch; Barnes, Shechtman, Finkelstein & Goldman
    2009) and the hole filled with what the patches that cover a texel agree on (Wexler, Shechtman & Irani, Space-time
    completion of video, PAMI 29, 2007), several times at each size. At last each texel takes the source of the covering
    patch that fits best, so that samples of every thread are copied and never averaged.

    >>> fill(np.random.default_rng(1).random((32, 32, 3), np.float32), np.pad(np.ones((6, 6), bool), 13), True).shape
    (36, 2)
    """
    guided = _by_offset(planes, hole, wraps, task)
    if guided is not None and guided[1].all():
        return guided[0].astype(np.int32)
    h, w = hole.shape
    blocked = hole if avoid is None else hole | avoid
    margin = ndimage.binary_dilation(blocked, np.ones((2 * HALF + 1, 2 * HALF + 1)))
    if margin.all():
        margin = blocked
    if margin.all():
        raise ValueError("there is nothing left to copy from")
    levels = 1
    while min(h, w) / 2**levels >= 48 and hole.sum() / 4**levels > 4:
        levels += 1
    rng = np.random.default_rng(1)
    field = np.empty((0, 2), np.int64)
    before: _Before | None = None
    for level in range(levels - 1, -1, -1):
        lw, lh = max(8, round(w / 2**level)), max(8, round(h / 2**level))
        if level:
            part = cv2.resize(hole.astype(np.float32), (lw, lh), interpolation=cv2.INTER_AREA) > 0.01
            closed = cv2.resize(margin.astype(np.float32), (lw, lh), interpolation=cv2.INTER_AREA) > 0.01
            a = _reduced(planes, hole, lw, lh)
        else:
            part, closed, a = hole, margin, np.ascontiguousarray(planes, np.float32).copy()
        good = ~closed
        if not good.any():
            good = ~part
        if not good.any():
            continue
        places = np.argwhere(part)
        field = _first_field(places, good, before, wraps, rng)
        if level == levels - 1:
            # A first guess: the hole filled smoothly from around it
            nearest = ndimage.distance_transform_edt(part, return_distances=False, return_indices=True)
            a[part] = a[nearest[0][part], nearest[1][part]]
        else:
            a[part] = a[field[:, 0], field[:, 1]]
        rounds = 12 if level == levels - 1 else 5 if level else 2
        _agreed(a, part, good, places, field, wraps, level, rounds, task)
        grid = np.zeros((lh, lw, 2), np.int64)
        grid[part] = field - places
        nearest = ndimage.distance_transform_edt(~part, return_distances=False, return_indices=True)
        before = grid[nearest[0], nearest[1]], (lh, lw)
    if guided is not None:
        field[guided[1]] = guided[0][guided[1]]
    return field.astype(np.int32)


_Before = tuple[NDArray[np.int64], tuple[int, int]]
"""How far away the source of each texel of a coarser level lies, and the size of that level."""


def _first_field(
    places: NDArray[np.intp], good: NDArray[np.bool_], before: _Before | None, wraps: bool, rng: np.random.Generator
) -> NDArray[np.int64]:
    # Where each texel of a hole is taken from at first: as at the coarser level where that fits, anywhere else
    lh, lw = good.shape
    sources = np.argwhere(good)
    field: NDArray[np.int64] = sources[rng.integers(0, len(sources), len(places))]
    if before is not None:
        grid, (bh, bw) = before
        at = np.minimum(places * (bh / lh, bw / lw), (bh - 1, bw - 1)).astype(int)
        coarse = grid[at[:, 0], at[:, 1]]
        moved = places + np.rint(coarse * (lh / bh, lw / bw)).astype(int)
        moved = moved % (lh, lw) if wraps else np.clip(moved, 0, (lh - 1, lw - 1))
        fits = good[moved[:, 0], moved[:, 1]]
        field[fits] = moved[fits]
    return field


def _agreed(
    a: Floats,
    part: NDArray[np.bool_],
    good: NDArray[np.bool_],
    places: NDArray[np.intp],
    field: NDArray[np.int64],
    wraps: bool,
    level: int,
    rounds: int,
    task: Task,
) -> None:
    # Search and fill in turn, until the patches that cover a texel agree on it; the hole in `a` and the field change in place
    index = np.full(part.shape, -1, np.int64)
    index[tuple(places.T)] = np.arange(len(places))
    # What lies near the border is held to by its surroundings: its patches count more (Wexler et al. 2007)
    depth = ndimage.distance_transform_edt(np.pad(part, HALF, constant_values=False))[HALF:-HALF, HALF:-HALF]
    trust = (1.3 ** -depth[part]).astype(np.float32)
    cost = np.empty(len(places), np.float32)
    value = np.empty((len(places), a.shape[2]), np.float32)
    for turn in range(rounds):
        task.checkpoint()
        _again(a, places, field, cost, wraps)
        for sweep in range(4 if level else 2):
            _search(a, good, places, field, cost, index, wraps, 31 * level + 7 * turn + sweep + 1, sweep % 2 == 1)
        scale = np.float32(max(1e-6, float(np.percentile(cost, 60))))
        says = ((np.exp(-cost / scale) + np.float32(1e-6)) * trust).astype(np.float32)
        _vote(a, places, field, says, index, wraps, value)
        a[part] = value


def _by_offset(
    planes: Floats, hole: NDArray[np.bool_], wraps: bool, task: Task
) -> tuple[NDArray[np.int64], NDArray[np.bool_]] | None:
    """Sources for those holes whose surroundings fit what lies one repeat of the surface away; and which texels they are.

    Offsets at which the surface resembles itself are tried (after He & Sun, Statistics of patch offsets for image completion,
    ECCV 2012): a grid of joints is so continued as a whole, where patch by patch it would be lost.
    """
    h, w = hole.shape
    known = np.where(hole[..., None], planes[~hole].mean(0), planes)
    c = correlation(np.ascontiguousarray(known - blur(np.ascontiguousarray(known), 0.12 * max(h, w), wraps)))
    task.checkpoint()
    offsets = [(round(y), round(x)) for x, y, value in candidates(c, w, h) if value > 0.12]
    if not offsets:
        return None
    offsets += [(-y, -x) for y, x in offsets]
    rng = np.random.default_rng(2)
    others = [(int(rng.integers(-h // 3, h // 3)), int(rng.integers(-w // 3, w // 3))) for _ in range(24)]
    labels, count = ndimage.label(hole, np.ones((3, 3)))
    places = np.argwhere(hole)
    sources, done = np.zeros_like(places), np.zeros(len(places), bool)
    which = labels[tuple(places.T)]
    for number in range(1, count + 1):
        mine = which == number
        spot = places[mine]
        width = max(4, int(0.25 * np.sqrt(len(spot))))
        y0, x0 = np.maximum(spot.min(0) - width, 0)
        y1, x1 = np.minimum(spot.max(0) + width + 1, (h, w))
        ring = ndimage.binary_dilation(labels[y0:y1, x0:x1] == number, iterations=width) & ~hole[y0:y1, x0:x1]
        around = np.argwhere(ring) + np.array([y0, x0])
        if len(around) < 30:
            continue

        def moved(points: NDArray[np.int64], offset: tuple[int, int]) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
            to = points + offset
            inside = ((to >= 0) & (to < (h, w))).all(1)
            to = to % (h, w) if wraps else np.clip(to, 0, (h - 1, w - 1))
            return to, (inside | wraps) & ~hole[to[:, 0], to[:, 1]]

        def error(offset: tuple[int, int], around: NDArray[np.int64] = around, spot: NDArray[np.int64] = spot) -> float:
            to, good = moved(around, offset)
            if good.mean() < 0.9 or not moved(spot, offset)[1].all():
                return np.inf
            gap = planes[around[good, 0], around[good, 1]] - planes[to[good, 0], to[good, 1]]
            return float(np.square(gap - gap.mean(0)).sum(1).mean())

        usual = [e for e in map(error, others) if np.isfinite(e)]
        found = min(offsets, key=error)
        if not usual or error(found) > 0.4 * float(np.median(usual)):
            continue
        sources[mine], done[mine] = moved(spot, found)[0], True
    return (sources, done) if done.any() else None
