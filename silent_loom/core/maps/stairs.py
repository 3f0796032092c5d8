"""Stairs of sources with few codes: recognised, and smoothed by no more than rounding has hidden."""

from __future__ import annotations

import numpy as np

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import IDLE, Task, over_rows
from silent_loom.core.moving.resample import enlarge, reduce_area

EDGE = 1.5
"""Steps between neighbours from which on there is an edge, which stays as it is."""
ROUNDS = 24
"""Rounds of relaxation at every size."""
MOST_LEVELS = 1024
"""Different values beyond which nothing is stepped."""


def step_of(plane: Floats) -> float:
    """The step between the values of a plane that came from few codes; 0 where it did not.

    Told from the values alone: few of them, all whole numbers of one step apart.

    >>> round(step_of(np.round(np.float32([np.linspace(0, 1, 200)]) * 31) / 31), 4)
    0.0323
    """
    flat = plane.ravel()
    values = np.unique(flat[:: max(1, flat.size // 200_000)].astype(np.float64))
    if not 3 <= len(values) <= MOST_LEVELS:
        return 0.0
    gaps = np.diff(values)
    step = float(gaps[gaps > 1e-7 * (values[-1] - values[0])].min(initial=np.inf))
    if not np.isfinite(step):
        return 0.0
    step = float((values[-1] - values[0]) / max(1, round((values[-1] - values[0]) / step)))
    off = np.abs((values - values[0]) / step - np.rint((values - values[0]) / step))
    return step if float((off < 0.05).mean()) > 0.98 else 0.0


@kernel("f4[:,::1], f4[:,::1], f4, f4, b1, f4[:,::1], i8, i8")
def _relax(u, f, half, edge, wraps, out, y0, y1):  # type: ignore[no-untyped-def]
    # Each texel becomes the mean of those beside it that no edge parts from it, held to what rounding has hidden
    h, w = u.shape
    for y in range(y0, y1):
        up = y - 1 if y > 0 else (h - 1 if wraps else y)
        down = y + 1 if y < h - 1 else (0 if wraps else y)
        for x in range(w):
            left = x - 1 if x > 0 else (w - 1 if wraps else x)
            right = x + 1 if x < w - 1 else (0 if wraps else x)
            v = f[y, x]
            total, count = u[y, x], np.float32(1)
            if abs(f[up, x] - v) <= edge:
                total += u[up, x]
                count += np.float32(1)
            if abs(f[down, x] - v) <= edge:
                total += u[down, x]
                count += np.float32(1)
            if abs(f[y, left] - v) <= edge:
                total += u[y, left]
                count += np.float32(1)
            if abs(f[y, right] - v) <= edge:
                total += u[y, right]
                count += np.float32(1)
            m = total / count
            low, high = v - half, v + half
            m = m if m > low else low
            out[y, x] = m if m < high else high


def unstepped(plane: Floats, step: float, wraps: bool, task: Task = IDLE) -> Floats:
    """A plane without the stairs of its rounding, shape (H, W).

    Parameters
    ----------
    plane : float32 array, shape (H, W)
    step : float
        Between neighbouring codes, in the plane's own unit.
    wraps : bool

    Returns
    -------
    float32 array, shape (H, W)
        Nowhere further than half a step from the plane: what is found is one of the surfaces that rounding makes this plane of.

    Notes
    -----
    The tautest such surface: a membrane held between both bounds, relaxed from coarse to fine (a projected Jacobi scheme, as for
    obstacle problems: Glowinski 1984; the bounds are those of decoding quantised images, Alter, Durand & Froment 2005). No
    force crosses where neighbours differ by more than one step, so edges stay where and as steep as they are.

    >>> ramp = np.repeat(np.arange(8, dtype=np.float32), 8)[None].repeat(64, 0)
    >>> float(np.abs(np.diff(unstepped(ramp, 1.0, False)[32])).max()) < 0.5
    True
    """
    h, w = plane.shape
    f = np.ascontiguousarray(plane, np.float32)
    start = f
    if min(h, w) >= 32:
        small = reduce_area(f, w // 2, h // 2)
        lifted = unstepped(small, step, wraps, task) - small
        start = f + enlarge(np.ascontiguousarray(lifted[..., None]), w, h, wraps, task)[..., 0]
    half, edge = np.float32(step / 2), np.float32(EDGE * step)
    u = np.clip(start, f - half, f + half)
    other = np.empty_like(u)
    for _ in range(ROUNDS):
        over_rows(h, lambda a, b, u=u, other=other: _relax(u, f, half, edge, wraps, other, a, b), task, cost=w * 4e-3)  # type: ignore[misc]
        u, other = other, u
    return u
