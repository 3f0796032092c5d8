"""Colour: the exact sRGB transfer, luminance, CIE L*a*b*, all on linear Rec. 709 light."""

from __future__ import annotations

from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.images import Floats
from silent_loom.core.parallel import IDLE, Task, kernel, over_rows

LUMA = np.array([0.2126390, 0.7151687, 0.0721923], np.float32)
"""Luminance of the Rec. 709 primaries under D65 (ITU-R BT.709, rounded as in IEC 61966-2-1 amendments)."""

_TO_XYZ = np.array(
    [
        [0.4123907993, 0.3575843394, 0.1804807884],
        [0.2126390059, 0.7151686788, 0.0721923154],
        [0.0193308187, 0.1191947798, 0.9505321522],
    ]
)
_WHITE = _TO_XYZ.sum(1)


def decode_srgb(encoded: NDArray[Any]) -> NDArray[Any]:
    """sRGB-encoded values to linear light (IEC 61966-2-1, exact piecewise form, odd about 0)."""
    a = np.abs(encoded)
    out: NDArray[Any] = np.sign(encoded) * np.where(a <= 0.04045, a / 12.92, ((a + 0.055) / 1.055) ** 2.4)
    return out


def encode_srgb(linear: NDArray[Any]) -> NDArray[Any]:
    """Linear light to sRGB-encoded values (IEC 61966-2-1, exact piecewise form, odd about 0)."""
    a = np.abs(linear)
    out: NDArray[Any] = np.sign(linear) * np.where(
        a <= 0.0031308, a * 12.92, 1.055 * np.maximum(a, 1e-12) ** (1 / 2.4) - 0.055
    )
    return out


@cache
def decode_table(levels: int) -> Floats:
    """Linear light for every code of an sRGB-encoded integer image of ``levels`` codes (256 or 65536)."""
    return decode_srgb(np.arange(levels) / (levels - 1.0)).astype(np.float32)


@kernel
def _encode(src, out, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for i in range(src.shape[1]):
            v = src[y, i]
            a = abs(v)
            if a <= np.float32(0.0031308):
                r = a * np.float32(12.92)
            else:
                r = np.float32(1.055) * a ** np.float32(1.0 / 2.4) - np.float32(0.055)
            out[y, i] = r if v >= 0 else -r


def encode(linear: Floats, task: Task = IDLE) -> Floats:
    """`encode_srgb` for whole images, any shape with rows first, float32."""
    flat = np.ascontiguousarray(linear).reshape(linear.shape[0], -1)
    out = np.empty_like(flat)
    over_rows(flat.shape[0], lambda a, b: _encode(flat, out, a, b), task)
    return out.reshape(linear.shape)


@kernel
def _weigh(src, weights, out, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(src.shape[1]):
            out[y, x] = src[y, x, 0] * weights[0] + src[y, x, 1] * weights[1] + src[y, x, 2] * weights[2]


def channel_mix(colour: Floats, weights: Floats, task: Task = IDLE) -> Floats:
    """Weighted sum of three channels, shape (H, W)."""
    out = np.empty(colour.shape[:2], np.float32)
    w = np.asarray(weights, np.float32)
    over_rows(out.shape[0], lambda a, b: _weigh(colour, w, out, a, b), task)
    return out


def luminance(colour: Floats, task: Task = IDLE) -> Floats:
    """Relative luminance Y of linear Rec. 709 light, shape (H, W)."""
    return channel_mix(colour, LUMA, task)


def lightness(y: NDArray[Any]) -> NDArray[Any]:
    """CIE L* (0…100) of relative luminance."""
    y = np.asarray(y)
    out: NDArray[Any] = np.where(y > 216 / 24389, 116 * np.cbrt(np.maximum(y, 0)) - 16, y * (24389 / 27))
    return out


def lab(colour: NDArray[Any]) -> Floats:
    """CIE L*a*b* (D65) of linear Rec. 709 light; shape (…, 3) in and out."""
    xyz = (np.asarray(colour, np.float32) @ (_TO_XYZ.T / _WHITE).astype(np.float32)).astype(np.float32)
    f = np.where(xyz > 216 / 24389, np.cbrt(np.maximum(xyz, 1e-9)), (xyz * np.float32(24389 / 27) + 16) / 116)
    out = np.empty_like(f)
    out[..., 0] = 116 * f[..., 1] - 16
    out[..., 1] = 500 * (f[..., 0] - f[..., 1])
    out[..., 2] = 200 * (f[..., 1] - f[..., 2])
    return out
