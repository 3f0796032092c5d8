"""Chance that is the same on any machine: numbers out of whole numbers, by integer arithmetic alone."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats


def bits(x: NDArray[Any], y: NDArray[Any] | int, kind: int) -> NDArray[np.uint32]:
    """Thirty-two bits for every place, out of a kind (finaliser of MurmurHash3, Appleby 2011).

    >>> int(bits(np.array([3]), 4, 1)[0])
    2790771151
    """
    h = np.asarray(x, np.uint32) * np.uint32(0x9E3779B1) ^ np.asarray(y, np.uint32) * np.uint32(0x85EBCA77)
    h = h ^ np.uint32((kind * 0xC2B2AE3D) & 0xFFFFFFFF)
    h = (h ^ (h >> np.uint32(16))) * np.uint32(0x85EBCA6B)
    h = (h ^ (h >> np.uint32(13))) * np.uint32(0xC2B2AE35)
    return np.asarray(h ^ (h >> np.uint32(16)), np.uint32)


def parts(x: NDArray[Any], y: NDArray[Any] | int, kind: int) -> Floats:
    """A number in 0…1, one left out, for every place.

    >>> parts(np.arange(3), np.arange(3), 7).astype(float).round(3).tolist()
    [0.112, 0.519, 0.161]
    """
    return np.asarray((bits(x, y, kind) & np.uint32(0xFFFFFF)) / np.float32(16777216), np.float32)


def grid(nx: int, ny: int, kind: int) -> Floats:
    """A number in 0…1, one left out, for every field of a grid, shape (ny, nx).

    >>> grid(2, 2, 0).shape
    (2, 2)
    """
    return parts(np.arange(nx, dtype=np.uint32)[None], np.arange(ny, dtype=np.uint32)[:, None], kind)


def numbers(count: int, kind: int) -> Floats:
    """So many numbers in 0…1, one left out.

    >>> numbers(3, 7).astype(float).round(3).tolist()
    [0.112, 0.289, 0.256]
    """
    return grid(count, 1, kind)[0]


def of(seed: int, what: int) -> int:
    """A kind of chance of its own for each thing that a seed decides.

    >>> of(1, 2) == of(1, 2), of(1, 2) == of(2, 2)
    (True, False)
    """
    return seed * 1031 + what * 7919
