"""What the network is shown of a photo, in training and ever after."""

from __future__ import annotations

import numpy as np

from silent_loom.core.base.images import Floats
from silent_loom.core.maps.shading import integrated
from silent_loom.core.moving.resample import blur

CHANNELS = 5
"""Lightness, two of colour, the linear integral, and whether the light is known."""
DARK = 0.02
"""Added to linear light before its logarithm is taken."""
BROAD = 16.0
"""Texels of a Gaussian: what is broader is left out of the linear integral, since light is uneven in that."""


def logarithms(linear: Floats) -> Floats:
    """Lightness and colour of a photo as the network sees them, shape (H, W, 3).

    Parameters
    ----------
    linear : float32 array, shape (H, W, 3)
        Linear light.

    Returns
    -------
    float32 array
        Logarithms of luminance, of red over green, of blue over green, each less its mean over the sheet: exposure and the
        colour of the lamp drop out, and shading adds to colour.

    >>> even = np.full((4, 4, 3), 0.3, np.float32)
    >>> round(float(np.abs(logarithms(even)).max()), 4)
    0.0
    """
    log = np.log(np.maximum(linear, 0) + np.float32(DARK))
    light = log @ np.array([0.2126, 0.7152, 0.0722], np.float32)
    out = np.stack([light, log[..., 0] - log[..., 1], log[..., 2] - log[..., 1]], -1)
    made: Floats = out - out.mean((0, 1))
    return made


def integral(light: Floats, toward_deg: float, wraps: bool) -> Floats:
    """Height by linear shading (`shading.integrated`) without its broad part, shape (H, W); in eights of a texel.

    Parameters
    ----------
    light : float32 array, shape (H, W)
        Logarithm of luminance.
    toward_deg : float
        Where the light comes from: 0 from the right, 90 from the top.
    wraps : bool
        The photo repeats.

    >>> x = np.arange(64) * 2 * np.pi / 16
    >>> found = integral(np.broadcast_to(np.cos(x), (64, 64)).astype(np.float32), 0.0, True)
    >>> round(float(np.corrcoef(found[0], -np.sin(x))[0, 1]), 3)
    1.0
    """
    whole = integrated(light, (1.0, 1.0), toward_deg, wraps)
    made: Floats = (whole - blur(whole, BROAD, wraps)) / np.float32(8)
    return made


def shown(linear: Floats, toward_deg: float | None, wraps: bool) -> Floats:
    """Channels of a photo, shape (H, W, `CHANNELS`).

    Parameters
    ----------
    linear : float32 array, shape (H, W, 3)
        Linear light.
    toward_deg : float or None
        Where the light comes from, 0 from the right, 90 from the top; None where nothing is known of it.
    wraps : bool
        The photo repeats.

    >>> np.abs(shown(np.full((4, 4, 3), 0.3, np.float32), 0.0, True)[0, 0]).round(3).tolist()
    [0.0, 0.0, 0.0, 0.0, 1.0]
    """
    out = np.empty((*linear.shape[:2], CHANNELS), np.float32)
    out[..., :3] = logarithms(linear)
    out[..., 3] = 0.0 if toward_deg is None else integral(out[..., 0], toward_deg, wraps)
    out[..., 4] = float(toward_deg is not None)
    return out
