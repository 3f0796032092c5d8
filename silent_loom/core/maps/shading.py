"""Relief from shading: which height would throw this light."""

from __future__ import annotations

import numpy as np

from silent_loom.core.base.images import Floats
from silent_loom.core.base.parallel import WORKERS

_DAMPING = 0.05
"""Part of a wave's energy below which what runs along the light is left out: there it throws no shading."""


def integrated(plane: Floats, texel: tuple[float, float], toward_deg: float, wraps: bool) -> Floats:
    """The height whose slopes towards the light follow a plane's brightness; its mean is 0.

    Parameters
    ----------
    plane : float32 array, shape (H, W)
        Brightness in steps that are even to light, as its logarithm.
    texel : tuple of float
        Width and height of a texel.
    toward_deg : float
        Where the light comes from: 0 from the right, 90 from the top.

    Notes
    -----
    Under an oblique light brightness falls, to first order, with the rise towards it, so the height's transform is that of
    brightness over the derivative along the light (Pentland, Linear shape from shading, Int. J. Computer Vision 4, 1990),
    damped as a Wiener filter where waves run across the light. A sheet that does not wrap is continued by its mean.

    >>> y, x = np.mgrid[:64, :64] * 2 * np.pi / 64
    >>> found = integrated(np.cos(x).astype(np.float32), (1.0, 1.0), 0.0, True)
    >>> round(float(abs(np.corrcoef(found.ravel(), np.sin(x).ravel())[0, 1])), 3)
    1.0
    """
    from scipy import fft

    h, w = plane.shape
    field = plane - plane.mean()
    if not wraps:
        field = np.pad(field, ((0, h // 2), (0, w // 2)))
    rows, cols = field.shape
    kx = 2 * np.pi * np.fft.rfftfreq(cols, texel[0])[None, :]
    ky = 2 * np.pi * np.fft.fftfreq(rows, texel[1])[:, None]
    angle = np.deg2rad(toward_deg)
    into = (kx * np.cos(angle) - ky * np.sin(angle)).astype(np.float32)  # rows run down
    every = (kx**2 + ky**2).astype(np.float32)
    every[0, 0] = 1
    light = fft.rfft2(field, workers=WORKERS)
    made: Floats = fft.irfft2(light * (1j * into / (into**2 + np.float32(_DAMPING) * every)), (rows, cols), workers=WORKERS)
    out = np.ascontiguousarray(made[:h, :w], np.float32)
    return out - out.mean()


def light_axis(plane: Floats, texel: tuple[float, float]) -> tuple[float, float]:
    """The line along which light came over a surface, and how sure that is.

    Parameters
    ----------
    plane : float32 array, shape (H, W)
        Brightness in even steps, freed from its broad tone.

    Returns
    -------
    axis : float
        Degrees, 0 to 180: 0 along the rows, 90 along the columns. Which of its two ends has the light cannot be told.
    sure : float
        0 where no line stands out, 1 where all change runs along it.

    Notes
    -----
    A relief without a direction of its own, lit from one side, changes most along the light: three times as much, squared, as
    across it (Knill, Estimating illuminant direction and degree of surface relief, J. Opt. Soc. Am. A 7, 1990).

    >>> y, x = np.mgrid[:64, :64]
    >>> round(light_axis(np.sin(2 * np.pi * x / 16).astype(np.float32), (1.0, 1.0))[0])
    0
    """
    gy, gx = np.gradient(plane, texel[1], texel[0])
    a, b, c = float((gx * gx).mean()), float((gx * gy).mean()), float((gy * gy).mean())
    whole = a + c
    if whole < 1e-20:
        return 0.0, 0.0
    turn = 0.5 * np.degrees(np.arctan2(-2 * b, a - c))
    return float(turn % 180), float(np.hypot(a - c, 2 * b) / whole)
