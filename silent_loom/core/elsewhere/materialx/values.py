"""Values of MaterialX: numbers over a sheet, or one for all of it."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.errors import FileError
from silent_loom.core.elsewhere.materialx.spaces import linear

Value = NDArray[np.float64]
"""Shape (C,), one value for all of the sheet, or (H, W, C)."""
WIDTHS = {
    "float": 1,
    "integer": 1,
    "boolean": 1,
    "color3": 3,
    "color4": 4,
    "vector2": 2,
    "vector3": 3,
    "vector4": 4,
    "matrix33": 9,
    "matrix44": 16,
}


def parsed(text: str, kind: str, space: str, where: str) -> Value:
    """A value as a document writes it; colours in linear Rec. 709 light.

    Raises
    ------
    FileError

    >>> parsed("0.25, 0.5, 1", "color3", "lin_rec709", "colour").tolist()
    [0.25, 0.5, 1.0]
    """
    if kind == "boolean":
        return np.array([1.0 if text.strip().lower() == "true" else 0.0])
    try:
        numbers = np.array([float(t) for t in text.replace(",", " ").split()], np.float64)
    except ValueError:
        raise FileError(f"'{text[:40]}' is no {kind}", where, "Correct the document.") from None
    width = WIDTHS.get(kind)
    if width is None or len(numbers) != width:
        raise FileError(f"'{text[:40]}' is no {kind}", where, "Correct the document.")
    return linear(numbers, space) if kind.startswith("color") else numbers


def together(*values: Value) -> list[Value]:
    """Values of one shape, whichever of them cover the sheet; numbers widen to the channels of others.

    >>> [v.tolist() for v in together(np.array([0.5]), np.array([1.0, 2.0]))]
    [[0.5, 0.5], [1.0, 2.0]]
    """
    most = max(v.shape[-1] for v in values)
    wide = [np.repeat(v, most, axis=-1) if v.shape[-1] == 1 and most > 1 else v for v in values]
    if any(v.ndim == 3 for v in wide):
        wide = [v if v.ndim == 3 else v.reshape(1, 1, -1) for v in wide]
    return wide


def luminance(value: Value) -> Value:
    """One channel by the weights of Rec. 709.

    >>> luminance(np.array([[[0.0, 1.0, 0.0]]])).round(4).tolist()
    [[[0.7152]]]
    """
    return (value[..., :3] @ np.array([0.2126, 0.7152, 0.0722]))[..., None]


def at(value: Any, k: int) -> Value:
    """One channel.

    >>> at(np.array([0.1, 0.2, 0.3]), 1).tolist()
    [0.2]
    """
    return np.asarray(value)[..., k : k + 1]
