"""Plates that have shrunk apart: the borders of cells as cracks, and finer cracks in them."""

from __future__ import annotations

from functools import partial

import numpy as np

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import inlined, kernel
from silent_loom.core.base.parallel import IDLE, Task, over_rows
from silent_loom.core.patterns.cellular import Cellular
from silent_loom.core.patterns.ground import Ground

FAINT = np.float32(0.6)
"""How deep a finer crack is, of a usual one."""


@inlined
def _share(a, b, kind):  # type: ignore[no-untyped-def]
    # `hashing.parts` of a pair, whichever of the two is named first
    mask = np.uint64(0xFFFFFFFF)
    x, y = np.uint64(min(a, b)), np.uint64(max(a, b))
    h = ((x * np.uint64(0x9E3779B1)) & mask) ^ ((y * np.uint64(0x85EBCA77)) & mask)
    h ^= (np.uint64(kind) * np.uint64(0xC2B2AE3D)) & mask
    h = ((h ^ (h >> np.uint64(16))) * np.uint64(0x85EBCA6B)) & mask
    h = ((h ^ (h >> np.uint64(13))) * np.uint64(0xC2B2AE35)) & mask
    h ^= h >> np.uint64(16)
    return np.float32(h & np.uint64(0xFFFFFF)) / np.float32(16777216)


@inlined
def _in(depth, wide, texel):  # type: ignore[no-untyped-def]
    # 1 in the middle of a crack, 0 outside; one thinner than a texel is as faint as it is thin
    if wide <= 0:
        return np.float32(0)
    inside = np.float32(0.5) - depth / max(np.float32(0.3) * wide, texel)
    return min(max(inside, np.float32(0)), wide / texel, np.float32(1))


@kernel("f4[:,::1], i4[:,::1], i4[:,::1], f4, f4, i8, f4, f4[:,::1], f4[:,::1], i8, i8")
def _crack(border, which, other, wide, low, kind, texel, out, depth, y0, y1):  # type: ignore[no-untyped-def]
    # Each border is one crack all along: open or not where low is below 0, or between a part of the width and all of it
    for y in range(y0, y1):
        for x in range(border.shape[1]):
            chance = _share(which[y, x], other[y, x], kind)
            if low < 0:
                own = wide if chance < -low else np.float32(0)
            else:
                own = wide * (low + (np.float32(1) - low) * chance)
            depth[y, x] = border[y, x] - own * np.float32(0.5)
            out[y, x] = _in(depth[y, x], own, texel)


@kernel("f4[:,::1], i4[:,::1], i4[:,::1], f4[:,::1], f4[:,::1], i4[:,::1], f4[:,::1], f4, i8, f4, f4[:,::1], i8, i8")
def _finer(border, which, other, coarse, depth, plates, chance, part, kind, texel, out, y0, y1):  # type: ignore[no-untyped-def]
    # coarse: how far the border of a plate is, of which depth is what its crack leaves; finer cracks are as wide as that one
    for y in range(y0, y1):
        for x in range(border.shape[1]):
            if chance[plates[y, x], 2] >= np.float32(0.4) + np.float32(0.6) * part:
                continue
            if _share(which[y, x], other[y, x], kind) >= np.float32(0.75) * part:
                continue
            thin = np.float32(0.6) * (coarse[y, x] - depth[y, x])
            out[y, x] = max(out[y, x], FAINT * _in(border[y, x] - thin * np.float32(0.5), thin, texel))


def cracked(
    found: Cellular, ground: Ground, wide_mm: float, *, kind: int, part: float | None = None, task: Task = IDLE
) -> tuple[Floats, Floats]:
    """Borders of cells as cracks.

    Parameters
    ----------
    found : Cellular
    wide_mm : float
        How wide cracks are at most.
    kind : int
        Of chance, see `hashing.of`.
    part : float, optional
        Part of the borders that are open, all as wide; without it all are, from about half as wide.

    Returns
    -------
    crack : float32 array, shape (H, W)
        1 in the middle of a crack, 0 outside of all.
    depth : float32 array, shape (H, W)
        Distance to the nearest crack in mm, below 0 in it.

    >>> from silent_loom.core.patterns.cellular import cellular
    >>> ground = Ground.of(64, 64, (100.0, 100.0))
    >>> found = cellular(ground, (4, 4))
    >>> [round(float(cracked(found, ground, 5.0, kind=1, part=part)[0].mean()), 1) for part in (0.0, 1.0)]
    [0.0, 0.4]
    """
    crack, depth = np.empty_like(found.border), np.empty_like(found.border)
    low = np.float32(0.45 if part is None else -part if part > 0 else -1e-9)
    fixed = found.border, found.which, found.other, np.float32(wide_mm), low, kind, np.float32(ground.texel), crack, depth
    over_rows(ground.height, partial(_crack, *fixed), task, cost=ground.width * 1e-3)
    return crack, depth


def cracked_again(
    crack: Floats,
    depth: Floats,
    plates: Cellular,
    fine: Cellular,
    ground: Ground,
    part: float,
    *,
    chances: Floats,
    kind: int,
    task: Task = IDLE,
) -> None:
    """Finer cracks in some plates, written into those that there are.

    Parameters
    ----------
    crack, depth : float32 array, shape (H, W)
        Of `cracked`; the first is changed.
    plates, fine : Cellular
        The plates, and the smaller cells along whose borders they crack.
    part : float
        How much they are cracked, 0…1.
    chances : float32 array, shape (N, 4)
        Random numbers of the plates.
    kind : int
        Of chance, see `hashing.of`.

    >>> from silent_loom.core.maps.elements import chances
    >>> from silent_loom.core.patterns.cellular import cellular
    >>> ground = Ground.of(64, 64, (100.0, 100.0))
    >>> plates, fine = cellular(ground, (4, 4)), cellular(ground, (10, 10), seed=2)
    >>> crack, depth = cracked(plates, ground, 5.0, kind=1)
    >>> before = crack.mean()
    >>> cracked_again(crack, depth, plates, fine, ground, 1.0, chances=chances(plates.count, 1), kind=2)
    >>> bool(crack.mean() > before)
    True
    """
    fixed = fine.border, fine.which, fine.other, plates.border, depth, plates.which, np.ascontiguousarray(chances, np.float32)
    work = partial(_finer, *fixed, np.float32(part), kind, np.float32(ground.texel), crack)
    over_rows(ground.height, work, task, cost=ground.width * 1e-3)
