"""From slopes to the height that has them: integration by Fourier transform (Frankot & Chellappa 1988)."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.parallel import WORKERS


def _symbol(n: int, texel: float) -> NDArray[np.float64]:
    """What the difference of fourth order that `from_height` takes does to each frequency, over i."""
    k = 2 * np.pi * np.fft.fftfreq(n)
    out: NDArray[np.float64] = (8 * np.sin(k) - np.sin(2 * k)) / (6 * texel)
    return out


MOST = 1 / 0.75
"""How many times as much as the slopes themselves say the inverse of the differences may make of a fine wave."""
FINE = (0.2, 0.75)
"""Waves by which normals are told apart: how much of their slope the differences still see."""
BY_DIFFERENCES = 0.002
"""Share of those waves that is no gradient of the differences, up to which normals count as made by them; 8 bits cost less."""


def _no_gradient(p: NDArray[Any], q: NDArray[Any], dx: NDArray[Any], dy: NDArray[Any]) -> float:
    """Share of slopes that lies across the direction in which a gradient by differences has to lie."""
    across, along = np.abs(dx * q - dy * p) ** 2, np.abs(dx * p + dy * q) ** 2
    size = np.maximum(dx**2 + dy**2, 1e-300)
    total = float(((across + along) / size).sum())
    return float((across / size).sum()) / total if total > 0 else 0.0


def height_of(across: Floats, down: Floats, texel: tuple[float, float], wraps: bool) -> Floats:
    """The height whose slopes come nearest to some given ones in least squares; its mean is 0.

    Parameters
    ----------
    across, down : float32 arrays, shape (H, W)
        Rise to the right and downwards, a length over the same length.
    texel : tuple of float
        Width and height of a texel; the height comes in the same unit.
    wraps : bool
        The sheet goes on at the other side; otherwise it is mirrored at its edges, so that nothing is made to meet.

    Notes
    -----
    Inverts the very differences by which normals are made, so that height to normal to height comes back; waves of two
    texels, which those differences do not see, are left out. Such differences see less and less of a wave the finer it is, and
    their inverse amplifies it: normals that were scaled down, or come from elsewhere, hold the slopes themselves, and would
    come out as a checkerboard. What is no gradient among the fine waves tells them apart, and for those the inverse never
    goes beyond `MOST` times that of the slopes themselves.

    >>> height_of(np.zeros((4, 4), np.float32), np.zeros((4, 4), np.float32), (1.0, 1.0), True).max().item()
    0.0
    """
    from scipy import fft

    h, w = across.shape
    if not wraps:
        across = np.concatenate([across, -across[:, ::-1]], 1)
        across = np.concatenate([across, across[::-1]], 0)
        down = np.concatenate([down, down[:, ::-1]], 1)
        down = np.concatenate([down, -down[::-1]], 0)
    rows, cols = across.shape
    dx, dy = _symbol(cols, texel[0])[: cols // 2 + 1], _symbol(rows, texel[1])
    if cols % 2 == 0:
        dx[-1] = 0
    power = dx[None, :] ** 2 + dy[:, None] ** 2
    seen = power > 1e-9 * power.max()
    p, q = (fft.rfft2(a.astype(np.float64), workers=WORKERS) for a in (across, down))
    kx, ky = 2 * np.pi * np.fft.rfftfreq(cols) / texel[0], 2 * np.pi * np.fft.fftfreq(rows) / texel[1]
    true = kx[None, :] ** 2 + ky[:, None] ** 2
    fine = (power < FINE[1] ** 2 * true) & (power > FINE[0] ** 2 * true)
    by = (np.broadcast_to(d, power.shape)[fine] for d in (dx[None, :], dy[:, None]))
    if _no_gradient(p[fine], q[fine], *by) > BY_DIFFERENCES:
        power = np.maximum(power, true / MOST**2)
    found: Any = np.where(seen, -1j * (dx[None, :] * p + dy[:, None] * q) / np.where(seen, power, 1), 0)
    out: Floats = fft.irfft2(found, (rows, cols), workers=WORKERS)[:h, :w].astype(np.float32)
    return out - out.mean()
