"""Changing the size of a sheet, and wide blurs whose cost does not grow with their width."""

from __future__ import annotations

from typing import Any, cast

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import IDLE, Task, over_rows
from silent_loom.core.moving.cubic import cubic_of

cv2.setNumThreads(0)  # the bands of `parallel` are the only threads
_WORTH_BANDS = 1 << 17
"""Texels below which a filter is done sooner than a second thread takes part."""


_AT_ONCE = 4
"""Channels that OpenCV averages in one call."""


def reduce_area(pixels: Floats, width: int, height: int) -> Floats:
    """Exact area average to a smaller size; shape (H, W) or (H, W, C).

    >>> reduce_area(np.float32([[0, 2, 4, 6]]), 2, 1).tolist()
    [[1.0, 5.0]]
    """
    if pixels.ndim == 3 and pixels.shape[2] > _AT_ONCE:
        parts = [pixels[..., k : k + _AT_ONCE] for k in range(0, pixels.shape[2], _AT_ONCE)]
        return np.concatenate([reduce_area(np.ascontiguousarray(p), width, height) for p in parts], 2)
    rows = pixels.shape[0]
    if rows % height or rows * pixels.shape[1] < _WORTH_BANDS:  # a band would have to begin within a row
        out = cv2.resize(pixels, (width, height), interpolation=cv2.INTER_AREA)
        return cast(Floats, out if out.ndim == pixels.ndim else out.reshape(height, width, *pixels.shape[2:]))
    each = rows // height
    made = np.empty((height, width, *pixels.shape[2:]), np.float32)

    def work(y0: int, y1: int) -> None:
        done = cv2.resize(pixels[y0 * each : y1 * each], (width, y1 - y0), interpolation=cv2.INTER_AREA)
        made[y0:y1] = done.reshape(y1 - y0, *made.shape[1:])

    over_rows(height, work)
    return made


def _taps(n_out: int, n_in: int, wraps: bool) -> tuple[NDArray[np.int32], Floats]:
    return between(n_out, n_in, n_in / n_out, wraps)


def between(n_out: int, n_in: int, step: float, wraps: bool = False) -> tuple[NDArray[np.int32], Floats]:
    """Catmull-Rom sources and weights, shape (n_out, 4), of places ``step`` apart along one axis (Keys 1981, a = −1/2).

    >>> index, weights = between(4, 2, 0.5, wraps=True)
    >>> index[0].tolist(), weights[0].astype(float).round(4).tolist()
    ([0, 1, 0, 1], [-0.0234, 0.2266, 0.8672, -0.0703])
    """
    u = (np.arange(n_out) + 0.5) * step - 0.5
    base = np.floor(u).astype(np.int64)
    t = u - base
    weights = np.stack(cubic_of(t), 1).astype(np.float32)
    index = base[:, None] + np.arange(-1, 3)
    index = index % n_in if wraps else np.clip(index, 0, n_in - 1)
    return index.astype(np.int32), weights


