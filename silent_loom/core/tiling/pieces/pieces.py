"""Samples of a repeat at moved and turned places, a block at a time."""

from __future__ import annotations

import numpy as np

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import inlined, subkernel
from silent_loom.core.moving.cubic import cubic

BLOCK = 32
"""Texels on a side of a block: one list of candidates serves all of them."""


def framed(repeat: Floats, frame: int) -> Floats:
    """A repeat that goes on at all sides, so that a block near its edges is read like any other.

    Rows are as long as keeps those above each other out of the same lines of the cache.

    >>> framed(np.arange(4, dtype=np.float32).reshape(2, 2, 1), 1)[0, :4, 0].tolist()
    [3.0, 2.0, 3.0, 2.0]
    """
    h, w, channels = repeat.shape
    length = w + 2 * frame
    while not 192 <= length * channels * 4 % 4096 <= 3904:
        length += 1
    out = np.empty((h + 2 * frame, length, channels), np.float32)
    rows = np.arange(-frame, h + frame) % h
    out[:, frame : frame + w] = repeat[rows]
    columns = [*range(frame), *range(frame + w, length)]
    out[:, columns] = repeat[:, [(c - frame) % w for c in columns]][rows]
    return out


@inlined
def _column(src, y, x, a, b, c, d, k):  # type: ignore[no-untyped-def]
    one, two, three = np.uintp(1), np.uintp(2), np.uintp(3)
    return a * src[y, x, k] + b * src[y + one, x, k] + c * src[y + two, x, k] + d * src[y + three, x, k]


@inlined
def _tap(src, y, x, a, b, c, d, e, f, g, h, k):  # type: ignore[no-untyped-def]
    # Down first: four neighbours in a row are then weighed alike
    one, two, three = np.uintp(1), np.uintp(2), np.uintp(3)
    first = a * _column(src, y, x, e, f, g, h, k) + b * _column(src, y, x + one, e, f, g, h, k)
    return first + c * _column(src, y, x + two, e, f, g, h, k) + d * _column(src, y, x + three, e, f, g, h, k)


@inlined
def _cubic(src, u, v):  # type: ignore[no-untyped-def]
    # Catmull-Rom sample of up to three channels; numbers by themselves stay in registers. Places lie well inside.
    x, y = int(u), int(v)
    a, b, c, d = cubic(np.float32(u - x))
    e, f, g, h = cubic(np.float32(v - y))
    # Unsigned, so that no index is tested for being negative
    row, column = np.uintp(y - 1), np.uintp(x - 1)
    second, third = np.float32(0), np.float32(0)
    if src.shape[2] > 1:
        second = _tap(src, row, column, a, b, c, d, e, f, g, h, np.uintp(1))
    if src.shape[2] > 2:
        third = _tap(src, row, column, a, b, c, d, e, f, g, h, np.uintp(2))
    return _tap(src, row, column, a, b, c, d, e, f, g, h, np.uintp(0)), second, third


@inlined
def take(src, facts, q, i, j, exact, slopes, nearest):  # type: ignore[no-untyped-def]
    # The sample that candidate q shows at texel (i, j) of a block; facts: cosine, sine, the place in the frame of the
    # block's first texel, what a step to the right and one down add to it, and that place as whole texels
    channels = src.shape[2]
    c, s = facts[q, 0], facts[q, 1]
    near = exact and s == 0.0
    sx, sy, u, v = 0, 0, 0.0, 0.0
    if near:
        sx, sy = int(facts[q, 8]) + i, int(facts[q, 9]) + j
    else:
        u, v = facts[q, 2] + facts[q, 4] * i + facts[q, 5] * j, facts[q, 3] + facts[q, 6] * i + facts[q, 7] * j
        if nearest:
            near = True
            sx, sy = int(u + 0.5), int(v + 0.5)
    if near:
        row, column = np.uintp(sy), np.uintp(sx)
        second = src[row, column, 1] if channels > 1 else np.float32(0)
        third = src[row, column, 2] if channels > 2 else np.float32(0)
        return src[row, column, 0], second, third
    first, second, third = _cubic(src, u, v)
    if slopes:
        # Chain rule: the height is that of the repeat at the turned place; y of a slope points up, places count down
        c32, s32 = np.float32(c), np.float32(s)
        first, second = c32 * first - s32 * second, s32 * first + c32 * second
    return first, second, third


@subkernel
def turned(src, facts, nx, ny, at, across, down, out, y0, x0):  # type: ignore[no-untyped-def]
    # A block that only one candidate shows, turned or between texels. Places and weights of a row come first, as vector code;
    # places are told from the block's first texel, where single precision is exact to a few millionths of a texel.
    flat, channels = src.reshape(-1), src.shape[2]
    length = src.shape[1] * channels
    column, row = int(facts[2]), int(facts[3])
    u, v = np.float32(facts[2] - column), np.float32(facts[3] - row)
    ux, uy, vx, vy = np.float32(facts[4]), np.float32(facts[5]), np.float32(facts[6]), np.float32(facts[7])
    first = (row - 1) * length + (column - 1) * channels
    step = np.uintp(channels)
    for j in range(ny):
        uj, vj = u + uy * np.float32(j), v + vy * np.float32(j)
        for i in range(BLOCK):
            ui, vi = uj + ux * np.float32(i), vj + vx * np.float32(i)
            x, y = np.int32(np.floor(ui)), np.int32(np.floor(vi))
            at[i] = first + y * length + x * channels
            across[0, i], across[1, i], across[2, i], across[3, i] = cubic(ui - np.float32(x))
            down[0, i], down[1, i], down[2, i], down[3, i] = cubic(vi - np.float32(y))
        for k in range(channels):
            for i in range(nx):
                total = np.float32(0)
                for r in range(4):
                    q = np.uintp(at[i] + r * length + k)
                    left = across[0, i] * flat[q] + across[1, i] * flat[q + step]
                    total += down[r, i] * (
                        left + across[2, i] * flat[q + step + step] + across[3, i] * flat[q + step + step + step]
                    )
                out[y0 + j, x0 + i, k] = total


@inlined
def put(out, y, x, first, second, third):  # type: ignore[no-untyped-def]
    out[y, x, 0] = first
    if out.shape[2] > 1:
        out[y, x, 1] = second
    if out.shape[2] > 2:
        out[y, x, 2] = third
