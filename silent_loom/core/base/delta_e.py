"""How different two colours look."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

_25_7 = 25.0**7


def delta_e00(one: NDArray[Any], other: NDArray[Any]) -> NDArray[np.float64]:
    """CIEDE2000 colour difference of CIE L*a*b* colours.

    Parameters
    ----------
    one, other : array, shape (…, 3)
        L* 0…100, a* and b* about −128…128.

    Returns
    -------
    float64 array, shape (…)
        0 for equal colours; about 1 is the least difference that a trained eye sees side by side, above 5 anybody sees it.

    Notes
    -----
    Sharma, Wu & Dalal, The CIEDE2000 color-difference formula: implementation notes, supplementary test data and mathematical
    observations, Color Research and Application 30, 2005.

    >>> delta_e00(np.array([50, 2.6772, -79.7751]), np.array([50, 0, -82.7485])).round(4).tolist()
    2.0425
    """
    l1, a1, b1 = np.moveaxis(np.asarray(one, np.float64), -1, 0)
    l2, a2, b2 = np.moveaxis(np.asarray(other, np.float64), -1, 0)
    mean7 = (0.5 * (np.hypot(a1, b1) + np.hypot(a2, b2))) ** 7
    stretch = 1.5 - 0.5 * np.sqrt(mean7 / (mean7 + _25_7))
    a1, a2 = a1 * stretch, a2 * stretch
    c1, c2 = np.hypot(a1, b1), np.hypot(a2, b2)
    h1, h2 = np.degrees(np.arctan2(b1, a1)) % 360, np.degrees(np.arctan2(b2, a2)) % 360
    grey = c1 * c2 == 0  # a grey has no hue

    turn = np.where(grey, 0.0, (h2 - h1 + 180) % 360 - 180)
    turn = np.where(~grey & (h2 - h1 == 180), 180.0, turn)  # exactly opposite: the sign is the formula's
    d_l, d_c = l2 - l1, c2 - c1
    d_h = 2 * np.sqrt(c1 * c2) * np.sin(np.radians(turn) / 2)

    l_mean, c_mean = 0.5 * (l1 + l2), 0.5 * (c1 + c2)
    far = np.abs(h1 - h2) > 180
    h_sum = h1 + h2
    h_mean = np.where(far, np.where(h_sum < 360, (h_sum + 360) / 2, (h_sum - 360) / 2), h_sum / 2)
    h_mean = np.where(grey, h_sum, h_mean)
    angle = np.radians(h_mean)
    t = (
        1
        - 0.17 * np.cos(angle - np.radians(30))
        + 0.24 * np.cos(2 * angle)
        + 0.32 * np.cos(3 * angle + np.radians(6))
        - 0.20 * np.cos(4 * angle - np.radians(63))
    )
    s_l = 1 + 0.015 * (l_mean - 50) ** 2 / np.sqrt(20 + (l_mean - 50) ** 2)
    s_c, s_h = 1 + 0.045 * c_mean, 1 + 0.015 * c_mean * t
    c7 = c_mean**7
    rotation = -2 * np.sqrt(c7 / (c7 + _25_7)) * np.sin(np.radians(60 * np.exp(-(((h_mean - 275) / 25) ** 2))))
    l_part, c_part, h_part = d_l / s_l, d_c / s_c, d_h / s_h
    squared = l_part**2 + c_part**2 + h_part**2 + rotation * c_part * h_part
    found: NDArray[np.float64] = np.sqrt(np.maximum(0.0, squared))
    return found