@kernel("f4[:,:,::1], i4[:,::1], f4[:,::1], f4[:,:,::1], i8, i8")
def _columns(src, index, weights, out, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(out.shape[1]):
            a, b, c, d = index[x, 0], index[x, 1], index[x, 2], index[x, 3]
            for k in range(out.shape[2]):
                out[y, x, k] = (
                    src[y, a, k] * weights[x, 0]
                    + src[y, b, k] * weights[x, 1]
                    + src[y, c, k] * weights[x, 2]
                    + src[y, d, k] * weights[x, 3]
                )


@kernel("f4[:,::1], i4[:,::1], f4[:,::1], f4[:,::1], i8, i8")
def _rows(src, index, weights, out, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        a, b, c, d = index[y, 0], index[y, 1], index[y, 2], index[y, 3]
        wa, wb, wc, wd = weights[y, 0], weights[y, 1], weights[y, 2], weights[y, 3]
        for i in range(out.shape[1]):
            out[y, i] = src[a, i] * wa + src[b, i] * wb + src[c, i] * wc + src[d, i] * wd


def enlarge(pixels: Floats, width: int, height: int, wraps: bool, task: Task = IDLE, held: bool = False) -> Floats:
    """Catmull-Rom interpolation to a larger size, texel borders kept in place.

    ``held`` keeps to the range of what comes in: at saturated edges the taps overshoot, which would be cut on delivery.

    >>> enlarge(np.float32([[0, 1, 0, 1]]), 8, 1, True).astype(float).round(4).tolist()
    [[0.1562, 0.1562, 0.8438, 0.8438, 0.1562, 0.1562, 0.8438, 0.8438]]
    """
    src = pixels if pixels.ndim == 3 else pixels[..., None]
    ix, wx = _taps(width, src.shape[1], wraps)
    iy, wy = _taps(height, src.shape[0], wraps)
    mid = np.empty((src.shape[0], width, src.shape[2]), np.float32)
    src = np.ascontiguousarray(src)
    over_rows(mid.shape[0], lambda a, b: _columns(src, ix, wx, mid, a, b), task)
    out = np.empty((height, width, src.shape[2]), np.float32)
    m2, o2 = mid.reshape(mid.shape[0], -1), out.reshape(height, -1)
    low, high = src.min((0, 1)), src.max((0, 1))

    def rows(a: int, b: int) -> None:
        _rows(m2, iy, wy, o2, a, b)
        if held:
            np.clip(out[a:b], low, high, out=out[a:b])

    over_rows(height, rows, task)
    return out if pixels.ndim == 3 else out[..., 0]


def _direct_blur(pixels: Floats, sx: float, sy: float, wraps: bool, task: Task = IDLE) -> Floats:
    rx, ry = int(np.ceil(3.5 * sx)), int(np.ceil(3.5 * sy))
    if rx == 0 and ry == 0:
        return pixels.copy()
    h, w = pixels.shape[:2]
    out = np.empty(pixels.shape, np.float32)
    beside = ((0, 0), (rx, rx)) + ((0, 0),) * (pixels.ndim - 2)

    def work(y0: int, y1: int) -> None:
        if wraps:
            rows, first = pixels[np.arange(y0 - ry, y1 + ry) % h], -ry
            rows = np.pad(rows, beside, mode="wrap")
        else:
            first = max(0, y0 - ry) - y0
            rows = pixels[y0 + first : min(h, y1 + ry)]
        done = cv2.GaussianBlur(
            rows, (2 * rx + 1, 2 * ry + 1), max(sx, 1e-3), sigmaY=max(sy, 1e-3), borderType=cv2.BORDER_REFLECT
        ).reshape(rows.shape)
        out[y0:y1] = done[-first : y1 - y0 - first, rx : rx + w] if wraps else done[-first : y1 - y0 - first]

    over_rows(h, work, task, least=h if h * w < _WORTH_BANDS else max(32, 2 * ry))
    return out


def blur(pixels: Floats, sigma: float | tuple[float, float], wraps: bool, task: Task = IDLE) -> Floats:
    """Gaussian blur at a cost per pixel that does not grow with the width.

    >>> blur(np.float32([[0, 0, 1, 0, 0]]), (1.0, 0.0), True).astype(float).round(3).tolist()
    [[0.058, 0.242, 0.399, 0.242, 0.058]]

    Parameters
    ----------
    pixels : float32 array, shape (H, W) or (H, W, C)
    sigma : float or (float, float)
        Standard deviation in texels; across and down when two are given.
    wraps : bool
        Continue at the opposite edge; otherwise mirrored at the edge.

    Notes
    -----
    Above about four texels the sheet is averaged down until the blur is three texels wide, blurred there, and
    interpolated back; variance spent by averaging and interpolation is taken off the blur.
    """
    sx, sy = (sigma, sigma) if isinstance(sigma, int | float) else sigma
    if max(sx, sy) < 0.05:
        return pixels.copy()
    h, w = pixels.shape[:2]
    fx, fy = min(max(1, int(sx / 3)), w), min(max(1, int(sy / 3)), h)
    task.checkpoint()
    if fx == 1 and fy == 1:
        return _direct_blur(pixels, sx, sy, wraps, task)
    rw, rh = max(1, round(w / fx)), max(1, round(h / fy))
    small = reduce_area(pixels, rw, rh)
    qx = np.sqrt(max(0.0, (sx * rw / w) ** 2 - (1 / 12 if rw < w else 0)))
    qy = np.sqrt(max(0.0, (sy * rh / h) ** 2 - (1 / 12 if rh < h else 0)))
    small = _direct_blur(small, float(qx), float(qy), wraps, task)
    return enlarge(small, w, h, wraps, task)


def blur_inside(plane: Floats, sigma: tuple[float, float], task: Task = IDLE) -> Floats:
    """Blur of a sheet that does not wrap, with weight only on what exists (normalised convolution).

    >>> blur_inside(np.full((4, 6), 2.0, np.float32), (1.0, 1.0)).round(4).max().item()
    2.0
    """
    h, w = plane.shape
    px, py = int(np.ceil(3 * sigma[0])), int(np.ceil(3 * sigma[1]))
    pad = ((py, py), (px, px))
    top = blur(np.pad(plane, pad), sigma, False, task)
    weight = blur(np.pad(np.ones_like(plane), pad), sigma, False, task)
    return np.ascontiguousarray((top / np.maximum(weight, 1e-6))[py : py + h, px : px + w])


def normalise(vectors: Floats) -> Floats:
    """Unit length; what has no length becomes straight up.

    >>> normalise(np.float32([[3, 0, 4], [0, 0, 0]])).astype(float).round(4).tolist()
    [[0.6, 0.0, 0.8], [0.0, 0.0, 1.0]]
    """
    length = np.sqrt(np.einsum("...i,...i->...", vectors, vectors))[..., None]
    out: Floats = np.where(length > 1e-8, vectors / np.maximum(length, 1e-8), np.array([0, 0, 1], np.float32)).astype(np.float32)
    return out


def resize(image: Image, width: int, height: int, task: Task = IDLE) -> Image:
    """Another number of texels over the same millimetres: area average down, Catmull-Rom up, ids by nearest.

    Normals are averaged as vectors and made unit length again.

    >>> resize(Image(np.arange(8, dtype=np.float32).reshape(2, 4, 1), Kind.DATA), 2, 1).plane().tolist()
    [[2.5, 4.5]]
    """
    if (width, height) == (image.width, image.height):
        return image
    p: Any = image.pixels
    if image.kind is Kind.ID:
        ys = np.minimum((np.arange(height) + 0.5) * image.height / height, image.height - 1).astype(int)
        xs = np.minimum((np.arange(width) + 0.5) * image.width / width, image.width - 1).astype(int)
        return image.with_pixels(p[ys][:, xs])
    if width < image.width or height < image.height:
        p = reduce_area(p, min(width, image.width), min(height, image.height))
    if p.shape[:2] != (height, width):
        p = enlarge(p, width, height, image.wraps, task, held=True)
    if image.kind is Kind.NORMAL:
        p = normalise(p)
    return image.with_pixels(p)


def at_most(image: Image, size: int, task: Task = IDLE) -> Image:
    """An image with a longer side of at most ``size`` texels, and none of fewer than eight, for deciding on.

    >>> at_most(Image(np.zeros((40, 80, 1), np.float32), Kind.DATA), 20).pixels.shape
    (10, 20, 1)
    """
    scale = min(1.0, size / max(image.width, image.height))
    return resize(image, max(8, round(image.width * scale)), max(8, round(image.height * scale)), task)
