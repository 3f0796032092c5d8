"""A plane taken apart by the size of its features, and put together again by weights along that axis."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from functools import partial
from itertools import pairwise

import numpy as np

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import IDLE, Task, over_rows
from silent_loom.core.moving.resample import blur

Handle = tuple[float, float, float]
"""Size of the features as a part of the repeat's longer side, their weight, and the share that comes from shading."""

OCTAVES = 12
"""Sizes are halved so often, from half of the repeat on; what is finer than the texels is nothing."""
_NARROW = 4.0
"""A feature is so many standard deviations of the blur that takes it away."""


def checked(handles: Sequence[Handle]) -> tuple[Handle, ...]:
    """Handles from fine to broad.

    >>> checked([(0.5, 1.0, 0.0), (0.01, 0.25, 0.0)])
    ((0.01, 0.25, 0.0), (0.5, 1.0, 0.0))

    Raises
    ------
    ValueError
        None, too many, two at one place, or outside their ranges.
    """
    if not 1 <= len(handles) <= 24:
        raise ValueError("there are 1 to 24 handles")
    ordered = tuple(sorted(handles))
    for (a, *_), (b, *_) in pairwise(ordered):
        if b < a * 1.01:
            raise ValueError("two handles are at the same size")
    for size, weight, share in ordered:
        if not (1e-5 <= size <= 1 and -3 <= weight <= 3 and 0 <= share <= 1):
            raise ValueError("a handle has a size up to 1, a weight from -3 to 3, and a share of shading from 0 to 1")
    return ordered


def along(handles: Sequence[Handle], size: float) -> tuple[float, float]:
    """Weight and share of shading of one size: straight between handles over the logarithm of the size, flat beyond them.

    >>> along(((0.01, 0.0, 0.0), (0.04, 1.0, 0.5)), 0.02)
    (0.5, 0.25)
    """
    at = np.log([h[0] for h in handles])
    x = np.log(size)
    return tuple(float(round(np.interp(x, at, [h[k] for h in handles]), 9)) for k in (1, 2))  # type: ignore[return-value]


@kernel("f4[:,::1], f4[:,::1], f4[:,::1], f4, i8, i8")
def _add(total, finer, coarser, weight, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(total.shape[1]):
            total[y, x] += weight * (finer[y, x] - coarser[y, x])


def _steps(texel: tuple[float, float], longest: float) -> Iterator[tuple[float, float]]:
    """From fine to broad: middle of a band as a part of the longest side, and the blur in mm that ends the band."""
    for k in range(OCTAVES, 0, -1):
        part = 0.5**k
        sigma = part * longest / _NARROW
        if sigma > 0.3 * min(texel):
            yield part * np.sqrt(0.5), sigma


def weighed(
    plane: Floats,
    texel: tuple[float, float],
    longest: float,
    wraps: bool,
    weight: Callable[[float], float],
    task: Task = IDLE,
) -> Floats:
    """The sum of all bands, each times its weight, shape (H, W).

    Parameters
    ----------
    plane : float32 array, shape (H, W)
    texel : tuple of float
        Width and height of a texel.
    longest : float
        Longer side of the repeat, in the same unit.
    weight : callable
        From the middle of a band, as a part of the longer side, to its weight.

    Notes
    -----
    Bands are differences of Gaussians an octave apart (Burt & Adelson, The Laplacian pyramid as a compact image code, 1983),
    whose widths are parts of the repeat: the same weights mean the same at every resolution. Neighbours of equal weight are
    taken together.

    >>> wave = np.sin(np.arange(64) * 2 * np.pi / 16)[None].repeat(64, 0).astype(np.float32)
    >>> np.abs(weighed(wave, (1.0, 1.0), 64.0, True, lambda mm: 1.0) - wave).max() < 1e-5
    np.True_
    """
    mean = np.float32(plane.mean())
    bands = list(_steps(texel, longest))
    weights = [weight(size) for size, _ in bands] + [weight(0.7)]
    total = np.zeros_like(plane)
    finer, done = plane, 0.0
    for i, (_, sigma) in enumerate(bands):
        if abs(weights[i] - weights[i + 1]) < 1e-6:
            continue
        left = np.sqrt(sigma**2 - done**2)
        coarser = blur(finer, (left / texel[0], left / texel[1]), wraps, task)
        over_rows(len(plane), partial(_add, total, finer, coarser, np.float32(weights[i])), task)
        finer, done = coarser, sigma
    total += np.float32(weights[-1]) * finer
    return total + mean * np.float32(1 - weights[-1]) if bands else total


def spectrum(plane: Floats, texel: tuple[float, float], longest: float, wraps: bool) -> list[tuple[float, float]]:
    """How much there is of every size: middle of a band as a part of the longer side, standard deviation of the band.

    >>> wave = np.sin(np.arange(64) * 2 * np.pi / 16)[None].repeat(64, 0).astype(np.float32)
    >>> max(spectrum(wave, (1.0, 1.0), 64.0, True), key=lambda s: s[1])[0]
    0.1767766952966369
    """
    found: list[tuple[float, float]] = []
    finer, done = plane, 0.0
    for size, sigma in _steps(texel, longest):
        left = np.sqrt(sigma**2 - done**2)
        coarser = blur(finer, (left / texel[0], left / texel[1]), wraps)
        found.append((float(size), float((finer - coarser).std())))
        finer, done = coarser, sigma
    return [*found, (0.7, float(finer.std()))]
