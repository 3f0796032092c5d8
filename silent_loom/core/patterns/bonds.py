"""Where bricks, tiles, slabs and boards lie: tables of boxes that repeat."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.patterns.ground import Ground, whole
from silent_loom.core.patterns.hashing import numbers, of, parts
from silent_loom.core.patterns.laying import Shape, items

Bond = Literal[
    "running", "stack", "flemish", "english", "herringbone", "diagonal herringbone", "basket", "hexagon", "coursed", "ashlar"
]
Numbers = NDArray[np.float64]


@dataclass(frozen=True)
class Places:
    """Boxes on a sheet, joints not yet taken off: middles, half sizes and turns, in mm and radians."""

    cx: Numbers
    cy: Numbers
    hx: Numbers
    hy: Numbers
    turn: Numbers
    shape: Shape = Shape.BOX

    def table(self, joint: float, radius: float, seed: int, *, uneven: float = 0.0, askew: float = 0.0) -> Floats:
        """Elements with half a joint taken off all around, of uneven size and laid askew by up to ``askew`` radians."""
        n = len(self.cx)
        short = np.minimum(self.hx, self.hy)
        less = [np.minimum(joint / 2, 0.8 * short) + short * uneven * 0.35 * numbers(n, of(seed, k)) for k in (11, 12)]
        hx, hy = np.maximum(self.hx - less[0], 0.1 * self.hx), np.maximum(self.hy - less[1], 0.1 * self.hy)
        if self.shape is Shape.HEXAGON:
            part = hx / self.hx
            hx, hy = self.hx * part, self.hy * part
        turn = self.turn + askew * (2 * numbers(n, of(seed, 13)) - 1)
        return items(self.cx, self.cy, hx, hy, turn=turn, radius=np.minimum(radius, np.minimum(hx, hy)), shape=self.shape)


def _grid(nx: int, ny: int, size: tuple[float, float]) -> tuple[Numbers, Numbers, float, float]:
    """Columns and rows of a grid, and the size of a field."""
    j, i = np.mgrid[0:ny, 0:nx].astype(float)
    return i.ravel(), j.ravel(), size[0] / nx, size[1] / ny


def _flat(cx: Numbers, cy: Numbers, hx: Numbers | float, hy: Numbers | float, shape: Shape = Shape.BOX) -> Places:
    wide, high = (np.broadcast_to(np.asarray(a, float), cx.shape) for a in (hx, hy))
    return Places(cx, cy, wide, high, np.zeros_like(cx), shape)


def _running(ground: Ground, w: float, h: float, seed: int, shift: float) -> Places:
    shift %= 1.0
    back = 1 if shift == 0 else 2 if abs(shift - 0.5) < 0.01 or abs(shift) < 0.2 else whole(1 / min(shift, 1 - shift))
    nx, ny = ground.counts(w, h, (1, back))
    i, j, bw, bh = _grid(nx, ny, ground.size_mm)
    return _flat((i + 0.5 + shift * (j % back)) * bw, (j + 0.5) * bh, bw / 2, bh / 2)


def _stack(ground: Ground, w: float, h: float, seed: int, shift: float) -> Places:
    return _running(ground, w, h, seed, 0.0)


def _flemish(ground: Ground, w: float, h: float, seed: int, shift: float) -> Places:
    """Stretchers and headers take turns in every course; each header lies above the middle of a stretcher."""
    nx, ny = ground.counts(1.5 * w, h, (1, 2))
    i, j, pw, bh = _grid(nx, ny, ground.size_mm)
    start = (i + 0.5 * (j % 2)) * pw
    x = np.concatenate([start + pw / 3, start + pw * 5 / 6])
    hx = np.concatenate([np.full(i.shape, pw / 3), np.full(i.shape, pw / 6)])
    return _flat(x, np.tile((j + 0.5) * bh, 2), hx, bh / 2)


def _english(ground: Ground, w: float, h: float, seed: int, shift: float) -> Places:
    """A course of stretchers, a course of headers."""
    nx, ny = ground.counts(w, 2 * h)
    i, j, bw, pair = _grid(nx, ny, ground.size_mm)
    x = np.concatenate([(i + 0.5) * bw, (i + 0.5) * bw, (i + 1.0) * bw])
    y = np.concatenate([(j + 0.25) * pair, (j + 0.75) * pair, (j + 0.75) * pair])
    hx = np.concatenate([np.full(i.shape, bw / 2), np.full(2 * i.size, bw / 4)])
    return _flat(x, y, hx, pair / 4)


def _herringbone(ground: Ground, w: float, h: float, seed: int, shift: float) -> Places:
    k = max(2, round(w / h))
    nx, ny = ground.counts(h, h, (2 * k, 2 * k))
    ax, ay = ground.size_mm[0] / nx, ground.size_mm[1] / ny
    n, m = (a.ravel().astype(float) for a in np.mgrid[0:ny, 0 : nx // (2 * k)])
    level = _flat((n + 2 * k * m + k / 2) * ax, (n + 0.5) * ay, k * ax / 2, ay / 2)
    # In row n the k columns after a level box belong to upright ones; column c is left over for the rows c−2k+1 … c−k
    upright = _flat((n + 2 * k * m + 2 * k - 0.5) * ax, (n + k / 2) * ay, ax / 2, k * ay / 2)
    return _both(level, upright)


def _diagonal(ground: Ground, w: float, h: float, seed: int, shift: float) -> Places:
    """Turned by 45°; where the sheet is no whole number of repeats both ways, joints are a little wider or narrower."""
    k = max(2, round(w / h))
    root = np.sqrt(0.5)
    nx, ny = ground.counts(2 * k * h * root, 2 * h * root)
    i, j, px, py = _grid(nx, ny, ground.size_mm)
    # The same bond turned by 45°: one repeat is a parallel pair, 2k·a·√½ across and 2a·√½ down
    ax, ay = px / (2 * k), py / 2
    angle = np.arctan2(ay, ax)
    half = k * np.hypot(ax, ay) / 2
    thick = ax * ay / np.hypot(ax, ay)
    x = np.concatenate([(i * 2 * k + k / 2) * ax, (i * 2 * k + k * 1.5) * ax])
    y = np.concatenate([(2 * j + k / 2) * ay, (2 * j + 1 - k / 2) * ay])
    turn = np.concatenate([np.full(i.shape, angle), np.full(i.shape, -angle)])
    return Places(x, y, np.full(x.shape, half), np.full(x.shape, thick), turn)


def _basket(ground: Ground, w: float, h: float, seed: int, shift: float) -> Places:
    k = max(2, round(w / h))
    nx, ny = ground.counts(w, w, (2, 2))
    i, j, bw, bh = _grid(nx, ny, ground.size_mm)
    found = []
    for n in range(k):
        level = (i + j) % 2 == 0
        part = (n + 0.5) / k
        found.append(_flat((i + 0.5)[level] * bw, (j + part)[level] * bh, bw / 2, bh / k / 2))
        found.append(_flat((i + part)[~level] * bw, (j + 0.5)[~level] * bh, bw / k / 2, bh / 2))
    return _both(*found)


def _hexagon(ground: Ground, w: float, h: float, seed: int, shift: float) -> Places:
    nx, ny = ground.counts(w, w * np.sqrt(0.75), (1, 2))
    i, j, bw, bh = _grid(nx, ny, ground.size_mm)
    return _flat((i + 0.5 + 0.5 * (j % 2)) * bw, (j + 0.5) * bh, bw / 2, bh, Shape.HEXAGON)


def _coursed(ground: Ground, w: float, h: float, seed: int, shift: float) -> Places:
    """Courses of uneven height, each of stones of uneven length."""
    nx, ny = ground.counts(w, h)
    heights = 0.7 + 0.6 * numbers(ny, of(seed, 1))
    tops = np.concatenate([[0.0], np.cumsum(heights)]) / heights.sum() * ground.size_mm[1]
    found = []
    for row in range(ny):
        lengths = 0.55 + 0.9 * parts(np.arange(nx), row, of(seed, 2)).astype(float)
        ends = np.concatenate([[0.0], np.cumsum(lengths)]) / lengths.sum() * ground.size_mm[0]
        ends += float(numbers(ny, of(seed, 3))[row]) * ground.size_mm[0]
        middle, half = (ends[1:] + ends[:-1]) / 2, np.diff(ends) / 2
        y = np.full(nx, (tops[row] + tops[row + 1]) / 2)
        found.append(_flat(middle, y, half, (tops[row + 1] - tops[row]) / 2))
    return _both(*found)


SIZES = ((3, 2), (2, 2), (3, 1), (1, 2), (2, 1), (1, 1))
"""Sizes of ashlar in fields of its grid, the largest first."""


def _ashlar(ground: Ground, w: float, h: float, seed: int, shift: float) -> Places:
    """Stones of a few sizes on one grid, that lie wherever they find room."""
    nx, ny = ground.counts(w / 2, h / 2, (1, 1))
    nx, ny = max(nx, 4), max(ny, 3)
    taken = np.zeros((ny, nx), bool)
    bw, bh = ground.size_mm[0] / nx, ground.size_mm[1] / ny
    order = np.argsort(numbers(nx * ny, of(seed, 5)), kind="stable")
    found: list[tuple[int, int, int, int]] = []
    for a, b in SIZES:
        share = 1.0 if (a, b) == (1, 1) else 0.4
        keep = numbers(nx * ny, of(seed, 10 * a + b)) < share
        for at in order:
            j, i = divmod(int(at), nx)
            rows, columns = np.arange(j, j + b) % ny, np.arange(i, i + a) % nx
            if (keep[at] or share == 1.0) and not taken[np.ix_(rows, columns)].any():
                taken[np.ix_(rows, columns)] = True
                found.append((i, j, a, b))
    column, row, wide, high = np.array(found, float).T
    return _flat((column + wide / 2) * bw, (row + high / 2) * bh, wide * bw / 2, high * bh / 2)


def _both(*places: Places) -> Places:
    def joined(name: str) -> Numbers:
        return np.concatenate([getattr(p, name) for p in places])

    return Places(joined("cx"), joined("cy"), joined("hx"), joined("hy"), joined("turn"), places[0].shape)


_BONDS: dict[str, Callable[[Ground, float, float, int, float], Places]] = {
    "running": _running,
    "stack": _stack,
    "flemish": _flemish,
    "english": _english,
    "herringbone": _herringbone,
    "diagonal herringbone": _diagonal,
    "basket": _basket,
    "hexagon": _hexagon,
    "coursed": _coursed,
    "ashlar": _ashlar,
}


def laid(ground: Ground, bond: Bond, across_mm: float, down_mm: float, *, seed: int = 1, shift: float = 0.5) -> Places:
    """Boxes of a bond that fill a sheet without a gap.

    Parameters
    ----------
    ground : Ground
    bond : str
    across_mm, down_mm : float
        About how large one is, half its joints included; whole numbers of them go on a repeat.
    seed : int
        Of what is not regular.
    shift : float
        Of every course against the one above, in parts of a length; for a running bond.

    >>> from silent_loom.core.patterns.ground import Ground
    >>> len(laid(Ground.of(64, 64, (400.0, 200.0)), "running", 100.0, 50.0, seed=1).cx)
    16
    """
    return _BONDS[bond](ground, across_mm, down_mm, seed, shift)


def boards(ground: Ground, length_mm: float, width_mm: float, seed: int, spread: float = 0.5) -> Places:
    """Boards along the sheet, their ends anywhere.

    >>> from silent_loom.core.patterns.ground import Ground
    >>> boards(Ground.of(64, 64, (1000.0, 1000.0)), 500.0, 250.0, 1).cx.shape
    (8,)
    """
    nx, ny = ground.counts(length_mm, width_mm)
    found = []
    for row in range(ny):
        lengths = 1 + spread * (2 * parts(np.arange(nx), row, of(seed, 4)).astype(float) - 1)
        ends = np.concatenate([[0.0], np.cumsum(lengths)]) / lengths.sum() * ground.size_mm[0]
        ends += float(parts(np.array([row]), 1, of(seed, 6))[0]) * ground.size_mm[0]
        height = ground.size_mm[1] / ny
        y = np.full(nx, (row + 0.5) * height)
        found.append(_flat((ends[1:] + ends[:-1]) / 2, y, np.diff(ends) / 2, height / 2))
    return _both(*found)
