"""What a receiver has to know to displace a mesh by a height."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from silent_loom.core.base.images import Image
from silent_loom.core.moving.resample import at_most

SHARE = 0.9
"""Of the relief's variance that a mesh is to show."""


@dataclass(frozen=True)
class Relief:
    """How a height displaces.

    Attributes
    ----------
    scale : float
        Displacement from black to white where one repeat is one unit wide.
    depth_mm, width_mm : float
    middle : float
        Value of the file, 0…1, that stays where it is.
    spacing_mm : float
        Between vertices of a mesh that shows `SHARE` of the relief's variance; 0 where the height is flat.
    """

    scale: float
    depth_mm: float
    width_mm: float
    middle: float
    spacing_mm: float


def relief_of(height: Image, low: float, high: float) -> Relief:
    """What displaces as this height does, whose file goes from ``low`` to ``high`` mm.

    Notes
    -----
    A mesh shows waves of at least two of its spacings. Power of the height is summed from the longest waves on; the spacing is
    half of the wave at which the sum reaches the share. Read at 1024 texels at most.

    >>> from silent_loom.core.base.images import Kind
    >>> wave = np.sin(np.arange(64, dtype=np.float32) * np.float32(2 * np.pi / 64))
    >>> relief_of(Image(np.tile(wave, (64, 1))[..., None], Kind.DATA, (100.0, 100.0), True), -1.0, 1.0).spacing_mm
    50.0
    """
    depth = high - low
    small = at_most(height, 1024)
    plane = small.pixels[..., 0].astype(np.float64)
    power = np.abs(np.fft.rfft2(plane - plane.mean())) ** 2
    if small.width > 2:
        power[:, 1 : (small.width + 1) // 2] *= 2  # the half that is left out is the same
    fy = np.abs(np.fft.fftfreq(small.height, small.texel_mm[1]))[:, None]
    fx = np.fft.rfftfreq(small.width, small.texel_mm[0])[None, :]
    frequency = np.maximum(fx, fy)  # a mesh is a grid: what counts is each way by itself
    order = np.argsort(frequency, axis=None)
    summed = np.cumsum(power.ravel()[order])
    spacing = 0.0
    if summed[-1] > 1e-12 * plane.size:
        at = int(np.searchsorted(summed, SHARE * summed[-1]))
        spacing = 0.5 / float(frequency.ravel()[order[min(at, len(order) - 1)]])
    return Relief(depth / height.size_mm[0], depth, height.size_mm[0], -low / depth, spacing)
