"""How a step's result meets what was there: by kind, with an amount and a mask.

Colour mixes in linear light, heights in millimetres, normals as slopes or by reorienting, ids are chosen, never mixed.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import IDLE, over_rows
from silent_loom.core.moving.resample import normalise
from silent_loom.core.moving.slopes import normals_of, slopes_of

BAND = 512
"""Rows of normals that are mixed at once."""


def reorient(under: NDArray[Any], over: NDArray[Any]) -> Floats:
    """Lay one normal map over another (reoriented normal mapping, Barré-Brisebois & Hill 2012).

    >>> reorient(np.float32([[0.6, 0, 0.8]]), np.float32([[0, 0, 1]])).astype(float).round(4).tolist()
    [[0.6, 0.0, 0.8]]
    """
    t = under + np.array([0, 0, 1], under.dtype)
    u = over * np.array([-1, -1, 1], over.dtype)
    dot = np.einsum("...i,...i->...", t, u)[..., None]
    return normalise((t * dot / np.maximum(t[..., 2:3], 1e-6) - u).astype(np.float32))


def _numbers(before: Floats, result: Floats, mode: str) -> Floats:
    if mode == "multiply":
        return before * result
    if mode == "add":
        return before + result
    if mode == "subtract":
        return before - result
    if mode == "lighter":
        return np.maximum(before, result)
    if mode == "darker":
        return np.minimum(before, result)
    if mode == "screen":
        return 1 - (1 - before) * (1 - result)
    if mode == "overlay":
        return np.where(before < 0.5, 2 * before * result, 1 - 2 * (1 - before) * (1 - result))
    return result


def mix(before: Image, result: Image, mode: str, amount: float, mask: Floats | None) -> Image:
    """The mix of two values of a thread.

    >>> a, b = (Image(np.full((1, 1, 1), v, np.float32), Kind.DATA) for v in (0.2, 0.6))
    >>> [round(float(mix(a, b, how, 0.5, None).pixels[0, 0, 0]), 4) for how in ("replace", "add")]
    [0.4, 0.5]

    Parameters
    ----------
    before, result : Image
        Same kind and size.
    mode : str
        'replace', 'multiply', 'add', 'subtract', 'lighter', 'darker', 'screen', 'overlay' or 'combine'. 'combine'
        reorients normals and adds numbers; the arithmetic modes act on the slopes of normals; ids are always chosen;
        directions and packed channels only ever go over from one to the other.
    amount : float
        0…1, multiplied by the mask.
    mask : float32 array, shape (H, W, 1), or None
        0…1: see `masks.weight`.
    """
    if mode == "replace" and mask is None and amount >= 1:
        return result
    b, r = before.pixels, result.pixels
    out = np.empty_like(r)

    def rows(y0: int, y1: int) -> None:  # in bands: what comes in between would be several times the images
        weight: Any = np.float32(amount)
        if mask is not None:
            weight = mask[y0:y1] * weight
        out[y0:y1] = _mixed(result.kind, b[y0:y1], r[y0:y1], mode, weight)

    if result.kind is Kind.NORMAL:  # slopes use every core by themselves
        for y in range(0, result.height, BAND):
            rows(y, min(y + BAND, result.height))
    else:
        over_rows(result.height, rows, IDLE, cost=result.width * 1e-3)
    return result.with_pixels(out)


def _mixed(kind: Kind, b: Floats, r: Floats, mode: str, weight: Any) -> Floats:
    if kind is Kind.ID:
        return np.where(weight >= 0.5, r, b)
    if kind is Kind.NORMAL:
        b, r = np.ascontiguousarray(b), np.ascontiguousarray(r)
        if mode == "combine":
            full = slopes_of(reorient(b, r), IDLE)
        elif mode in ("add", "subtract", "multiply", "lighter", "darker"):
            full = _numbers(slopes_of(b, IDLE), slopes_of(r, IDLE), mode)
        else:
            full = slopes_of(r, IDLE)
        start = slopes_of(b, IDLE)
        return normals_of(np.ascontiguousarray(start + weight * (full - start), np.float32), IDLE)
    if kind in (Kind.VECTOR, Kind.CHANNELS):
        mode = "replace"
    target = _numbers(b, r, "add" if mode == "combine" else mode)
    return b + weight * (target - b)
