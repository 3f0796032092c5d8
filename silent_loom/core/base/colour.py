"""Colour: luminance, CIE L*a*b*, and the sRGB transfer inside kernels, all on linear Rec. 709 light."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import inlined, kernel, subkernel
from silent_loom.core.base.parallel import IDLE, Task, over_rows
from silent_loom.core.base.srgb import decode_srgb

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


NEAR = 1.5
"""Size of linear light up to which `encode_near` holds."""
_LEAST, _MOST = 0.0031308**0.25, NEAR**0.25
_MIDDLE, _SPREAD = np.float32((_MOST + _LEAST) / 2), np.float32(2 / (_MOST - _LEAST))


def _fitted() -> tuple[np.float32, ...]:
    nodes = np.cos(np.linspace(0, np.pi, 4001)) * (_MOST - _LEAST) / 2 + (_MOST + _LEAST) / 2
    fit = np.polynomial.Chebyshev.fit(nodes, 1.055 * nodes ** (5 / 3) - 0.055, 10, domain=[_LEAST, _MOST])
    return tuple(np.polynomial.chebyshev.cheb2poly(fit.coef).astype(np.float32))


_C0, _C1, _C2, _C3, _C4, _C5, _C6, _C7, _C8, _C9, _C10 = _fitted()


@inlined
def encode_near(v):  # type: ignore[no-untyped-def]
    """sRGB-encode one value of at most `NEAR` in size inside a kernel.

    The power is a polynomial of the fourth root (Chebyshev fit), off by less than three float32 steps. No table, no call and
    no branch, so that plain loops over rows become vector code.
    """
    a = abs(v)
    z = (np.sqrt(np.sqrt(a)) - _MIDDLE) * _SPREAD
    low = _C0 + z * (_C1 + z * (_C2 + z * (_C3 + z * (_C4 + z * _C5))))
    z2 = z * z
    r = low + z2 * z2 * z2 * (_C6 + z * (_C7 + z * (_C8 + z * (_C9 + z * _C10))))
    r = r if a > np.float32(0.0031308) else a * np.float32(12.92)
    return r if v >= 0 else -r


@inlined
def encode_one(v):  # type: ignore[no-untyped-def]
    """sRGB-encode any value inside a kernel."""
    if abs(v) <= np.float32(NEAR):
        return encode_near(v)
    r = np.float32(1.055) * abs(v) ** np.float32(1.0 / 2.4) - np.float32(0.055)
    return r if v >= 0 else -r


_STEPS = 8192
_TOP = 1.25
"""The tables reach to a linear (square root) and an encoded value of this; beyond it the power itself is computed."""
_DECODED = decode_srgb(np.arange(_STEPS + 2) * (_TOP / _STEPS)).astype(np.float32)


@inlined
def decode_one(v):  # type: ignore[no-untyped-def]
    """Linear light of one sRGB-encoded value inside a kernel; a table, off by less than 3e-7."""
    a = abs(v)
    t = a * np.float32(_STEPS / _TOP)
    if t < np.float32(_STEPS):
        i = int(t)
        r = _DECODED[i] + (t - np.float32(i)) * (_DECODED[i + 1] - _DECODED[i])
    else:
        r = ((a + np.float32(0.055)) / np.float32(1.055)) ** np.float32(2.4)
    return r if v >= 0 else -r


@subkernel
def _encode_row(row, out):  # type: ignore[no-untyped-def]
    far = np.float32(0)
    for i in range(row.shape[0]):
        a = abs(row[i])
        far = a if a > far else far
    if far <= np.float32(NEAR):
        for i in range(row.shape[0]):
            out[i] = encode_near(row[i])
    else:
        for i in range(row.shape[0]):
            out[i] = encode_one(row[i])


@kernel("f4[:,::1], f4[:,::1], i8, i8")
def _encode(src, out, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        _encode_row(src[y], out[y])


def encode(linear: Floats, task: Task = IDLE) -> Floats:
    """`encode_srgb` for whole images, any shape with rows first, float32.

    >>> encode(np.float32([[0.0, 0.214041, 1.0]])).astype(float).round(4).tolist()
    [[0.0, 0.5, 1.0]]
    """
    flat = np.ascontiguousarray(linear).reshape(linear.shape[0], -1)
    out = np.empty_like(flat)
    over_rows(flat.shape[0], lambda a, b: _encode(flat, out, a, b), task)
    return out.reshape(linear.shape)


@kernel("f4[:,:,::1], f4[::1], f4[:,::1], i8, i8", "f4[:,:,:], f4[::1], f4[:,::1], i8, i8")
def _weigh(src, weights, out, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(src.shape[1]):
            out[y, x] = src[y, x, 0] * weights[0] + src[y, x, 1] * weights[1] + src[y, x, 2] * weights[2]


def channel_mix(colour: Floats, weights: Floats, task: Task = IDLE) -> Floats:
    """Weighted sum of three channels, shape (H, W).

    >>> channel_mix(np.float32([[[0.2, 0.4, 0.6]]]), np.float32([0.5, 0.25, 0.25])).astype(float).round(4).tolist()
    [[0.35]]
    """
    out = np.empty((colour.shape[0], colour.shape[1]), np.float32)
    w = np.asarray(weights, np.float32)
    over_rows(out.shape[0], lambda a, b: _weigh(colour, w, out, a, b), task)
    return out


def luminance(colour: Floats, task: Task = IDLE) -> Floats:
    """Relative luminance Y of linear Rec. 709 light, shape (H, W).

    >>> luminance(np.float32([[[1, 0, 0], [0, 1, 0]]])).astype(float).round(4).tolist()
    [[0.2126, 0.7152]]
    """
    return channel_mix(colour, LUMA, task)


def lightness(y: NDArray[Any]) -> NDArray[Any]:
    """CIE L* (0…100) of relative luminance.

    >>> lightness(np.array([0.0, 0.184187, 1.0])).astype(float).round(3).tolist()
    [0.0, 50.0, 100.0]
    """
    y = np.asarray(y)
    out: NDArray[Any] = np.where(y > 216 / 24389, 116 * np.cbrt(np.maximum(y, 0)) - 16, y * (24389 / 27))
    return out


_ROOT = np.cbrt((np.arange(_STEPS + 2) * (_TOP / _STEPS)) ** 2).astype(np.float32)
_LAB = np.ascontiguousarray(_TO_XYZ / _WHITE[:, None], np.float32)


@inlined
def _lab_of(src, y, x, m, f):  # type: ignore[no-untyped-def]
    for k in range(3):
        v = m[k, 0] * src[y, x, 0] + m[k, 1] * src[y, x, 1] + m[k, 2] * src[y, x, 2]
        if v > np.float32(216 / 24389):
            t = np.sqrt(v) * np.float32(_STEPS / _TOP)
            if t < np.float32(_STEPS):
                i = int(t)
                f[k] = _ROOT[i] + (t - np.float32(i)) * (_ROOT[i + 1] - _ROOT[i])
            else:
                f[k] = np.cbrt(v)
        else:
            f[k] = (v * np.float32(24389 / 27) + np.float32(16)) / np.float32(116)
    return np.float32(116) * f[1] - np.float32(16), np.float32(500) * (f[0] - f[1]), np.float32(200) * (f[1] - f[2])


@kernel("f4[:,:,::1], f4[:,::1], f4[:,:,::1], i8, i8")
def _lab(src, m, out, y0, y1):  # type: ignore[no-untyped-def]
    f = np.empty(3, np.float32)
    for y in range(y0, y1):
        for x in range(src.shape[1]):
            out[y, x, 0], out[y, x, 1], out[y, x, 2] = _lab_of(src, y, x, m, f)


@kernel("f4[:,:,::1], f4[:,::1], f4[::1], f4[::1], f4[:,::1], i8, i8")
def _lab_distance(src, m, key, weights, out, y0, y1):  # type: ignore[no-untyped-def]
    f = np.empty(3, np.float32)
    for y in range(y0, y1):
        for x in range(src.shape[1]):
            tone, red, yellow = _lab_of(src, y, x, m, f)
            tone, red, yellow = (tone - key[0]) * weights[0], (red - key[1]) * weights[1], (yellow - key[2]) * weights[2]
            out[y, x] = np.sqrt(tone * tone + red * red + yellow * yellow)


def lab(colour: NDArray[Any], task: Task = IDLE) -> Floats:
    """CIE L*a*b* (D65) of linear Rec. 709 light; shape (…, 3) in and out.

    >>> lab(np.float32([[[1.0, 1.0, 1.0], [0.18, 0.18, 0.18]]])).astype(float).round(2).tolist()
    [[[100.0, 0.0, 0.0], [49.5, 0.0, 0.0]]]
    """
    given = np.ascontiguousarray(colour, dtype=np.float32)
    src = given if given.ndim == 3 else given.reshape(1, -1, 3)
    out = np.empty_like(src)
    over_rows(src.shape[0], lambda a, b: _lab(src, _LAB, out, a, b), task)
    return out.reshape(given.shape)


def light_of_lab(colours: NDArray[Any]) -> NDArray[np.float64]:
    """Linear Rec. 709 light of CIE L*a*b* (D65), shape (…, 3) in and out; not held to 0…1. The inverse of `lab`.

    >>> light_of_lab(np.array([[100.0, 0.0, 0.0], [49.5, 0.0, 0.0]])).round(3).tolist()
    [[1.0, 1.0, 1.0], [0.18, 0.18, 0.18]]
    """
    tone, red, yellow = np.moveaxis(np.asarray(colours, np.float64), -1, 0)
    y = (tone + 16) / 116
    t = np.stack([y + red / 500, y, y - yellow / 200], -1)
    xyz = np.where(t > 6 / 29, t**3, (116 * t - 16) * (27 / 24389)) * _WHITE
    light: NDArray[np.float64] = xyz @ np.linalg.inv(_TO_XYZ).T
    return light


def lab_distance(colour: Floats, key: NDArray[Any], weights: NDArray[Any], task: Task = IDLE) -> Floats:
    """How far every texel of linear light, shape (H, W, 3), lies from one CIE L*a*b* colour, each axis weighted; (H, W).

    >>> lab_distance(np.zeros((1, 1, 3), np.float32), np.array([1.0, 1, 1]), np.array([1.0, 1, 1])).round(3).tolist()
    [[1.7319999933242798]]
    """
    out = np.empty((colour.shape[0], colour.shape[1]), np.float32)
    key, weights = np.asarray(key, np.float32), np.asarray(weights, np.float32)
    over_rows(out.shape[0], lambda a, b: _lab_distance(colour, _LAB, key, weights, out, a, b), task)
    return out
