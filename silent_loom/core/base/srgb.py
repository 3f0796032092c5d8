"""The exact sRGB transfer, for arrays."""

from __future__ import annotations

from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats


def decode_srgb(encoded: NDArray[Any]) -> NDArray[Any]:
    """sRGB-encoded values to linear light (IEC 61966-2-1, exact piecewise form, odd about 0).

    >>> decode_srgb(np.array([0.0, 0.5, 1.0])).astype(float).round(6).tolist()
    [0.0, 0.214041, 1.0]
    """
    a = np.abs(encoded)
    out: NDArray[Any] = np.sign(encoded) * np.where(a <= 0.04045, a / 12.92, ((a + 0.055) / 1.055) ** 2.4)
    return out


def encode_srgb(linear: NDArray[Any]) -> NDArray[Any]:
    """Linear light to sRGB-encoded values (IEC 61966-2-1, exact piecewise form, odd about 0).

    >>> encode_srgb(np.array([0.0, 0.214041, 1.0])).astype(float).round(6).tolist()
    [0.0, 0.5, 1.0]
    """
    a = np.abs(linear)
    out: NDArray[Any] = np.sign(linear) * np.where(a <= 0.0031308, a * 12.92, 1.055 * np.maximum(a, 1e-12) ** (1 / 2.4) - 0.055)
    return out


@cache
def decode_table(levels: int) -> Floats:
    """Linear light for every code of an sRGB-encoded integer image of ``levels`` codes (256 or 65536).

    >>> decode_table(256)[[0, 128, 255]].astype(float).round(6).tolist()
    [0.0, 0.215861, 1.0]
    """
    return decode_srgb(np.arange(levels) / (levels - 1.0)).astype(np.float32)
