"""Noise of one wavelength and direction, out of its spectrum."""

from __future__ import annotations

import math

import numpy as np

from silent_loom.core.base.images import Floats
from silent_loom.core.base.lazy_modules import later
from silent_loom.core.base.parallel import WORKERS
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.hashing import of, parts

fft = later("scipy.fft")


def gabor(
    ground: Ground, wave_mm: float, *, spread: float = 0.2, turn: float = 0.0, fan: float = math.pi, seed: int = 1
) -> Floats:
    """Random waves that repeat, shape (H, W), of variance 1.

    Parameters
    ----------
    wave_mm : float
        From crest to crest.
    spread : float
        How much waves differ in length, as a part of it.
    turn : float
        Direction in which they run, in radians from the right towards the bottom.
    fan : float
        Standard deviation of their directions in radians; from about 2 on they run every way.

    Notes
    -----
    The spectrum is that of sparse Gabor noise (Lagae, Lefebvre, Drettakis & Dutré 2009) in the limit of many kernels, with phases
    out of whole numbers (random phase noise: Galerne, Gousseau & Morel 2011): every size shows the same waves.

    >>> from silent_loom.core.patterns.ground import Ground
    >>> gabor(Ground.of(64, 64, (100.0, 100.0)), 10.0, fan=0.2).shape
    (64, 64)
    """
    sx, sy = ground.size_mm
    high = (1 + 3 * spread) / wave_mm
    kx, ky = max(1, math.ceil(high * sx)), max(1, math.ceil(high * sy))
    kx, ky = min(kx, int(ground.texels[0]) // 2 - 1), min(ky, int(ground.texels[1]) // 2 - 1)
    x, y = np.arange(0, kx + 1), np.arange(-ky, ky + 1)
    fx, fy = x[None] / sx, y[:, None] / sy
    far = np.hypot(fx, fy)
    power = np.exp(-(((far * wave_mm - 1) / spread) ** 2))
    if fan < 2:
        lean = np.angle(np.exp(2j * (np.arctan2(fy, fx) - turn))) / 2
        power = power * np.exp(-((lean / fan) ** 2))
    power[:, 0] *= y >= 0  # of two waves that are the same one counts
    power[ky, 0] = 0
    phase = 2 * np.pi * parts(x[None] + 0 * y[:, None], y[:, None] % 2**32, of(seed, 41))
    amount = np.sqrt(power / max(power.sum(), 1e-30)) * np.sqrt(2)
    h, w = (max(2, round(n)) for n in ground.texels[::-1])
    spectrum = np.zeros((h, w // 2 + 1), np.complex64)
    at = np.pi * (fx * sx / w + fy * sy / h)  # samples lie in the middles of texels
    spectrum[y % h, : kx + 1] = amount / 2 * np.exp(1j * (phase + at))
    spectrum[:, 0] *= 2
    spectrum[:, 0] = (spectrum[:, 0] + np.conj(np.roll(spectrum[::-1, 0], 1))) / 2
    out = fft.irfft2(spectrum * np.float32(w * h), s=(h, w), workers=WORKERS)
    return np.ascontiguousarray(out[: ground.height, : ground.width], np.float32)
