"""What four neighbours count at a place between the middle two: the cubic of Catmull and Rom."""

from __future__ import annotations

from typing import Any

import numpy as np

from silent_loom.core.base.kernels import inlined


def cubic_of(t: Any) -> tuple[Any, Any, Any, Any]:
    """Weights of four neighbours at a part ``t`` between the middle two, in the precision of ``t``.

    References
    ----------
    Keys, Cubic convolution interpolation for digital image processing, IEEE ASSP 29, 1981 (a = −1/2).

    Examples
    --------
    >>> [float(w) for w in cubic_of(0.5)]
    [-0.0625, 0.5625, 0.5625, -0.0625]
    """
    # Constants of single precision, which are exact here, leave the precision to the place
    t0 = ((np.float32(-0.5) * t + np.float32(1)) * t - np.float32(0.5)) * t
    t1 = (np.float32(1.5) * t - np.float32(2.5)) * t * t + np.float32(1)
    t2 = ((np.float32(-1.5) * t + np.float32(2)) * t + np.float32(0.5)) * t
    t3 = (np.float32(0.5) * t - np.float32(0.5)) * t * t
    return t0, t1, t2, t3


cubic = inlined(cubic_of)
"""The same, within kernels."""
