"""Codes of files as light, and light as codes."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.colour import encode_near
from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import inlined, kernel, subkernel
from silent_loom.core.base.parallel import IDLE, Task, over_rows
from silent_loom.core.files.formats import Depth


@kernel("u1[:,:,::1], f4[:,::1], f4[:,:,::1], i8, i8", "u2[:,:,::1], f4[:,::1], f4[:,:,::1], i8, i8")
def _look_up(src, table, out, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(src.shape[1]):
            for k in range(3):
                out[y, x, k] = table[k, src[y, x, k]]


@kernel("u1[:,:,::1], f4[:,::1], f4[:,:,::1], i8, i8", "u2[:,:,::1], f4[:,::1], f4[:,:,::1], i8, i8")
def _look_up_half(src, table, out, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(out.shape[1]):
            for k in range(3):
                top = table[k, src[2 * y, 2 * x, k]] + table[k, src[2 * y, 2 * x + 1, k]]
                low = table[k, src[2 * y + 1, 2 * x, k]] + table[k, src[2 * y + 1, 2 * x + 1, k]]
                out[y, x, k] = np.float32(0.25) * (top + low)


def light_of(samples: NDArray[Any], table: Floats) -> Floats:
    """Light of codes, shape (H, W, 3) of both; ``table`` holds that of every code of every channel.

    >>> table = np.array([[[0.0, 0.5]] * 3], np.float32)[0]
    >>> light_of(np.array([[[0, 1, 1]]], np.uint8), table).tolist()
    [[[0.0, 0.5, 0.5]]]
    """
    out = np.empty(samples.shape, np.float32)
    samples = np.require(samples, requirements=["C", "W"])  # kernels are compiled for arrays that may be written to
    over_rows(len(samples), lambda a, b: _look_up(samples, table, out, a, b))
    return out


def half_light_of(samples: NDArray[Any], table: Floats) -> Floats:
    """`light_of` averaged to half the size; both sides must be even.

    >>> table = np.array([[0.0, 0.5]] * 3, np.float32)
    >>> half_light_of(np.array([[[0, 1, 1]] * 2, [[1, 1, 1]] * 2], np.uint8), table).tolist()
    [[[0.25, 0.5, 0.5]]]
    """
    h, w, _ = samples.shape
    out = np.empty((h // 2, w // 2, 3), np.float32)
    samples = np.require(samples, requirements=["C", "W"])
    over_rows(h // 2, lambda a, b: _look_up_half(samples, table, out, a, b), cost=w * 1e-3)
    return out


@subkernel
def _held(row, out):  # type: ignore[no-untyped-def]
    # Samples held to 0…1, what is not a number too, and how many of them had to be
    low, high = 0, 0
    for i in range(row.shape[0]):
        v = row[i]
        low += 0 if v > np.float32(-1e-4) else 1
        high += 1 if v > np.float32(1.0001) else 0
        v = v if v >= 0 else np.float32(0)
        out[i] = v if v <= 1 else np.float32(1)
    return low + high


@subkernel
def _colours(line, channels):  # type: ignore[no-untyped-def]
    if channels % 2 == 1:
        for i in range(line.shape[0]):
            line[i] = encode_near(line[i])
        return
    for i in range(0, line.shape[0], channels):  # the last is alpha
        for k in range(channels - 1):
            line[i + k] = encode_near(line[i + k])


@inlined
def _noise(x, y, k):  # type: ignore[no-untyped-def]
    # Even, −0.5…0.5, the same for a texel every time
    h = np.uint32(x) * np.uint32(0x9E3779B1) ^ np.uint32(y) * np.uint32(0x85EBCA77) ^ np.uint32(k * 7919 + 1)
    h = (h ^ (h >> np.uint32(15))) * np.uint32(0x2C1B3C6D)
    h = (h ^ (h >> np.uint32(12))) * np.uint32(0x297A2D39)
    h = h ^ (h >> np.uint32(15))
    return np.float32(h & np.uint32(0xFFFFFF)) * np.float32(1.0 / 16777216.0) - np.float32(0.5)


@subkernel
def _add_noise(line, channels, y, noise):  # type: ignore[no-untyped-def]
    n = line.shape[0] // channels
    for k in range(channels):
        for x in range(n):
            noise[x] = _noise(x, y, k)
        for x in range(n):
            line[x * channels + k] += noise[x]


@subkernel
def _round(line, top, out):  # type: ignore[no-untyped-def]
    for i in range(line.shape[0]):
        q = np.floor(line[i] + np.float32(0.5))
        q = q if q > 0 else np.float32(0)
        out[i] = np.int32(q if q < top else top)


@kernel("f4[:,::1], i8, u1[:,::1], f4, b1, b1, i8[::1], i8, i8", "f4[:,::1], i8, u2[:,::1], f4, b1, b1, i8[::1], i8, i8")
def _quantise(src, channels, out, top, colour, dither, counts, y0, y1):  # type: ignore[no-untyped-def]
    # Row by row, in plain loops over it that the compiler turns into vector code
    line, noise = np.empty(src.shape[1], np.float32), np.empty(src.shape[1] // channels, np.float32)
    for y in range(y0, y1):
        counts[y] = _held(src[y], line)
        if colour:
            _colours(line, channels)
        for i in range(line.shape[0]):
            line[i] *= top
        if dither:
            _add_noise(line, channels, y, noise)
        _round(line, top, out[y])


def quantise(samples: Floats, depth: Depth, *, colour: bool, dither: bool = False, task: Task = IDLE) -> tuple[NDArray[Any], int]:
    """Integers for a file.

    Parameters
    ----------
    samples : float32 array, shape (H, W, C)
        0…1; linear light when ``colour``, but for alpha, the last of two or four.
    depth : '8' or '16'
    colour : bool
        Encode as sRGB; alpha never.
    dither : bool
        Add one step of even noise, fixed for each texel, before rounding: the mean of a smooth area is kept.

    Returns
    -------
    codes : uint8 or uint16 array
    clipped : int
        Samples that lay outside 0…1 by more than 1e-4.

    >>> codes, beyond = quantise(np.array([[[0.0], [0.5], [1.2]]], np.float32), "8", colour=False)
    >>> codes.ravel().tolist(), beyond
    ([0, 128, 255], 1)
    """
    top = 255 if depth == "8" else 65535
    out = np.empty(samples.shape, np.uint8 if depth == "8" else np.uint16)
    counts = np.zeros(samples.shape[0], np.int64)
    rows, codes = np.ascontiguousarray(samples).reshape(len(samples), -1), out.reshape(len(samples), -1)
    channels, most = samples.shape[2], np.float32(top)
    over_rows(len(rows), lambda a, b: _quantise(rows, channels, codes, most, colour, dither, counts, a, b), task)
    return out, int(counts.sum())
