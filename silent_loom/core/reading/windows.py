"""A photo read through the network: turned so that the light comes from the right, in overlapping windows, turned back."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.parallel import IDLE, Task, over_rows
from silent_loom.core.reading.inputs import CHANNELS, shown

Network = Callable[[Floats], Floats]
"""Outputs (K, N, N) of inputs (`CHANNELS`, N, N)."""

OVERLAP = 24
"""Texels at every side of a window that are read twice; answers fade from one window to the next there."""
BLIND = 10
"""Texels at every side of a window whose answers are not used: what would lie beside them is missing."""
SIDE = 256
"""Texels along a window, as the network was written for."""


@dataclass(frozen=True)
class Turn:
    """A sheet turned about its middle on a canvas that holds all of it.

    Attributes
    ----------
    shape : tuple of int
        Rows and columns of the sheet.
    toward_deg : float
        What comes to lie to the right.
    """

    shape: tuple[int, int]
    toward_deg: float

    @property
    def ways(self) -> tuple[float, float]:
        """Cosine and sine, exact for quarter turns."""
        a = np.deg2rad(self.toward_deg)
        c, s = float(np.cos(a)), float(np.sin(a))
        return (round(c) if abs(c - round(c)) < 1e-9 else c), (round(s) if abs(s - round(s)) < 1e-9 else s)

    @property
    def canvas(self) -> tuple[int, int]:
        """Rows and columns of the canvas."""
        (h, w), (c, s) = self.shape, self.ways
        return int(np.ceil(h * abs(c) + w * abs(s) - 1e-6)), int(np.ceil(w * abs(c) + h * abs(s) - 1e-6))

    def to_sheet(self, u: Floats, v: Floats) -> tuple[Floats, Floats]:
        """Places of the sheet, x and y, of places on the canvas."""
        (h, w), (rows, cols), (c, s) = self.shape, self.canvas, self.ways
        u, v = u - (cols - 1) / 2, v - (rows - 1) / 2
        return (c * u + s * v + (w - 1) / 2).astype(np.float32), (-s * u + c * v + (h - 1) / 2).astype(np.float32)

    def to_canvas(self, x: Floats, y: Floats) -> tuple[Floats, Floats]:
        """Places on the canvas, u and v, of places of the sheet."""
        (h, w), (rows, cols), (c, s) = self.shape, self.canvas, self.ways
        x, y = x - (w - 1) / 2, y - (h - 1) / 2
        return (c * x - s * y + (cols - 1) / 2).astype(np.float32), (s * x + c * y + (rows - 1) / 2).astype(np.float32)


def read(
    network: Network, outputs: int, linear: Floats, toward_deg: float | None, wraps: bool, task: Task = IDLE
) -> NDArray[np.float32]:
    """What a network makes of a photo, shape (K, H, W), in the photo's own axes.

    Parameters
    ----------
    network : callable
        Takes and gives windows of `SIDE` texels.
    outputs : int
        How many planes it gives; the first two are parts of the normal to the right and downward, which are turned back.
    linear : float32 array, shape (H, W, 3)
        Linear light.
    toward_deg : float or None
        Where the light comes from, 0 from the right, 90 from the top; None where nothing is known of it.
    wraps : bool
        The photo repeats; else it is mirrored at its edges.

    Notes
    -----
    Windows overlap by `OVERLAP` texels at each side, and what they say is mixed there by a weight that falls to nothing at their
    edges, so that no border of a window shows. Those that hold nothing of a turned sheet are left out.

    >>> lightness = lambda x: x[:2]
    >>> found = read(lightness, 2, np.full((32, 48, 3), 0.2, np.float32), 90.0, True)
    >>> found.shape, round(float(np.abs(found).max()), 4)
    ((2, 32, 48), 0.0)
    """
    turn = Turn((linear.shape[0], linear.shape[1]), toward_deg or 0.0)
    planes = shown(linear, toward_deg, wraps)
    rows, cols = turn.canvas
    total = np.zeros((outputs, rows, cols), np.float32)
    weights = np.zeros((rows, cols), np.float32)
    fade = _fade()
    places = [p for p in _places(rows, cols) if _holds(turn, p)]
    said: list[Floats | None] = [None] * len(places)

    def some(first: int, last: int) -> None:
        for k in range(first, last):
            task.checkpoint()
            said[k] = network(_window(planes, turn, *places[k], wraps))
            task.report(sum(one is not None for one in said) / len(places))

    over_rows(len(places), some, task, least=1, cost=64 * 30)
    for k, (top, left) in enumerate(places):  # in their order, so that sums come out the same each time
        one, said[k] = said[k], None
        assert one is not None
        y, x = slice(max(0, top), min(rows, top + SIDE)), slice(max(0, left), min(cols, left + SIDE))
        own = slice(y.start - top, y.stop - top), slice(x.start - left, x.stop - left)
        total[:, y, x] += (one * fade)[:, own[0], own[1]]
        weights[y, x] += fade[own]
    total /= np.maximum(weights, 1e-9)
    return _back(total, turn)


def _places(rows: int, cols: int) -> Iterator[tuple[int, int]]:
    """Top left corners of windows that cover a canvas, each side of them `OVERLAP` beyond."""

    def along(n: int) -> list[int]:
        step = SIDE - 2 * OVERLAP
        count = max(1, int(np.ceil(n / step)))
        if count == 1:
            return [(n - SIDE) // 2]
        return [round(-OVERLAP + k * (n + 2 * OVERLAP - SIDE) / (count - 1)) for k in range(count)]

    return ((top, left) for top in along(rows) for left in along(cols))


def _holds(turn: Turn, place: tuple[int, int]) -> bool:
    """Whether the inner part of a window has anything of the sheet."""
    top, left = place
    at = np.linspace(OVERLAP, SIDE - OVERLAP, 14)
    u, v = np.meshgrid(left + at, top + at)
    x, y = turn.to_sheet(u.astype(np.float32), v.astype(np.float32))
    h, w = turn.shape
    return bool(((x > -16) & (x < w + 16) & (y > -16) & (y < h + 16)).any())


def _window(planes: Floats, turn: Turn, top: int, left: int, wraps: bool) -> Floats:
    v, u = np.mgrid[top : top + SIDE, left : left + SIDE].astype(np.float32)
    x, y = turn.to_sheet(u, v)
    h, w = turn.shape
    varied = planes[..., :-1]  # the last is the same everywhere, and OpenCV takes four at once
    if wraps:
        x0, y0 = np.floor(x.min()), np.floor(y.min())
        rows = (int(y0) - 2 + np.arange(int(np.ceil(y.max() - y0)) + 6)) % h
        cols = (int(x0) - 2 + np.arange(int(np.ceil(x.max() - x0)) + 6)) % w
        piece = np.ascontiguousarray(varied[rows[:, None], cols[None]])
        x, y = x - np.float32(x0 - 2), y - np.float32(y0 - 2)
        found = cv2.remap(piece, x, y, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE)
    else:
        found = cv2.remap(varied, x, y, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT)
    out = np.full((CHANNELS, SIDE, SIDE), planes[0, 0, -1], np.float32)
    out[:-1] = found.transpose(2, 0, 1)
    return out


def _fade() -> Floats:
    edge = (np.minimum(np.arange(SIDE) + 0.5, SIDE - 0.5 - np.arange(SIDE)) - BLIND) / (2 * (OVERLAP - BLIND))
    one = np.sin(np.pi / 2 * np.clip(edge, 0, 1)) ** 2
    fade: Floats = (np.outer(one, one) + 1e-7).astype(np.float32)
    return fade


def _back(found: NDArray[np.float32], turn: Turn) -> NDArray[np.float32]:
    h, w = turn.shape
    y, x = np.mgrid[0:h, 0:w].astype(np.float32)
    u, v = turn.to_canvas(x, y)
    out = np.stack([cv2.remap(p, u, v, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE) for p in found])
    c, s = turn.ways
    out[0], out[1] = c * out[0] + s * out[1], -s * out[0] + c * out[1]
    made: NDArray[np.float32] = out
    return made
