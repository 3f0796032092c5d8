"""Shapes laid on a torus, side by side or over each other: bricks, planks, pebbles, stitches, scratches, rivets."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import IntEnum
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import IDLE, Task, over_rows
from silent_loom.core.maps.elements import chances
from silent_loom.core.patterns.ground import Ground


class Shape(IntEnum):
    """What is laid: a box with round corners, an ellipse, a stroke with round ends, a hexagon."""

    BOX = 0
    ELLIPSE = 1
    STROKE = 2
    HEXAGON = 3


@kernel("f4[:,::1], b1, f4, f4, f4, f4, f4, f4[:,:,::1], f4[:,::1], i4[:,::1], f4[:,::1], f4[:,::1], i8, i8")
def _lay(items, over, pw, ph, tx, ty, reach, moved, out, which, us, vs, y0, y1):  # type: ignore[no-untyped-def]
    # Each element in its own window, and once more wherever it goes round the edge of the sheet.
    # Side by side the one counts in which a place lies deepest; over each other the highest.
    w = out.shape[1]
    rows, columns = moved.shape[1], moved.shape[2]
    texel = max(tx, ty)
    half = np.float32(0.5)
    for i in range(items.shape[0]):
        cx, cy, c, s = items[i, 0], items[i, 1], items[i, 2], items[i, 3]
        hx, hy, r, z = items[i, 4], items[i, 5], items[i, 6], items[i, 7]
        kind, tilt, rise, bevel = int(items[i, 8]), items[i, 9], items[i, 10], items[i, 11]
        fat = max(hy, r)
        ax, ay = (hx + fat, fat) if kind == 2 else (hx, hy)
        if kind == 3:
            ay = max(hx, hy) * np.float32(1.2)
        ex, ey = abs(c) * ax + abs(s) * ay + reach, abs(s) * ax + abs(c) * ay + reach
        for oy in range(-1, 2):
            py = cy + np.float32(oy) * ph
            ya, yb = max(y0, int(np.ceil((py - ey) / ty - half))), min(y1 - 1, int(np.floor((py + ey) / ty - half)))
            if ya > yb:
                continue
            for ox in range(-1, 2):
                px = cx + np.float32(ox) * pw
                xa, xb = max(0, int(np.ceil((px - ex) / tx - half))), min(w - 1, int(np.floor((px + ex) / tx - half)))
                if xa > xb:
                    continue
                for y in range(ya, yb + 1):
                    my = y if rows > 1 else 0
                    la, lb = xa, xb
                    if abs(s) > np.float32(0.02):  # of a row only what lies within the element's own width
                        down = (np.float32(y) + half) * ty - py
                        mid, wide = px + down * c / s, (ay + reach) / abs(s)
                        la, lb = max(xa, int(np.ceil((mid - wide) / tx - half))), min(xb, int(np.floor((mid + wide) / tx - half)))
                    for x in range(la, lb + 1):
                        mx = x if columns > 1 else 0
                        dx = (np.float32(x) + half) * tx - px + moved[0, my, mx]
                        dy = (np.float32(y) + half) * ty - py + moved[1, my, mx]
                        lx, ly = dx * c + dy * s, dy * c - dx * s
                        if kind == 0:
                            qx, qy = abs(lx) - hx + r, abs(ly) - hy + r
                            mx_, my_ = max(qx, np.float32(0)), max(qy, np.float32(0))
                            d = r - np.sqrt(mx_ * mx_ + my_ * my_) - min(max(qx, qy), np.float32(0))
                        elif kind == 1:
                            ux, uy = lx / hx, ly / hy
                            k0 = np.sqrt(ux * ux + uy * uy)
                            k1 = np.sqrt(ux * ux / (hx * hx) + uy * uy / (hy * hy))
                            d = k0 * (np.float32(1) - k0) / k1 if k1 > np.float32(1e-9) else min(hx, hy)
                        elif kind == 2:
                            t = min(max(lx, -hx), hx)
                            part = (t / hx + np.float32(1)) * half if hx > 0 else half
                            d = hy + part * (r - hy) - np.sqrt((lx - t) * (lx - t) + ly * ly)
                        else:  # between six neighbours: two beside it at 2·hx, four at (hx, hy)
                            a, b = abs(lx), abs(ly)
                            far = hx * hx + hy * hy
                            d = min(hx - a, (far * half - (hx * a + hy * b)) / np.sqrt(far))
                        if over:
                            cover = d / texel + half
                            if cover <= 0:
                                continue
                            cover = min(cover, np.float32(1))
                            t = np.float32(1) - min(max(d / bevel, np.float32(0)), np.float32(1))
                            top = z + rise * np.sqrt(np.float32(1) - t * t) + tilt * lx / hx
                            if top > out[y, x]:
                                out[y, x] += cover * (top - out[y, x])
                                if cover > half:
                                    which[y, x], us[y, x], vs[y, x] = i, lx / ax, ly / ay
                        elif d > out[y, x]:
                            out[y, x], which[y, x], us[y, x], vs[y, x] = d, i, lx / ax, ly / ay


def items(
    cx: ArrayLike,
    cy: ArrayLike,
    hx: ArrayLike,
    hy: ArrayLike,
    *,
    turn: ArrayLike = 0.0,
    radius: ArrayLike = 0.0,
    shape: Shape = Shape.BOX,
    z: ArrayLike = 0.0,
    tilt: ArrayLike = 0.0,
    rise: ArrayLike = 1.0,
    bevel: ArrayLike = 1.0,
) -> Floats:
    """A table of elements, shape (N, 12): lengths in mm.

    Parameters
    ----------
    cx, cy
        Middles.
    hx, hy
        Half sizes along and across each element's own axis. Of a stroke half the length between the middles of its round ends,
        and the radius at its beginning; of a hexagon half the way to its neighbours beside it, and the way to the next row.
    turn
        Of that axis, in radians from the right towards the bottom.
    radius
        Of corners; of a stroke at its end.
    z, tilt, rise, bevel
        Where they lie over each other: level of the rim, how much the far end lies higher than the middle, how high the middle
        rises above the rim, and within which distance.

    >>> items(1.0, 2.0, 3.0, 4.0).shape
    (1, 12)
    """
    columns = np.broadcast_arrays(
        *(np.asarray(a, np.float64).ravel() for a in (cx, cy, np.cos(turn), np.sin(turn), hx, hy, radius, z, float(shape))),
        *(np.asarray(a, np.float64).ravel() for a in (tilt, rise, bevel)),
    )
    return np.ascontiguousarray(np.stack(columns, 1), np.float32)


@dataclass(frozen=True)
class Laid:
    """Where elements lie.

    Attributes
    ----------
    depth : float32 array, shape (H, W)
        Side by side: millimetres from the border of the nearest element, above zero inside. Over each other: height.
    which : int32 array, shape (H, W)
        Row of the table, −1 where there is none.
    u, v : float32 array, shape (H, W)
        Place in the element, along and across its axis, −1…1.
    table : float32 array, shape (N, 12)
    """

    depth: Floats
    which: NDArray[np.int32]
    u: Floats
    v: Floats
    table: Floats
    _drawn: dict[int, Floats] = field(default_factory=dict, compare=False, repr=False)

    @property
    def ids(self) -> NDArray[np.int32]:
        """Labels from 1; 0 where nothing lies."""
        return self.which + 1

    def chances(self, seed: int) -> Floats:
        """Four random numbers of the element at each place, shape (H, W, 4); the same array whenever they are asked for."""
        if seed not in self._drawn:
            self._drawn[seed] = np.take(chances(len(self.table) + 1, seed), self.ids, axis=0)
        return self._drawn[seed]

    def axes(self) -> Floats:
        """Direction of the element at each place, to the right and up, shape (H, W, 2)."""
        table = np.concatenate([np.array([[1, 0]], np.float32), self.table[:, 2:4] * np.array([1, -1], np.float32)])
        return np.take(table, self.ids, axis=0)


def _laid(ground: Ground, table: Floats, over: bool, floor: float, reach: float, warp: Floats | None, task: Task) -> Laid:
    shape = ground.height, ground.width
    out = np.full(shape, floor, np.float32)
    which = np.full(shape, -1, np.int32)
    u, v = np.zeros(shape, np.float32), np.zeros(shape, np.float32)
    moved = np.zeros((2, 1, 1), np.float32) if warp is None else np.ascontiguousarray(warp, np.float32)
    reach += float(np.abs(moved).max())  # as far as outlines may stray
    lengths = (*ground.size_mm, *ground.pitch, reach)
    fixed: list[Any] = [table, over, *(np.float32(n) for n in lengths), moved, out, which, u, v]
    over_rows(ground.height, partial(_lay, *fixed), task, cost=ground.width * 2e-3)
    return Laid(out, which, u, v, table)


def beside(ground: Ground, table: Floats, reach_mm: float, warp: Floats | None = None, task: Task = IDLE) -> Laid:
    """Elements side by side; the nearest one is known up to a distance beyond its border.

    Parameters
    ----------
    warp : float32 array, shape (2, H, W), optional
        Moves the places that are looked up, in mm: outlines stray.

    Notes
    -----
    Signed distances to a box with round corners and to a stroke are exact; to an ellipse they are to the first order
    (Taubin, Distance approximations for rasterizing implicit curves, 1994).

    >>> from silent_loom.core.patterns.ground import Ground
    >>> boxes = items([25.0, 75.0], [50.0, 50.0], 20.0, 40.0)
    >>> found = beside(Ground.of(20, 20, (100.0, 100.0)), boxes, 10.0)
    >>> found.which[10, [5, 15]].tolist()
    [0, 1]
    """
    return _laid(ground, table, False, -1e9, reach_mm, warp, task)


def stacked(ground: Ground, table: Floats, floor: float = 0.0, warp: Floats | None = None, task: Task = IDLE) -> Laid:
    """Elements over each other: the highest counts, above a floor.

    >>> from silent_loom.core.patterns.ground import Ground
    >>> domes = items([50.0], [50.0], 30.0, 30.0, rise=10.0)
    >>> stacked(Ground.of(20, 20, (100.0, 100.0)), domes, 0.0).which[10, [0, 10]].tolist()
    [-1, 0]
    """
    return _laid(ground, table, True, floor, ground.texel, warp, task)


def bevelled(depth: Floats, width_mm: float, ground: Ground, roundness: float = 1.0) -> Floats:
    """Height 0…1 out of the distance to a border: a rim of a width, straight or round.

    >>> bevelled(np.float32([[-1, 1, 2, 5]]), 4, Ground.of(4, 1, (4, 1)), 0.0).tolist()
    [[0.0, 0.25, 0.5, 1.0]]
    """
    t = np.clip(depth / np.float32(max(width_mm, ground.texel)), 0, 1)
    if roundness > 0:
        t += np.float32(roundness) * (np.sqrt(t * (np.float32(2) - t)) - t)
    return t


def covered(depth: Floats, ground: Ground) -> Floats:
    """Share of each texel that lies inside of a border.

    >>> from silent_loom.core.patterns.ground import Ground
    >>> covered(np.array([[-1.0, 0.0, 1.0]], np.float32), Ground.of(3, 1, (3.0, 1.0))).tolist()
    [[0.0, 0.5, 1.0]]
    """
    return np.clip(depth / np.float32(ground.texel) + np.float32(0.5), 0, 1)
