"""Sharpness, noise and compression of a picture, from its samples."""

from __future__ import annotations

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


def sharpness(grey: Floats) -> float:
    """Variance of the Laplacian against that which noise alone would give; 1 is nothing but noise, or blur.

    Parameters
    ----------
    grey : float32 array, shape (H, W), sRGB-encoded 0…1

    Notes
    -----
    The Laplacian with centre −4 has 20 times the variance of white noise. Noise is estimated after Immerkær (Fast noise
    variance estimation, CVIU 64, 1996), with a floor of a third of an 8-bit step.

    >>> sharpness(np.tile(np.float32([0, 1]), (64, 32))) > sharpness(np.tile(np.float32([0.4, 0.6]), (64, 32)))
    True
    """
    variance = float(cv2.Laplacian(grey, cv2.CV_32F).var())
    noise = max(noise_level(grey), 0.29 / 255)
    return variance / (20 * noise * noise)


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
