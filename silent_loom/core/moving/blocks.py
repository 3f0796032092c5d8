"""A sheet on a coarse grid: means of blocks of its samples, of their logarithms or of their slopes."""

from __future__ import annotations

from enum import IntEnum
from functools import partial

import numpy as np

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import inlined, kernel
from silent_loom.core.base.parallel import Task, over_rows

FLOOR = np.float32(0.01)
"""Light, as a part of white, below which ratios count less and less."""


class Form(IntEnum):
    """What of a sheet's samples is blended."""

    PLAIN = 0
    LOGS = 1
    """Logarithms of light: colour goes over in ratios."""
    SLOPES = 2
    """Of normals, (−x/z, −y/z)."""


@inlined
def log_of(v):  # type: ignore[no-untyped-def]
    # Natural logarithm of a positive number, to 1e-7 (polynomial of Cephes); loops over it become vector code
    bits = np.float32(v).view(np.int32)
    e = np.int32((bits - np.int32(0x3F3504F3)) >> np.int32(23))
    m = np.int32(bits - (e << np.int32(23))).view(np.float32) - np.float32(1)
    p = np.float32(7.0376836292e-2)
    p = p * m - np.float32(1.1514610310e-1)
    p = p * m + np.float32(1.1676998740e-1)
    p = p * m - np.float32(1.2420140846e-1)
    p = p * m + np.float32(1.4249322787e-1)
    p = p * m - np.float32(1.6668057665e-1)
    p = p * m + np.float32(2.0000714765e-1)
    p = p * m - np.float32(2.4999993993e-1)
    p = p * m + np.float32(3.3333331174e-1)
    square = m * m
    k = np.float32(e)
    return m + (square * m * p - np.float32(0.5) * square + k * np.float32(-2.12194440e-4)) + k * np.float32(0.693359375)


@inlined
def exp_of(v):  # type: ignore[no-untyped-def]
    # e to the power of a number, to 2e-7 (polynomial of Cephes)
    v = min(max(v, np.float32(-80)), np.float32(80))
    k = np.floor(v * np.float32(1.44269504088896341) + np.float32(0.5))
    r = v - k * np.float32(0.693359375) + k * np.float32(2.12194440e-4)
    p = np.float32(1.9875691500e-4)
    p = p * r + np.float32(1.3981999507e-3)
    p = p * r + np.float32(8.3334519073e-3)
    p = p * r + np.float32(4.1665795894e-2)
    p = p * r + np.float32(1.6666665459e-1)
    p = p * r + np.float32(5.0000001201e-1)
    p = p * r * r + r + np.float32(1)
    return p * np.int32((np.int32(k) + np.int32(127)) << np.int32(23)).view(np.float32)


@inlined
def lit(v):  # type: ignore[no-untyped-def]
    return max(v, np.float32(-0.9) * FLOOR) + FLOOR


@kernel("f4[:,:,::1], i8, i8, i8, UniTuple(i8, 2), i8, f4[:,:,::1], i8, i8")
def _blocks(src, form, oy, ox, size, f, out, y0, y1):  # type: ignore[no-untyped-def]
    # Means over f × f texels of one end of the overlap, in its form; the last block of a row or column may hold fewer
    h, w = size
    kept, channels = out.shape[2], src.shape[2]
    sums = np.empty(w * kept, np.float32)
    samples = src.reshape(-1)
    for j in range(y0, y1):
        top, low = j * f, min(h, j * f + f)
        sums[:] = 0
        for y in range(top, low):
            first = ((y + oy) * src.shape[1] + ox) * channels
            if form == 1:
                for i in range(w * channels):
                    q = np.uintp(i)
                    sums[q] += log_of(lit(samples[q + np.uintp(first)]))
            elif form == 2:
                for x in range(w):
                    p, q = np.uintp(first + 3 * x), np.uintp(2 * x)
                    z = np.float32(-1) / max(samples[p + np.uintp(2)], np.float32(1e-3))
                    sums[q] += samples[p] * z
                    sums[q + np.uintp(1)] += samples[p + np.uintp(1)] * z
            else:
                for i in range(w * channels):
                    q = np.uintp(i)
                    sums[q] += samples[q + np.uintp(first)]
        for i in range(out.shape[1]):
            left, right = i * f, min(w, i * f + f)
            count = np.float32((low - top) * (right - left))
            for k in range(kept):
                total = np.float32(0)
                for x in range(left, right):
                    total += sums[np.uintp(x * kept + k)]
                out[j, i, k] = total / count


def means_of_blocks(pixels: Floats, form: Form, origin: tuple[int, int], size: tuple[int, int], f: int, task: Task) -> Floats:
    """Means over f × f texels of a part of a sheet.

    Parameters
    ----------
    pixels : array, shape (H, W, C)
        In one piece of memory.
    form : Form
        What the means are of.
    origin, size : (row, column), (rows, columns)
        Of the part.
    f : int

    Returns
    -------
    array, shape (⌈rows / f⌉, ⌈columns / f⌉, C)
        C = 2 for slopes. The last block of a row or column may hold fewer texels.

    >>> from silent_loom.core.base.parallel import IDLE
    >>> pixels = np.arange(16, dtype=np.float32).reshape(4, 4, 1)
    >>> means_of_blocks(pixels, Form.PLAIN, (0, 0), (4, 4), 2, IDLE)[..., 0].tolist()
    [[2.5, 4.5], [10.5, 12.5]]
    """
    rows, columns = -(-size[0] // f), -(-size[1] // f)
    out = np.empty((rows, columns, 2 if form is Form.SLOPES else pixels.shape[2]), np.float32)
    work = partial(_blocks, pixels, int(form), *origin, size, f, out)
    over_rows(rows, work, task, least=4, cost=size[1] * out.shape[2] * f * 3e-4)
    return out
