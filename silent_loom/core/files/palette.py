"""Palette PNG: few colours, each texel an index."""

from __future__ import annotations

import struct
import zlib
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.files.png import SIGNATURE, chunk

SAMPLES = 1 << 16
"""Texels by which colours are chosen."""


def chosen(codes: NDArray[Any], colours: int) -> tuple[NDArray[np.uint8], NDArray[np.uint8]]:
    """Colours that stand for all, and which of them each texel gets.

    Parameters
    ----------
    codes : uint8 array, shape (H, W, C)
    colours : int
        At most so many, 2…256.

    Returns
    -------
    palette : uint8 array, shape (N, C)
        Exactly the colours that are there, where there are no more than ``colours``.
    index : uint8 array, shape (H, W)

    Notes
    -----
    Means of clusters after Lloyd 1982, begun far apart (Arthur & Vassilvitskii, k-means++, 2007), of an even sample of texels.

    >>> codes = np.array([[[0, 0, 0], [255, 0, 0]]], np.uint8)
    >>> [a.tolist() for a in chosen(codes, 2)]
    [[[0, 0, 0], [255, 0, 0]], [[0, 1]]]
    """
    h, w, c = codes.shape
    flat = np.ascontiguousarray(codes).reshape(-1, c)
    packed = np.zeros(len(flat), np.uint32)
    for k in range(c):
        packed |= flat[:, k].astype(np.uint32) << np.uint32(8 * k)
    there, which = np.unique(packed, return_inverse=True)
    all_colours = np.stack([(there >> np.uint32(8 * k)).astype(np.uint8) for k in range(c)], 1)
    if len(there) <= colours:
        return all_colours, which.reshape(h, w).astype(np.uint8)
    some = flat[:: max(1, len(flat) // SAMPLES)].astype(np.float32)
    cv2.setRNGSeed(1)  # the same file from the same picture
    ends = (cv2.TERM_CRITERIA_EPS + cv2.TERM_CRITERIA_MAX_ITER, 24, 0.1)
    _, _, centres = cv2.kmeans(some, colours, None, ends, 1, cv2.KMEANS_PP_CENTERS)
    palette = np.rint(centres).clip(0, 255).astype(np.uint8)
    nearest = np.empty(len(there), np.uint8)
    for a in range(0, len(there), 1 << 14):
        far = np.square(all_colours[a : a + (1 << 14), None].astype(np.float32) - palette[None]).sum(2)
        nearest[a : a + (1 << 14)] = far.argmin(1)
    return palette, nearest[which].reshape(h, w)


def palette_bytes(codes: NDArray[Any], colours: int, *, colour: bool) -> bytes:
    """A PNG with a palette, of uint8 codes, shape (H, W, C), C = 1, 3 or 4 (PNG, W3C Recommendation, colour type 3).

    Grey is never thinned out: it has 256 codes at most.

    >>> palette_bytes(np.zeros((2, 2, 3), np.uint8), 4, colour=True)[1:4]
    b'PNG'
    """
    palette, index = chosen(codes, 256 if codes.shape[2] == 1 else max(2, min(256, colours)))
    h, w = index.shape
    rgb = np.repeat(palette, 3, 1) if palette.shape[1] == 1 else palette[:, :3]
    lines = np.zeros((h, w + 1), np.uint8)  # rows as they are: indices of neighbours have no likeness
    lines[:, 1:] = index
    parts = [SIGNATURE, chunk(b"IHDR", struct.pack(">IIBBBBB", w, h, 8, 3, 0, 0, 0))]
    if colour:
        parts.append(chunk(b"sRGB", b"\0"))
    parts.append(chunk(b"PLTE", rgb.tobytes()))
    if palette.shape[1] == 4:
        parts.append(chunk(b"tRNS", palette[:, 3].tobytes()))
    parts += [chunk(b"IDAT", zlib.compress(lines.tobytes(), 9)), chunk(b"IEND", b"")]
    return b"".join(parts)
