"""Spots and stripes that two substances make which react and spread."""

from __future__ import annotations

from typing import Literal

import numpy as np

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.hashing import grid, of

Form = Literal["spots", "stripes", "holes", "maze"]
_FORMS: dict[str, tuple[float, float, float]] = {
    "spots": (0.0340, 0.0640, 12.5),
    "stripes": (0.0460, 0.0630, 12.0),
    "holes": (0.0390, 0.0580, 10.0),
    "maze": (0.0290, 0.0570, 11.0),
}
"""Feed and kill rates, and how many places of the grid lie from one spot or stripe to the next."""
STEPS = 3600
AT_ONCE = 200
MOST = 384
"""Longer side of the grid at most: beyond it spots become larger than asked for, as nobody would wait for more."""


@kernel("f4[:,::1], f4[:,::1], f4[:,::1], f4[:,::1], f4, f4, f4, f4, i8")
def _react(u, v, u2, v2, feed, kill, along, across, steps):  # type: ignore[no-untyped-def]
    # A rim of one place around the grid holds what lies at its other side
    h, w = u.shape[0] - 2, u.shape[1] - 2
    for _ in range(steps):
        for a in (u, v):
            for x in range(1, w + 1):
                a[0, x], a[h + 1, x] = a[h, x], a[1, x]
            for y in range(h + 2):
                a[y, 0], a[y, w + 1] = a[y, w], a[y, 1]
        for y in range(1, h + 1):
            for x in range(1, w + 1):
                c, d = u[y, x], v[y, x]
                lu = along * (u[y, x - 1] + u[y, x + 1] - c - c) + across * (u[y - 1, x] + u[y + 1, x] - c - c)
                ld = along * (v[y, x - 1] + v[y, x + 1] - d - d) + across * (v[y - 1, x] + v[y + 1, x] - d - d)
                r = c * d * d
                u2[y, x] = c + np.float32(0.2) * lu - r + feed * (np.float32(1) - c)
                v2[y, x] = d + np.float32(0.1) * ld + r - (feed + kill) * d
        for y in range(1, h + 1):
            for x in range(1, w + 1):
                u[y, x], v[y, x] = u2[y, x], v2[y, x]


def grown(ground: Ground, form: Form, apart_mm: float, stretch: float, seed: int, task: Task = IDLE) -> Floats:
    """The second substance on a grid of its own, which repeats: 0…1 from its 2nd to its 98th percentile.

    Parameters
    ----------
    form : str
    apart_mm : float
        From one spot or stripe to the next.
    stretch : float
        Above 1 stripes run across the sheet, below 1 down.

    Notes
    -----
    Gray & Scott 1984, with the rates of Pearson (Complex patterns in a simple system, 1993); a substance that spreads faster one
    way makes stripes run that way (Witkin & Kass, Reaction-diffusion textures, 1991).

    >>> from silent_loom.core.patterns.ground import Ground
    >>> spotted = grown(Ground.of(32, 32, (64.0, 64.0)), "spots", 12.0, 1.0, 1)
    >>> float(spotted.min()), float(spotted.max())
    (0.0, 1.0)
    """
    feed, kill, period = _FORMS[form]
    nx, ny = (max(16, round(n / apart_mm * period)) for n in ground.size_mm)
    part = min(1.0, MOST / max(nx, ny))
    nx, ny = max(16, round(nx * part)), max(16, round(ny * part))
    u, v = np.ones((ny + 2, nx + 2), np.float32), np.zeros((ny + 2, nx + 2), np.float32)
    cx, cy = max(2, round(nx / period)), max(2, round(ny / period))
    begun = np.repeat(np.repeat(grid(cx, cy, of(seed, 51)), -(-ny // cy), 0), -(-nx // cx), 1)[:ny, :nx] < 0.4
    v[1:-1, 1:-1] = begun * np.float32(0.3) + np.float32(0.02) * grid(nx, ny, of(seed, 52))
    u[1:-1, 1:-1] -= begun * np.float32(0.5)
    lean = float(np.clip(stretch, 0.25, 4.0))
    along, across = 2 * lean / (lean + 1), 2 / (lean + 1)  # in sum as without: more would not be stable
    other = u.copy(), v.copy()
    for _ in range(STEPS // AT_ONCE):
        task.checkpoint()
        _react(u, v, *other, np.float32(feed), np.float32(kill), np.float32(along), np.float32(across), AT_ONCE)
    inner = v[1:-1, 1:-1]
    low, high = (float(n) for n in np.percentile(inner, [2, 98]))
    return np.clip((inner - np.float32(low)) / np.float32(max(high - low, 1e-6)), 0, 1)
