"""What a camera and the way to a file make of light: lens, sensor, tone curve, sharpening, compression."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.srgb import encode_srgb
from tools.training.reliefs import Plane, Random, fractal


def photographed(rng: Random, light: Plane) -> tuple[NDArray[np.uint8], Plane]:
    """An 8-bit picture in sRGB, shape (N, N, 3), and the unevenness of light that came with it, shape (N, N)."""
    side = len(light)
    uneven = _uneven(rng, side)
    out = light * uneven[..., None]
    out = out * np.float32(rng.uniform(0.28, 0.62) / max(float(np.percentile(out, 80)), 1e-4))
    if rng.random() < 0.6:
        out = cv2.GaussianBlur(out, (0, 0), float(rng.uniform(0.3, 1.3)))
    noise = rng.uniform(0, 0.015)
    out = out + np.sqrt(np.maximum(out, 0) * 0.5 + 0.05) * np.float32(noise) * rng.standard_normal(out.shape).astype(np.float32)
    codes = encode_srgb(np.clip(out, 0, 1)).astype(np.float32)
    codes = _curve(rng, codes)
    if rng.random() < 0.4:  # halos
        codes = codes + np.float32(rng.uniform(0.2, 1.2)) * (
            codes - cv2.GaussianBlur(codes, (0, 0), float(rng.uniform(0.6, 2.0)))
        )
    if rng.random() < 0.15:
        grey = codes.mean(-1, keepdims=True)
        codes = grey + (codes - grey) * np.float32(rng.uniform(0, 1.6))
    eight = np.clip(np.rint(codes * 255), 0, 255).astype(np.uint8)
    if rng.random() < 0.6:
        _, packed = cv2.imencode(".jpg", eight[..., ::-1], [cv2.IMWRITE_JPEG_QUALITY, int(rng.integers(55, 97))])
        eight = cv2.imdecode(packed, cv2.IMREAD_COLOR)[..., ::-1]
    return np.ascontiguousarray(eight), uneven


def _uneven(rng: Random, side: int) -> Plane:
    y, x = (np.mgrid[0:side, 0:side] / np.float32(side) - 0.5).astype(np.float32)
    stops = rng.normal(0, 0.25) * x + rng.normal(0, 0.25) * y - abs(rng.normal(0, 0.3)) * (x * x + y * y)
    if rng.random() < 0.3:
        stops = stops + rng.uniform(0, 0.2) * fractal(rng, side, side / 1.5, 1)
    return np.exp2(stops).astype(np.float32)


def _curve(rng: Random, codes: Plane) -> Plane:
    """A camera's own tone curve: a contrast about the middle, a power."""
    x = np.clip(codes, 0, 1) ** np.float32(np.exp(rng.normal(0, 0.12)))
    s = rng.uniform(-0.25, 0.7)
    return (x + s * x * (1 - x) * (2 * x - 1)).astype(np.float32)
