"""Colour against shading: what of a picture's brightness follows from its colour, and so says nothing about depth."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial

import numpy as np

from silent_loom.core.base.colour import luminance
from silent_loom.core.base.images import Floats, Image
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import IDLE, Task, over_rows
from silent_loom.core.moving.resample import at_most, blur

BINS = 64
"""Steps of each of the two colour ratios."""
LOW, HIGH = -2.5, 2.5
"""Range of the ratios, as natural logarithms."""
SIZE = 384
"""Texels along the longer side at which brightness is told from colour."""
_RARE = 25.0
"""Texels of a colour below which little is known of it."""
_DARK = 0.003
"""Linear light below which colour is not told."""


@dataclass(frozen=True)
class Stain:
    """Brightness by colour.

    Attributes
    ----------
    table : float32 array, shape (BINS, BINS)
        Mean logarithm of brightness, about the picture's own mean, by log(r / g) down and log(b / g) across.
    part : float
        Which part of the variance of brightness it explains, 0…1.
    """

    table: Floats
    part: float

    def much(self, strength: float) -> float:
        """How much of it is taken off: paint is explained nearly whole, half explained counts by a quarter."""
        return min(1.0, strength * self.part**2)

    def taken_off(self, plane: Floats, image: Image, strength: float, task: Task = IDLE) -> None:
        """Divide a plane of linear light, shape (H, W), by what colour makes of its brightness; in place."""
        work = partial(_divide, image.pixels, self.table, np.float32(self.much(strength)), plane)
        over_rows(image.height, work, task, cost=image.width * 64 * 5e-5)


@kernel("f4[:,:,::1], f4[:,::1], f4, f4[:,::1], i8, i8")
def _divide(rgb, table, much, plane, y0, y1):  # type: ignore[no-untyped-def]
    dark, top = np.float32(_DARK), np.float32(BINS - 1.001)
    scale = np.float32((BINS - 1) / (HIGH - LOW))
    for y in range(y0, y1):
        for x in range(plane.shape[1]):
            green = np.log(max(rgb[y, x, 1], dark))
            u = (np.log(max(rgb[y, x, 0], dark)) - green - np.float32(LOW)) * scale
            v = (np.log(max(rgb[y, x, 2], dark)) - green - np.float32(LOW)) * scale
            u, v = min(max(u, np.float32(0)), top), min(max(v, np.float32(0)), top)
            i, j = int(u), int(v)
            s, t = u - np.float32(i), v - np.float32(j)
            above = table[i, j] + t * (table[i, j + 1] - table[i, j])
            below = table[i + 1, j] + t * (table[i + 1, j + 1] - table[i + 1, j])
            plane[y, x] *= np.exp(-much * (above + s * (below - above)))


def ratios(colour: Floats) -> tuple[Floats, Floats, Floats]:
    """log(r / g), log(b / g) and the logarithm of brightness, each of shape (H, W).

    >>> [round(float(p[0, 0]), 3) for p in ratios(np.float32([[[0.4, 0.2, 0.1]]]))]
    [0.693, -0.693, -1.447]
    """
    logs = np.log(np.maximum(colour, np.float32(_DARK)))
    green = logs[..., 1]
    bright: Floats = np.log(np.maximum(luminance(colour), np.float32(_DARK)))
    return logs[..., 0] - green, logs[..., 2] - green, bright


def learn(image: Image, task: Task = IDLE) -> Stain:
    """Tell brightness from colour over a whole picture.

    Notes
    -----
    Shading leaves the ratios of colours as they are, so what they predict of brightness is paint, stain or another stone
    (Funt, Drew & Brockington, Recovering shading from color images, ECCV 1992). The prediction is the mean of each colour
    (regression by a smoothed table, Nadaraya 1964): several paints on one wall lie on no line.

    >>> from silent_loom.core.base.images import Kind
    >>> from silent_loom.core.base.parallel import IDLE
    >>> round(learn(Image(np.full((64, 64, 3), 0.4, np.float32), Kind.COLOUR), IDLE).part, 3)
    1.0
    """
    small = at_most(image, SIZE, task)
    red, blue, bright = ratios(small.pixels)
    mean = float(bright.mean())
    i, j = (np.clip((r - LOW) * ((BINS - 1) / (HIGH - LOW)), 0, BINS - 1) for r in (red, blue))
    flat = (np.rint(i).astype(np.int64) * BINS + np.rint(j).astype(np.int64)).ravel()
    count = np.bincount(flat, minlength=BINS * BINS).reshape(BINS, BINS).astype(np.float32)
    total = np.bincount(flat, (bright - mean).ravel(), BINS * BINS).reshape(BINS, BINS).astype(np.float32)
    count, total = (blur(plane, 0.9, False) for plane in (count, total))
    table = np.ascontiguousarray(total / (count + np.float32(_RARE / 10)), np.float32)
    told = table.ravel()[flat]
    left = float(np.var((bright - mean).ravel() - told)) / max(float(bright.var()), 1e-9)
    return Stain(table, float(np.clip(1 - left, 0, 1)))
