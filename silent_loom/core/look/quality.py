"""Sharpness, noise and compression of a picture, from its samples."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise
from typing import NamedTuple

import cv2
import numpy as np

from silent_loom.core.base.images import Floats


def noise_level(grey: Floats) -> float:
    """Standard deviation of pixel noise of a plane (Immerkær 1996), smooth places only.

    >>> noise_level(np.zeros((64, 64), np.float32))
    0.0
    """
    mask = np.array([[1, -2, 1], [-2, 4, -2], [1, -2, 1]], np.float32)
    response = np.abs(cv2.filter2D(grey, -1, mask))[1:-1, 1:-1]
    gx = cv2.Sobel(grey, cv2.CV_32F, 1, 0)[1:-1, 1:-1]
    gy = cv2.Sobel(grey, cv2.CV_32F, 0, 1)[1:-1, 1:-1]
    steep = np.hypot(gx, gy)
    calm = response[steep <= np.percentile(steep, 30)]
    return float(np.sqrt(np.pi / 2) / 6 * calm.mean()) if calm.size else 0.0


class Sharpness(NamedTuple):
    """How much of the finest detail is there, whatever the noise.

    Attributes
    ----------
    figure : float
        Contrast of the finest detail that noise does not hide, against that of detail twice as coarse: 0.12 to 0.6 in
        sharp photos, below 0.1 where a lens or a hand blurred by more than a pixel; 0 where none can be told.
    octave : int
        How many times the picture had to be halved until its detail stood out of its noise; -1 where it never did.
    lacking : int
        How many times it can be halved until the finest detail is there.
    """

    figure: float
    octave: int
    lacking: int


SHARP, SHARP_BELOW = 0.12, 0.15
"""From here on the finest detail is there: at full size, where edges are never steeper than a lens draws them, and below."""
OCTAVES = 4
NOISIEST = 12 / 255
"""What is stronger is the texture of the surface, and no noise of a camera."""
HIDDEN = 0.05
"""Detail of less than this part of the noise cannot be told from it, as the noise itself is only known so well."""


def sharpness(parts: Sequence[Floats]) -> Sharpness:
    """How sharp a picture is, from full-size parts of it.

    The variance of the Laplacian (Pech-Pacheco et al., Diatom autofocusing in brightfield microscopy, ICPR 2000) at each
    of four halvings, less what noise adds to it. In most natural surfaces one octave holds about as much contrast as
    the next (Field, JOSA A 4, 1987); blur takes it out of the finest first. So their proportion tells blur from noise,
    and from a surface of little contrast.

    Parameters
    ----------
    parts : float32 arrays, shape (H, W), sRGB-encoded 0…1

    Notes
    -----
    The Laplacian with centre −4 has 20 times the variance of white noise; halving takes three quarters of that away.
    Noise is estimated after Immerkær (Fast noise variance estimation, CVIU 64, 1996), with a floor of a third of an
    8-bit step.

    >>> fine = np.random.default_rng(1).random((64, 64)).astype(np.float32)
    >>> fine = cv2.resize(fine, (256, 256), interpolation=cv2.INTER_NEAREST)
    >>> sharpness([fine]).figure > SHARP > sharpness([cv2.GaussianBlur(fine, (0, 0), 1.5)]).figure
    True
    """
    ratios, hidden = [], []
    for part in parts:
        noise = min(max(noise_level(part), 0.29 / 255), NOISIEST) ** 2
        plane, energy, known = part, [], []
        for k in range(OCTAVES):
            added = 20 * noise / 4**k
            energy.append(float(cv2.Laplacian(plane, cv2.CV_32F).var()) - added)
            known.append(energy[-1] < HIDDEN * added)
            if min(plane.shape) < 8:
                break
            plane = cv2.resize(plane, (plane.shape[1] // 2, plane.shape[0] // 2), interpolation=cv2.INTER_AREA)
        energy += [energy[-1]] * (OCTAVES - len(energy))
        known += [True] * (OCTAVES - len(known))
        ratios.append([max(0.0, a) / max(b, 1e-9) for a, b in pairwise(energy)])
        hidden.append(known[:-1])
    ratio, unknown = np.median(ratios, 0), np.mean(hidden, 0) > 0.5
    if unknown.all():
        return Sharpness(0.0, -1, 0)
    octave = int(np.argmin(unknown))
    lacking = next((k for k in range(octave, len(ratio)) if ratio[k] >= (SHARP_BELOW if k else SHARP)), len(ratio))
    return Sharpness(float(ratio[octave]), octave, lacking)


def blockiness(grey: Floats) -> float:
    """How much steps on a grid of eight pixels exceed those off it; 0 none, 0.5 clearly seen.

    Parameters
    ----------
    grey : float32 array, shape (H, W)
        Must start on the grid.

    Notes
    -----
    Second differences, so that slopes do not count; the grid line against the mean of the other seven, after Wang, Sheikh
    & Bovik, No-reference perceptual quality assessment of JPEG compressed images, ICIP 2002.

    >>> round(blockiness(np.tile(np.repeat(np.arange(8, dtype=np.float32), 8), (64, 1))), 2) > 1
    True
    """
    found = []
    for plane in (grey, grey.T):
        n = plane.shape[1] // 8 * 8
        if n < 32:
            return 0.0
        step = np.abs(plane[:, 1:n] - plane[:, : n - 1])
        step = step[:, 1:-1] - 0.5 * (step[:, :-2] + step[:, 2:])
        mean = np.array([step[:, (k - 2) % 8 :: 8].mean() for k in range(8)])
        # Steps of less than a code are rounding, not blocks, however smooth the picture
        size = np.abs(plane[:, 1:n] - plane[:, : n - 1]).mean() + 1.0 / 255
        found.append((mean[0] - np.delete(mean, 0).mean()) / size)
    return float(max(0.0, np.mean(found)))
