"""Colour against shading: what of a picture's brightness follows from its colour, and so says nothing about depth."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial

import numpy as np

from silent_loom.core.base.images import Floats, Image
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import IDLE, Task, over_rows
from silent_loom.core.moving.resample import at_most, blur, enlarge

WINDOW = 1 / 10
"""Standard deviation of the window in which colour and brightness are compared, as a part of the longer side."""
SIZE = 256
"""Texels along the longer side at which they are compared: what is found is smooth."""
_NOISE = 0.015
"""Change of the logarithm of colour that is taken for noise."""
_DARK = 0.003
"""Linear light below which colour is not told."""


@dataclass(frozen=True)
class Stain:
    """How brightness follows colour at every place: slopes on two ratios, what is left, and how much of it is explained.

    Attributes
    ----------
    fields : float32 array, shape (4, h, w)
        Slopes on log(r / g) and log(b / g), offset, and the explained part of the variance, 0…1.
    """

    fields: Floats

    def taken_off(self, plane: Floats, image: Image, strength: float, task: Task = IDLE) -> None:
        """Divide a plane of linear light, shape (H, W), by what colour makes of its brightness; in place."""
        a, b, c, part = (enlarge(np.ascontiguousarray(f), image.width, image.height, image.wraps, task) for f in self.fields)
        work = partial(_divide, image.pixels, a, b, c, part, np.float32(strength), plane)
        over_rows(image.height, work, task, cost=image.width * 64 * 5e-5)


@kernel("f4[:,:,::1], f4[:,::1], f4[:,::1], f4[:,::1], f4[:,::1], f4, f4[:,::1], i8, i8")
def _divide(rgb, on_red, on_blue, offset, part, strength, plane, y0, y1):  # type: ignore[no-untyped-def]
    dark = np.float32(_DARK)
    for y in range(y0, y1):
        for x in range(plane.shape[1]):
            # Paint is explained nearly whole, a surface lit from the side is not: half explained counts by a quarter
            much = min(strength * part[y, x] * part[y, x], np.float32(1))
            if much > np.float32(0.002):
                green = np.log(max(rgb[y, x, 1], dark))
                red, blue = np.log(max(rgb[y, x, 0], dark)) - green, np.log(max(rgb[y, x, 2], dark)) - green
                plane[y, x] *= np.exp(-much * (on_red[y, x] * red + on_blue[y, x] * blue + offset[y, x]))


def ratios(colour: Floats) -> tuple[Floats, Floats, Floats]:
    """log(r / g), log(b / g) and the logarithm of brightness, each of shape (H, W)."""
    logs = np.log(np.maximum(colour, np.float32(_DARK)))
    green = logs[..., 1]
    bright: Floats = np.log(np.maximum(colour @ np.array([0.2126, 0.7152, 0.0722], np.float32), np.float32(_DARK)))
    return logs[..., 0] - green, logs[..., 2] - green, bright


def learn(image: Image, task: Task = IDLE) -> Stain:
    """Compare colour and brightness about every place of a picture.

    Notes
    -----
    A linear fit of log brightness by two log colour ratios in a window, as in a guided filter (He, Sun & Tang, IEEE PAMI 35,
    2013): shading leaves the ratios as they are, so what they explain is stain, paint or another stone (Funt, Drew &
    Brockington, Recovering shading from color images, ECCV 1992).
    """
    image = at_most(image, SIZE, task)
    red, blue, bright = ratios(image.pixels)
    sigma = WINDOW * max(image.size_mm)
    pair = (sigma / image.texel_mm[0], sigma / image.texel_mm[1])

    def mean(plane: Floats) -> Floats:
        return blur(np.ascontiguousarray(plane, np.float32), pair, image.wraps, task)

    r, b, y = mean(red), mean(blue), mean(bright)
    dr, db, dy = red - r, blue - b, bright - y
    rr, bb, rb = mean(dr * dr) + _NOISE**2, mean(db * db) + _NOISE**2, mean(dr * db)
    ry, by, yy = mean(dr * dy), mean(db * dy), mean(dy * dy)
    det = np.maximum(rr * bb - rb * rb, 1e-12)
    on_red, on_blue = (bb * ry - rb * by) / det, (rr * by - rb * ry) / det
    part = np.clip((on_red * ry + on_blue * by) / np.maximum(yy, 1e-6), 0, 1)
    on_red, on_blue, part = mean(on_red), mean(on_blue), mean(part)
    offset = -(on_red * r + on_blue * b)
    return Stain(np.stack([on_red, on_blue, offset, part]).astype(np.float32))
