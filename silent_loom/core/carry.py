"""Moving pixels: one field for every thread, each interpolated by its kind.

Colour and data are interpolated as they are (colour is linear light), ids by nearest, normals as slopes through the
inverse transpose of the field's Jacobian, so that the normals of a carried height are the carried normals of the height.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.images import CodedImage, Floats, Image, Kind
from silent_loom.core.parallel import IDLE, Task, inlined, kernel, over_rows, subkernel
from silent_loom.core.resample import resize


@subkernel
def cubic_weights(t):  # type: ignore[no-untyped-def]
    a = ((-0.5 * t + 1.0) * t - 0.5) * t
    b = (1.5 * t - 2.5) * t * t + 1.0
    c = ((-1.5 * t + 2.0) * t + 0.5) * t
    d = (0.5 * t - 0.5) * t * t
    return np.float32(a), np.float32(b), np.float32(c), np.float32(d)


@subkernel
def placed(i, n, wraps):  # type: ignore[no-untyped-def]
    if wraps:
        return i % n
    return min(max(i, 0), n - 1)


@subkernel
def _sample(src, u, v, wraps, nearest, acc, weight):  # type: ignore[no-untyped-def]
    h, w, channels = src.shape
    if nearest:
        i, j = int(math.floor(v + 0.5)), int(math.floor(u + 0.5))
        i, j = placed(i, h, wraps), placed(j, w, wraps)
        for k in range(channels):
            acc[k] = src[i, j, k]
        return
    fx, fy = math.floor(u), math.floor(v)
    x0, y0 = int(fx), int(fy)
    wx0, wx1, wx2, wx3 = cubic_weights(u - fx)
    wy0, wy1, wy2, wy3 = cubic_weights(v - fy)
    if 1 <= x0 < w - 2 and 1 <= y0 < h - 2:
        for k in range(channels):
            s = np.float32(0)
            for j in range(4):
                y = y0 - 1 + j
                wy = wy0 if j == 0 else (wy1 if j == 1 else (wy2 if j == 2 else wy3))
                s += wy * (wx0 * src[y, x0 - 1, k] + wx1 * src[y, x0, k] + wx2 * src[y, x0 + 1, k] + wx3 * src[y, x0 + 2, k])
            acc[k] += s * weight
    else:
        xa, xb = placed(x0 - 1, w, wraps), placed(x0, w, wraps)
        xc, xd = placed(x0 + 1, w, wraps), placed(x0 + 2, w, wraps)
        for k in range(channels):
            s = np.float32(0)
            for j in range(4):
                y = placed(y0 - 1 + j, h, wraps)
                wy = wy0 if j == 0 else (wy1 if j == 1 else (wy2 if j == 2 else wy3))
                s += wy * (wx0 * src[y, xa, k] + wx1 * src[y, xb, k] + wx2 * src[y, xc, k] + wx3 * src[y, xd, k])
            acc[k] += s * weight


@inlined
def _light(src, table, y, x, k):  # type: ignore[no-untyped-def]
    # numba leaves out whichever branch cannot be taken
    if table is None:
        return src[y, x, k]
    return table[k, src[y, x, k]]


@subkernel
def _sample3(src, table, u, v, wraps):  # type: ignore[no-untyped-def]
    # Three channels at once, sums in registers: the whole photo goes through here
    h, w, _ = src.shape
    fx, fy = math.floor(u), math.floor(v)
    x0, y0 = int(fx), int(fy)
    wx0, wx1, wx2, wx3 = cubic_weights(np.float32(u - fx))
    wy0, wy1, wy2, wy3 = cubic_weights(np.float32(v - fy))
    if 1 <= x0 < w - 2 and 1 <= y0 < h - 2:
        # Unsigned, so that no index is tested for being negative
        xa, xb, xc, xd = np.uintp(x0 - 1), np.uintp(x0), np.uintp(x0 + 1), np.uintp(x0 + 2)
        ya, yb, yc, yd = np.uintp(y0 - 1), np.uintp(y0), np.uintp(y0 + 1), np.uintp(y0 + 2)
    else:
        xa, xb = np.uintp(placed(x0 - 1, w, wraps)), np.uintp(placed(x0, w, wraps))
        xc, xd = np.uintp(placed(x0 + 1, w, wraps)), np.uintp(placed(x0 + 2, w, wraps))
        ya, yb = np.uintp(placed(y0 - 1, h, wraps)), np.uintp(placed(y0, h, wraps))
        yc, yd = np.uintp(placed(y0 + 1, h, wraps)), np.uintp(placed(y0 + 2, h, wraps))
    r, g, b = np.float32(0), np.float32(0), np.float32(0)
    r += wy0 * (
        wx0 * _light(src, table, ya, xa, 0)
        + wx1 * _light(src, table, ya, xb, 0)
        + wx2 * _light(src, table, ya, xc, 0)
        + wx3 * _light(src, table, ya, xd, 0)
    )
    g += wy0 * (
        wx0 * _light(src, table, ya, xa, 1)
        + wx1 * _light(src, table, ya, xb, 1)
        + wx2 * _light(src, table, ya, xc, 1)
        + wx3 * _light(src, table, ya, xd, 1)
    )
    b += wy0 * (
        wx0 * _light(src, table, ya, xa, 2)
        + wx1 * _light(src, table, ya, xb, 2)
        + wx2 * _light(src, table, ya, xc, 2)
        + wx3 * _light(src, table, ya, xd, 2)
    )
    r += wy1 * (
        wx0 * _light(src, table, yb, xa, 0)
        + wx1 * _light(src, table, yb, xb, 0)
        + wx2 * _light(src, table, yb, xc, 0)
        + wx3 * _light(src, table, yb, xd, 0)
    )
    g += wy1 * (
        wx0 * _light(src, table, yb, xa, 1)
        + wx1 * _light(src, table, yb, xb, 1)
        + wx2 * _light(src, table, yb, xc, 1)
        + wx3 * _light(src, table, yb, xd, 1)
    )
    b += wy1 * (
        wx0 * _light(src, table, yb, xa, 2)
        + wx1 * _light(src, table, yb, xb, 2)
        + wx2 * _light(src, table, yb, xc, 2)
        + wx3 * _light(src, table, yb, xd, 2)
    )
    r += wy2 * (
        wx0 * _light(src, table, yc, xa, 0)
        + wx1 * _light(src, table, yc, xb, 0)
        + wx2 * _light(src, table, yc, xc, 0)
        + wx3 * _light(src, table, yc, xd, 0)
    )
    g += wy2 * (
        wx0 * _light(src, table, yc, xa, 1)
        + wx1 * _light(src, table, yc, xb, 1)
        + wx2 * _light(src, table, yc, xc, 1)
        + wx3 * _light(src, table, yc, xd, 1)
    )
    b += wy2 * (
        wx0 * _light(src, table, yc, xa, 2)
        + wx1 * _light(src, table, yc, xb, 2)
        + wx2 * _light(src, table, yc, xc, 2)
        + wx3 * _light(src, table, yc, xd, 2)
    )
    r += wy3 * (
        wx0 * _light(src, table, yd, xa, 0)
        + wx1 * _light(src, table, yd, xb, 0)
        + wx2 * _light(src, table, yd, xc, 0)
        + wx3 * _light(src, table, yd, xd, 0)
    )
    g += wy3 * (
        wx0 * _light(src, table, yd, xa, 1)
        + wx1 * _light(src, table, yd, xb, 1)
        + wx2 * _light(src, table, yd, xc, 1)
        + wx3 * _light(src, table, yd, xd, 1)
    )
    b += wy3 * (
        wx0 * _light(src, table, yd, xa, 2)
        + wx1 * _light(src, table, yd, xb, 2)
        + wx2 * _light(src, table, yd, xc, 2)
        + wx3 * _light(src, table, yd, xd, 2)
    )
    return r, g, b


@subkernel
def _tent3(src, table, u, v, wraps):  # type: ignore[no-untyped-def]
    # Bilinear: where several samples are averaged into one texel, they and this tent together are the filter
    h, w, _ = src.shape
    fx, fy = math.floor(u), math.floor(v)
    x0, y0 = int(fx), int(fy)
    tx, ty = np.float32(u - fx), np.float32(v - fy)
    if 0 <= x0 < w - 1 and 0 <= y0 < h - 1:
        xa, xb, ya, yb = np.uintp(x0), np.uintp(x0 + 1), np.uintp(y0), np.uintp(y0 + 1)
    else:
        xa, xb = np.uintp(placed(x0, w, wraps)), np.uintp(placed(x0 + 1, w, wraps))
        ya, yb = np.uintp(placed(y0, h, wraps)), np.uintp(placed(y0 + 1, h, wraps))
    a, b = (np.float32(1) - tx) * (np.float32(1) - ty), tx * (np.float32(1) - ty)
    c, d = (np.float32(1) - tx) * ty, tx * ty
    return (
        a * _light(src, table, ya, xa, 0)
        + b * _light(src, table, ya, xb, 0)
        + c * _light(src, table, yb, xa, 0)
        + d * _light(src, table, yb, xb, 0),
        a * _light(src, table, ya, xa, 1)
        + b * _light(src, table, ya, xb, 1)
        + c * _light(src, table, yb, xa, 1)
        + d * _light(src, table, yb, xb, 1),
        a * _light(src, table, ya, xa, 2)
        + b * _light(src, table, ya, xb, 2)
        + c * _light(src, table, yb, xa, 2)
        + d * _light(src, table, yb, xb, 2),
    )


@inlined
def _bent(u, v, ux, uy, vx, vy, lens):  # type: ignore[no-untyped-def]
    # A place and its derivatives through a lens: centre, reach, and bulge (see `warp_homography`)
    if lens[3] == 0.0:
        return u, v, ux, uy, vx, vy
    x, y, k = (u - lens[0]) / lens[2], (v - lens[1]) / lens[2], lens[3]
    f = 1.0 - k * (x * x + y * y)
    a, b, c = f - 2 * k * x * x, -2 * k * x * y, f - 2 * k * y * y
    return (
        lens[0] + (u - lens[0]) * f,
        lens[1] + (v - lens[1]) * f,
        a * ux + b * vx,
        a * uy + b * vy,
        b * ux + c * vx,
        b * uy + c * vy,
    )


@kernel
def _warp3(src, table, m, lens, out, wraps, most, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(out.shape[1]):
            px, py = x + 0.5, y + 0.5
            d = m[2, 0] * px + m[2, 1] * py + m[2, 2]
            u, v = (m[0, 0] * px + m[0, 1] * py + m[0, 2]) / d, (m[1, 0] * px + m[1, 1] * py + m[1, 2]) / d
            ux, uy = (m[0, 0] - u * m[2, 0]) / d, (m[0, 1] - u * m[2, 1]) / d
            vx, vy = (m[1, 0] - v * m[2, 0]) / d, (m[1, 1] - v * m[2, 1]) / d
            u, v, ux, uy, vx, vy = _bent(u, v, ux, uy, vx, vy, lens)
            nx = min(most, max(1, int(math.ceil(math.sqrt(ux * ux + vx * vx) - 0.05))))
            ny = min(most, max(1, int(math.ceil(math.sqrt(uy * uy + vy * vy) - 0.05))))
            if nx == 1 and ny == 1:
                r, g, b = _sample3(src, table, u - 0.5, v - 0.5, wraps)
            else:
                r, g, b = np.float32(0), np.float32(0), np.float32(0)
                for j in range(ny):
                    oy = (j + 0.5) / ny - 0.5
                    for i in range(nx):
                        ox = (i + 0.5) / nx - 0.5
                        sr, sg, sb = _tent3(src, table, u + ux * ox + uy * oy - 0.5, v + vx * ox + vy * oy - 0.5, wraps)
                        r, g, b = r + sr, g + sg, b + sb
                k = np.float32(1.0 / (nx * ny))
                r, g, b = r * k, g * k, b * k
            out[y, x, 0], out[y, x, 1], out[y, x, 2] = r, g, b


@kernel
def _warp(src, m, lens, out, wraps, nearest, most, y0, y1):  # type: ignore[no-untyped-def]
    acc = np.zeros(src.shape[2], np.float32)
    for y in range(y0, y1):
        for x in range(out.shape[1]):
            px, py = x + 0.5, y + 0.5
            d = m[2, 0] * px + m[2, 1] * py + m[2, 2]
            u, v = (m[0, 0] * px + m[0, 1] * py + m[0, 2]) / d, (m[1, 0] * px + m[1, 1] * py + m[1, 2]) / d
            ux, uy = (m[0, 0] - u * m[2, 0]) / d, (m[0, 1] - u * m[2, 1]) / d
            vx, vy = (m[1, 0] - v * m[2, 0]) / d, (m[1, 1] - v * m[2, 1]) / d
            u, v, ux, uy, vx, vy = _bent(u, v, ux, uy, vx, vy, lens)
            nx = min(most, max(1, int(math.ceil(math.sqrt(ux * ux + vx * vx) - 0.05))))
            ny = min(most, max(1, int(math.ceil(math.sqrt(uy * uy + vy * vy) - 0.05))))
            for k in range(src.shape[2]):
                acc[k] = 0
            if nearest or (nx == 1 and ny == 1):
                _sample(src, u - 0.5, v - 0.5, wraps, nearest, acc, np.float32(1))
            else:
                weight = np.float32(1.0 / (nx * ny))
                for j in range(ny):
                    oy = (j + 0.5) / ny - 0.5
                    for i in range(nx):
                        ox = (i + 0.5) / nx - 0.5
                        _sample(src, u + ux * ox + uy * oy - 0.5, v + vx * ox + vy * oy - 0.5, wraps, False, acc, weight)
            for k in range(src.shape[2]):
                out[y, x, k] = acc[k]


@kernel
def _turn_slopes(slopes, m, lens, across_in, down_in, across_out, down_out, out, y0, y1):  # type: ignore[no-untyped-def]
    # Slopes are dh/dx and dh/dy per millimetre (y up); the field maps out texels to source texels with Jacobian J.
    for y in range(y0, y1):
        for x in range(out.shape[1]):
            px, py = x + 0.5, y + 0.5
            d = m[2, 0] * px + m[2, 1] * py + m[2, 2]
            u, v = (m[0, 0] * px + m[0, 1] * py + m[0, 2]) / d, (m[1, 0] * px + m[1, 1] * py + m[1, 2]) / d
            ux, uy = (m[0, 0] - u * m[2, 0]) / d, (m[0, 1] - u * m[2, 1]) / d
            vx, vy = (m[1, 0] - v * m[2, 0]) / d, (m[1, 1] - v * m[2, 1]) / d
            u, v, ux, uy, vx, vy = _bent(u, v, ux, uy, vx, vy, lens)
            # chain rule: dh/dx_out = dh/du·du/dx + dh/dv·dv/dx, with texel pitches on both sides; v and y point down
            du, dv = slopes[y, x, 0] * across_in, -slopes[y, x, 1] * down_in
            gx = (du * ux + dv * vx) / across_out
            gy = -(du * uy + dv * vy) / down_out
            n = 1.0 / math.sqrt(gx * gx + gy * gy + 1.0)
            out[y, x, 0], out[y, x, 1], out[y, x, 2] = -gx * n, -gy * n, n


def warp_homography(
    image: Image,
    to_source: NDArray[np.float64],
    width: int,
    height: int,
    size_mm: tuple[float, float],
    task: Task = IDLE,
    *,
    bulge: float = 0.0,
) -> Image:
    """Carry an image through a projective field, and a lens.

    Parameters
    ----------
    image : Image
    to_source : array, shape (3, 3)
        From positions on the result in texels (outer edge of the first texel at 0) to the same on the source.
    width, height : int
        Texels of the result.
    size_mm : tuple of float
        Millimetres of the result.
    bulge : float
        First radial coefficient of the lens: what lies at r half diagonals from the middle of the source without it lies
        at r (1 − bulge r²) with it (Brown 1966).

    Notes
    -----
    Catmull-Rom interpolation; where a result texel covers more than one source texel it is the mean of as many
    bilinear samples, up to 8 × 8. A normal's slopes go through the inverse transpose of the Jacobian (chain rule).
    """
    m = np.ascontiguousarray(to_source, np.float64)
    lens = np.array([image.width / 2, image.height / 2, math.hypot(image.width, image.height) / 2, bulge])
    if bulge == 0 and _plain(m, image, width, height):
        return Image(resize(image, width, height, task).pixels, image.kind, size_mm, False)
    if image.kind is Kind.NORMAL:
        z = np.maximum(image.pixels[..., 2:3], 1e-3)
        slopes = np.ascontiguousarray(-image.pixels[..., :2] / z, dtype=np.float32)
        moved = _run(slopes, m, lens, width, height, image.wraps, False, task)
        out = np.empty((height, width, 3), np.float32)
        (ai, di), (ao, do) = image.texel_mm, (size_mm[0] / width, size_mm[1] / height)
        over_rows(height, lambda a, b: _turn_slopes(moved, m, lens, ai, di, ao, do, out, a, b), task)
        return Image(out, Kind.NORMAL, size_mm, False)
    samples, table = (image.codes, image.table) if isinstance(image, CodedImage) else (image.pixels, None)
    out = _run(samples, m, lens, width, height, image.wraps, image.kind is Kind.ID, task, table)
    return Image(out, image.kind, size_mm, False)


def _plain(m: NDArray[np.float64], image: Image, width: int, height: int) -> bool:
    """True when the field only makes the whole sheet smaller, or leaves it, and keeps its proportions in mm."""
    scale = np.diag([image.width / width, image.height / height, 1.0])
    same = np.allclose(m / m[2, 2], scale, rtol=1e-9, atol=1e-7 * max(image.width, image.height))
    return same and image.kind is not Kind.NORMAL and width <= image.width and height <= image.height


def _run(
    src: NDArray[Any],
    m: NDArray[np.float64],
    lens: NDArray[np.float64],
    width: int,
    height: int,
    wraps: bool,
    nearest: bool,
    task: Task,
    table: Floats | None = None,
) -> Floats:
    out = np.empty((height, width, src.shape[2]), np.float32)
    src = np.ascontiguousarray(src)
    if src.shape[2] == 3 and not nearest:
        over_rows(height, lambda a, b: _warp3(src, table, m, lens, out, wraps, 8, a, b), task, cost=width * 64 * 1e-4)
        return out
    over_rows(height, lambda a, b: _warp(src, m, lens, out, wraps, nearest, 8, a, b), task, cost=width * 64 * 1e-4)
    return out
