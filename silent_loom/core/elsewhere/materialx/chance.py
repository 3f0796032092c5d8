"""The noises of the MaterialX standard: the same numbers as its reference, so that a surface looks as it did.

The MaterialX specification names the noises of Open Shading Language; gradient noise after Perlin (2002, 'Improving noise') on a
lattice whose corners are hashed by Jenkins' final mix (2006, 'lookup3'), cells after Worley (1996).
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import product

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.elsewhere.materialx.values import Value

Bits = NDArray[np.uint32]
_SCALES = {2: 0.6616, 3: 0.9820}


def _turn(x: Bits, k: int) -> Bits:
    return np.asarray((x << np.uint32(k)) | (x >> np.uint32(32 - k)), np.uint32)


def _final(a: Bits, b: Bits, c: Bits) -> Bits:
    for first, k in (("c", 14), ("a", 11), ("b", 25), ("c", 16), ("a", 4), ("b", 14), ("c", 24)):
        if first == "c":
            c = (c ^ b) - _turn(b, k)
        elif first == "a":
            a = (a ^ c) - _turn(c, k)
        else:
            b = (b ^ a) - _turn(a, k)
    return c


def _mixed(a: Bits, b: Bits, c: Bits) -> tuple[Bits, Bits, Bits]:
    a = (a - c) ^ _turn(c, 4)
    c = c + b
    b = (b - a) ^ _turn(a, 6)
    a = a + c
    c = (c - b) ^ _turn(b, 8)
    b = b + a
    a = (a - c) ^ _turn(c, 16)
    c = c + b
    b = (b - a) ^ _turn(a, 19)
    a = a + c
    c = (c - b) ^ _turn(b, 4)
    return a, b + a, c


def hashed(*corner: NDArray[np.int64]) -> Bits:
    """32 random bits of a place on a lattice of one to five dimensions.

    >>> hashed(np.array([0, 1])).dtype
    dtype('uint32')
    """
    start = np.uint32((0xDEADBEEF + (len(corner) << 2) + 13) & 0xFFFFFFFF)
    shape = np.broadcast_shapes(*(c.shape for c in corner))
    a, b, c = (np.full(shape, start, np.uint32) for _ in range(3))
    words = [np.asarray(x & 0xFFFFFFFF, np.uint32) for x in corner]
    with np.errstate(over="ignore"):
        a = a + words[0]
        if len(words) > 1:
            b = b + words[1]
        if len(words) > 2:
            c = c + words[2]
        if len(words) > 3:
            a, b, c = _mixed(a, b, c)
            a = a + words[3]
            if len(words) > 4:
                b = b + words[4]
        return _final(a, b, c)


def _gradient(bits: Bits, at: Sequence[NDArray[np.float64]]) -> NDArray[np.float64]:
    if len(at) == 2:
        h = bits & 7
        u, v = np.where(h < 4, at[0], at[1]), 2.0 * np.where(h < 4, at[1], at[0])
    else:
        h = bits & 15
        u = np.where(h < 8, at[0], at[1])
        v = np.where(h < 4, at[1], np.where((h == 12) | (h == 14), at[0], at[2]))
    return np.where(h & 1, -u, u) + np.where(h & 2, -v, v)


def gradient_noise(p: Value, channels: int = 1) -> Value:
    """Gradient noise at places, shape (…, 2 or 3) to (…, channels): about -1…1; up to three channels share one hash.

    >>> gradient_noise(np.array([[[0.0, 0.0], [0.3, 0.6]]]), 1).round(4).tolist()
    [[[0.0], [0.128]]]
    """
    d = p.shape[-1]
    base = np.floor(p)
    f = p - base
    fade = f * f * f * (f * (f * 6 - 15) + 10)
    corner = base.astype(np.int64)
    out = np.zeros((*p.shape[:-1], channels))
    for step in product((0, 1), repeat=d):
        weight = np.ones(p.shape[:-1])
        for k in range(d):
            weight = weight * (fade[..., k] if step[k] else 1 - fade[..., k])
        bits = hashed(*(corner[..., k] + step[k] for k in range(d)))
        at = [f[..., k] - step[k] for k in range(d)]
        for c in range(channels):
            own = bits if channels == 1 else (bits >> np.uint32(8 * c)) & np.uint32(0xFF)
            out[..., c] += weight * _gradient(own, at)
    return out * _SCALES[d]


def noise(p: Value, channels: int) -> Value:
    """As many channels as a type has: two and four are made of one and three, some of them read elsewhere.

    >>> noise(np.array([[[0.3, 0.6]]]), 2).round(4).tolist()
    [[[0.128, -0.2923]]]
    """
    away = np.array([19.0, 193.0, 17.0][: p.shape[-1]])
    if channels == 2:
        return np.concatenate([gradient_noise(p), gradient_noise(p + away)], axis=-1)
    if channels == 4:
        return np.concatenate([gradient_noise(p, 3), gradient_noise(p + away)], axis=-1)
    return gradient_noise(p, channels)


def fractal(p: Value, channels: int, octaves: int, lacunarity: float, diminish: float) -> Value:
    """A sum of octaves.

    >>> fractal(np.array([[[0.3, 0.6]]]), 1, 3, 2.0, 0.5).round(4).tolist()
    [[[-0.0788]]]
    """
    away = np.array([19.0, 193.0, 17.0][: p.shape[-1]])

    def summed(q: Value, n: int) -> Value:
        total, amount = np.zeros((*q.shape[:-1], n)), 1.0
        for _ in range(min(max(octaves, 0), 16)):
            total = total + amount * gradient_noise(q, n)
            amount, q = amount * diminish, q * lacunarity
        return total

    if channels == 2:
        return np.concatenate([summed(p, 1), summed(p + away, 1)], axis=-1)
    if channels == 4:
        return np.concatenate([summed(p, 3), summed(p + away, 1)], axis=-1)
    return summed(p, channels)


def cell_noise(p: Value, channels: int = 1) -> Value:
    """One random number, or three, for every cell of a lattice.

    >>> cell_noise(np.array([[[0.2, 0.3], [0.4, 0.9], [1.5, 0.1]]]), 1).round(4).tolist()
    [[[0.8603], [0.8603], [0.295]]]
    """
    corner = [np.floor(p[..., k]).astype(np.int64) for k in range(p.shape[-1])]
    if channels == 1:
        return (hashed(*corner) / np.float64(0xFFFFFFFF))[..., None]
    rows = [hashed(*corner, np.full(corner[0].shape, k, np.int64)) / np.float64(0xFFFFFFFF) for k in range(3)]
    return np.stack(rows, axis=-1)


def worley(p: Value, channels: int, jitter: float, style: int, metric: int) -> Value:
    """Distances to the nearest points, one in every cell; or, by ``style`` 1, the random number of the nearest point's cell.

    ``metric``: 0 Euclidean, 1 its square, 2 Manhattan, 3 Chebyshev.

    >>> worley(np.array([[[0.5, 0.9]]]), 1, 0.0, 0, 0).round(4).tolist()
    [[[0.4]]]
    """
    d = p.shape[-1]
    corner = np.floor(p)
    inside = p - corner
    best = [np.full(p.shape[:-1], 1e6) for _ in range(3)]
    nearest = np.zeros_like(p)
    for step in product((-1, 0, 1), repeat=d):
        offset = cell_noise(corner + np.array(step, np.float64), 3)[..., :d]
        towards = np.array(step, np.float64) + (offset - 0.5) * jitter + 0.5 - inside
        if metric == 2:
            dist = np.abs(towards).sum(-1)
        elif metric == 3:
            dist = np.abs(towards).max(-1)
        else:
            dist = (towards**2).sum(-1)
        first, second, third = dist < best[0], dist < best[1], dist < best[2]
        best[2] = np.where(second, best[1], np.where(third, dist, best[2]))
        best[1] = np.where(first, best[0], np.where(second, dist, best[1]))
        nearest = np.where(first[..., None], towards, nearest)
        best[0] = np.where(first, dist, best[0])
    if style == 1:
        return cell_noise(nearest + p, 1 if channels == 1 else 3)[..., :channels]
    found = np.stack(best[:channels], axis=-1)
    return np.sqrt(found) if metric == 0 else found
