"""Moving pixels: one field for every thread, each interpolated by its kind.

Colour and data are interpolated as they are (colour is linear light), ids by nearest, normals as slopes through the
inverse transpose of the field's Jacobian, so that the normals of a carried height are the carried normals of the height.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import CodedImage, Floats, Image, Kind
from silent_loom.core.base.kernels import inlined, kernel, subkernel
from silent_loom.core.base.parallel import IDLE, Task, over_rows
from silent_loom.core.moving.cubic import cubic
from silent_loom.core.moving.resample import resize


@subkernel
def cubic_weights(t):  # type: ignore[no-untyped-def]
    a, b, c, d = cubic(np.float64(t))
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
def _sample3(src, u, v):  # type: ignore[no-untyped-def]
    # Three channels at once, sums in registers, all of it inside
    x, y = int(u), int(v)
    wx0, wx1, wx2, wx3 = cubic_weights(np.float32(u - x))
    wy0, wy1, wy2, wy3 = cubic_weights(np.float32(v - y))
    # Unsigned, so that no index is tested for being negative
    xa, xb, xc, xd = np.uintp(x - 1), np.uintp(x), np.uintp(x + 1), np.uintp(x + 2)
    ya, yb, yc, yd = np.uintp(y - 1), np.uintp(y), np.uintp(y + 1), np.uintp(y + 2)
    r, g, b = np.float32(0), np.float32(0), np.float32(0)
    r += wy0 * (wx0 * src[ya, xa, 0] + wx1 * src[ya, xb, 0] + wx2 * src[ya, xc, 0] + wx3 * src[ya, xd, 0])
    g += wy0 * (wx0 * src[ya, xa, 1] + wx1 * src[ya, xb, 1] + wx2 * src[ya, xc, 1] + wx3 * src[ya, xd, 1])
    b += wy0 * (wx0 * src[ya, xa, 2] + wx1 * src[ya, xb, 2] + wx2 * src[ya, xc, 2] + wx3 * src[ya, xd, 2])
    r += wy1 * (wx0 * src[yb, xa, 0] + wx1 * src[yb, xb, 0] + wx2 * src[yb, xc, 0] + wx3 * src[yb, xd, 0])
    g += wy1 * (wx0 * src[yb, xa, 1] + wx1 * src[yb, xb, 1] + wx2 * src[yb, xc, 1] + wx3 * src[yb, xd, 1])
    b += wy1 * (wx0 * src[yb, xa, 2] + wx1 * src[yb, xb, 2] + wx2 * src[yb, xc, 2] + wx3 * src[yb, xd, 2])
    r += wy2 * (wx0 * src[yc, xa, 0] + wx1 * src[yc, xb, 0] + wx2 * src[yc, xc, 0] + wx3 * src[yc, xd, 0])
    g += wy2 * (wx0 * src[yc, xa, 1] + wx1 * src[yc, xb, 1] + wx2 * src[yc, xc, 1] + wx3 * src[yc, xd, 1])
    b += wy2 * (wx0 * src[yc, xa, 2] + wx1 * src[yc, xb, 2] + wx2 * src[yc, xc, 2] + wx3 * src[yc, xd, 2])
    r += wy3 * (wx0 * src[yd, xa, 0] + wx1 * src[yd, xb, 0] + wx2 * src[yd, xc, 0] + wx3 * src[yd, xd, 0])
    g += wy3 * (wx0 * src[yd, xa, 1] + wx1 * src[yd, xb, 1] + wx2 * src[yd, xc, 1] + wx3 * src[yd, xd, 1])
    b += wy3 * (wx0 * src[yd, xa, 2] + wx1 * src[yd, xb, 2] + wx2 * src[yd, xc, 2] + wx3 * src[yd, xd, 2])
    return r, g, b


@subkernel
def _tent3(src, table, u, v, wraps, acc):  # type: ignore[no-untyped-def]
    # Bilinear: where several samples are averaged into one texel, they and this tent together are the filter
    h, w, _ = src.shape
    x, y = int(math.floor(u)), int(math.floor(v))
    tx, ty = np.float32(u - x), np.float32(v - y)
    for j in range(2):
        for i in range(2):
            weight = (tx if i else np.float32(1) - tx) * (ty if j else np.float32(1) - ty)
            for k in range(3):
                acc[k] += weight * _light(src, table, placed(y + j, h, wraps), placed(x + i, w, wraps), k)


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


@inlined
def _place(m, lens, px, py):  # type: ignore[no-untyped-def]
    # Where a place of the result lies on the source, and its derivatives
    d = m[2, 0] * px + m[2, 1] * py + m[2, 2]
    k = 1.0 / (d if abs(d) > 1e-12 else 1e-12)  # right on the horizon: very far, and still a number
    u, v = (m[0, 0] * px + m[0, 1] * py + m[0, 2]) * k, (m[1, 0] * px + m[1, 1] * py + m[1, 2]) * k
    ux, uy = (m[0, 0] - u * m[2, 0]) * k, (m[0, 1] - u * m[2, 1]) * k
    vx, vy = (m[1, 0] - v * m[2, 0]) * k, (m[1, 1] - v * m[2, 1]) * k
    return _bent(u, v, ux, uy, vx, vy, lens)


@inlined
def _samples(x, y, most):  # type: ignore[no-untyped-def]
    # How many samples a step of (x, y) source texels asks for
    return min(most, max(1, int(math.ceil(math.sqrt(x * x + y * y) - 0.05))))


@inlined
def _corner(m, lens, x, y, window):  # type: ignore[no-untyped-def]
    u, v, ux, uy, vx, vy = _place(m, lens, x, y)
    window[0], window[1] = min(window[0], u), max(window[1], u)
    window[2], window[3] = min(window[2], v), max(window[3], v)
    return u, v


@subkernel
def _window(m, lens, x0, y0, x1, y1, window):  # type: ignore[no-untyped-def]
    # Bounds on the source of what lies between places of the result; False where the horizon passes between them
    a, b = m[2, 0] * x0 + m[2, 2], m[2, 0] * x1 + m[2, 2]
    c, d = m[2, 1] * y0, m[2, 1] * y1
    least, greatest = min(a, b) + min(c, d), max(a, b) + max(c, d)
    if least <= 0 <= greatest:
        return False
    window[0], window[1], window[2], window[3] = np.inf, -np.inf, np.inf, -np.inf
    ua, va = _corner(m, lens, x0, y0, window)
    ub, vb = _corner(m, lens, x1, y0, window)
    uc, vc = _corner(m, lens, x0, y1, window)
    ud, vd = _corner(m, lens, x1, y1, window)
    if lens[3] != 0.0:
        # Straight lines become curves: what lies outside their ends lies no farther out than by their sag
        off, x, y = 0.0, (x0 + x1) / 2, (y0 + y1) / 2
        for u, v, (p, q) in (
            ((ua + ub) / 2, (va + vb) / 2, _corner(m, lens, x, y0, window)),
            ((uc + ud) / 2, (vc + vd) / 2, _corner(m, lens, x, y1, window)),
            ((ua + uc) / 2, (va + vc) / 2, _corner(m, lens, x0, y, window)),
            ((ub + ud) / 2, (vb + vd) / 2, _corner(m, lens, x1, y, window)),
        ):
            off = max(off, abs(u - p), abs(v - q))
        window[0], window[1], window[2], window[3] = window[0] - off, window[1] + off, window[2] - off, window[3] + off
    return True


@subkernel
def _lit(src, table, left, top, wraps, out):  # type: ignore[no-untyped-def]
    # A window of the source in light, its edges continued
    h, w, _ = src.shape
    for i in range(out.shape[0]):
        y = np.uintp(placed(top + i, h, wraps))
        for j in range(out.shape[1]):
            x = np.uintp(placed(left + j, w, wraps))
            for k in range(3):
                out[i, j, k] = _light(src, table, y, x, k)


@subkernel
def _far(src, table, m, lens, out, wraps, most, ya, yb, xa, xb, acc):  # type: ignore[no-untyped-def]
    # Texels of a tile that sees too much of the source, or its horizon, for a window
    for y in range(ya, yb):
        for x in range(xa, xb):
            u, v, ux, uy, vx, vy = _place(m, lens, x + 0.5, y + 0.5)
            nx, ny = _samples(ux, vx, most), _samples(uy, vy, most)
            acc[:] = 0
            for j in range(ny):
                oy = (j + 0.5) / ny - 0.5
                for i in range(nx):
                    ox = (i + 0.5) / nx - 0.5
                    _tent3(src, table, u + ux * ox + uy * oy - 0.5, v + vx * ox + vy * oy - 0.5, wraps, acc)
            for k in range(3):
                out[y, x, k] = acc[k] / np.float32(nx * ny)


@subkernel
def _places(m, lens, y, first, ox, oy, left, top, us, vs):  # type: ignore[no-untyped-def]
    # Where one sample of every texel of a row lies in a window
    if lens[3] == 0.0:
        # Written out, so that the compiler turns it into vector code
        a, b, c = m[0, 1] * y + m[0, 2], m[1, 1] * y + m[1, 2], m[2, 1] * y + m[2, 2]
        for i in range(us.shape[0]):
            x = first + i + 0.5
            k = 1.0 / (m[2, 0] * x + c)
            u, v = (m[0, 0] * x + a) * k, (m[1, 0] * x + b) * k
            us[i] = u + (ox * (m[0, 0] - u * m[2, 0]) + oy * (m[0, 1] - u * m[2, 1])) * k - left
            vs[i] = v + (ox * (m[1, 0] - v * m[2, 0]) + oy * (m[1, 1] - v * m[2, 1])) * k - top
        return
    for i in range(us.shape[0]):
        u, v, ux, uy, vx, vy = _place(m, lens, first + i + 0.5, y)
        us[i], vs[i] = u + ux * ox + uy * oy - left, v + vx * ox + vy * oy - top


@subkernel
def _add_tents(part, us, vs, sums):  # type: ignore[no-untyped-def]
    # `_tent3` for a row of samples that all lie inside
    one = np.float32(1)
    for i in range(us.shape[0]):
        u, v = us[i], vs[i]
        x, y = int(u), int(v)
        tx, ty = u - np.float32(x), v - np.float32(y)
        xa, xb, ya, yb = np.uintp(x), np.uintp(x + 1), np.uintp(y), np.uintp(y + 1)
        a, b, c, d = (one - tx) * (one - ty), tx * (one - ty), (one - tx) * ty, tx * ty
        sums[i, 0] += a * part[ya, xa, 0] + b * part[ya, xb, 0] + c * part[yb, xa, 0] + d * part[yb, xb, 0]
        sums[i, 1] += a * part[ya, xa, 1] + b * part[ya, xb, 1] + c * part[yb, xa, 1] + d * part[yb, xb, 1]
        sums[i, 2] += a * part[ya, xa, 2] + b * part[ya, xb, 2] + c * part[yb, xa, 2] + d * part[yb, xb, 2]


@subkernel
def _cubic(part, us, vs, line):  # type: ignore[no-untyped-def]
    for i in range(us.shape[0]):
        line[i, 0], line[i, 1], line[i, 2] = _sample3(part, us[i], vs[i])


@subkernel
def _averages(part, m, lens, left, top, y, first, nx, ny, us, vs, sums):  # type: ignore[no-untyped-def]
    # A row of texels of which each is the mean of nx · ny samples
    sums[:] = 0
    for j in range(ny):
        for i in range(nx):
            _places(m, lens, y, first, (i + 0.5) / nx - 0.5, (j + 0.5) / ny - 0.5, left, top, us, vs)
            _add_tents(part, us, vs, sums)
    share = np.float32(1.0 / (nx * ny))
    for i in range(sums.shape[0]):
        for k in range(3):
            sums[i, k] *= share


@subkernel
def _row(part, m, lens, left, top, most, y, first, nx, ny, us, vs, line):  # type: ignore[no-untyped-def]
    if nx == 1 and ny == 1:
        _places(m, lens, y, first, 0.0, 0.0, left, top, us, vs)
        _cubic(part, us, vs, line)
    elif nx > 0:
        _averages(part, m, lens, left, top, y, first, nx, ny, us, vs, line)
    else:
        # Runs of texels that ask for the same number of samples
        n, start = us.shape[0], 0
        while start < n:
            end = start
            while end < n:
                _, _, ux, uy, vx, vy = _place(m, lens, first + end + 0.5, y)
                across, down = _samples(ux, vx, most), _samples(uy, vy, most)
                if end > start and (across != nx or down != ny):
                    break
                nx, ny = across, down
                end += 1
            if nx == 1 and ny == 1:
                _places(m, lens, y, first + start, 0.0, 0.0, left, top, us[start:end], vs[start:end])
                _cubic(part, us[start:end], vs[start:end], line[start:end])
            else:
                _averages(part, m, lens, left, top, y, first + start, nx, ny, us[start:end], vs[start:end], line[start:end])
            start = end


@subkernel
def _alike(m, lens, most, x0, y0, x1, y1):  # type: ignore[no-untyped-def]
    # Samples across and down where all corners ask for the same number, and so does what lies between, else 0
    nx, ny = 0, 0
    if lens[3] != 0.0:
        return 0, 0
    for x, y in ((x0, y0), (x1, y0), (x0, y1), (x1, y1)):
        u, v, ux, uy, vx, vy = _place(m, lens, x, y)
        across, down = _samples(ux, vx, most), _samples(uy, vy, most)
        if nx > 0 and (nx != across or ny != down):
            return 0, 0
        nx, ny = across, down
    return nx, ny


_ACROSS, _DOWN = 128, 32
"""Texels of a tile of the result that is made at once. Tiles start at multiples of these, whatever the bands."""
_ROOM = 3 * 320 * 320
"""Samples of its window on the source: what a core keeps close at hand."""


@kernel(
    "u1[:,:,::1], f4[:,::1], f8[:,::1], f8[::1], f4[:,:,::1], b1, i8, i8, i8",
    "f4[:,:,::1], none, f8[:,::1], f8[::1], f4[:,:,::1], b1, i8, i8, i8",
    "u2[:,:,::1], f4[:,::1], f8[:,::1], f8[::1], f4[:,:,::1], b1, i8, i8, i8",
)
def _warp3(src, table, m, lens, out, wraps, most, y0, y1):  # type: ignore[no-untyped-def]
    room, window = np.empty(_ROOM, np.float32), np.empty(4)
    us, vs = np.empty(_ACROSS, np.float32), np.empty(_ACROSS, np.float32)
    line, acc = np.empty((_ACROSS, 3), np.float32), np.empty(3, np.float32)
    for top_row in range(y0 - y0 % _DOWN, y1, _DOWN):
        ya, yb = max(y0, top_row), min(y1, top_row + _DOWN)
        bottom_row = min(out.shape[0], top_row + _DOWN)
        for xa in range(0, out.shape[1], _ACROSS):
            xb = min(out.shape[1], xa + _ACROSS)
            n = xb - xa
            corners = float(xa), float(top_row), float(xb), float(bottom_row)
            if _window(m, lens, *corners, window):
                # Each code becomes light once, not for each of the texels that look at it
                left, top = math.floor(window[0]) - 2.0, math.floor(window[2]) - 2.0
                w, h = math.ceil(window[1]) + 3.0 - left, math.ceil(window[3]) + 3.0 - top
                if 3 * w * h <= _ROOM:
                    part = room[: 3 * int(w) * int(h)].reshape((int(h), int(w), 3))
                    _lit(src, table, int(left), int(top), wraps, part)
                    nx, ny = _alike(m, lens, most, *corners)
                    for y in range(ya, yb):
                        _row(part, m, lens, left + 0.5, top + 0.5, most, y + 0.5, xa, nx, ny, us[:n], vs[:n], line[:n])
                        for i in range(n):
                            for k in range(3):
                                out[y, xa + i, k] = line[i, k]
                    continue
            _far(src, table, m, lens, out, wraps, most, ya, yb, xa, xb, acc)


@kernel("f4[:,:,::1], f8[:,::1], f8[::1], f4[:,:,::1], b1, b1, i8, i8, i8")
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


@kernel("f4[:,:,::1], f8[:,::1], f8[::1], f8, f8, f8, f8, f4[:,:,::1], i8, i8")
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

    >>> warp_homography(Image(np.ones((4, 4, 1), np.float32), Kind.DATA), np.eye(3), 2, 2, (10.0, 10.0)).plane().tolist()
    [[1.0, 1.0], [1.0, 1.0]]
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
        values = src if table is None else table
        most = values.min(), values.max()

        def some(a: int, b: int) -> None:
            _warp3(src, table, m, lens, out, wraps, 8, a, b)
            np.clip(out[a:b], *most, out=out[a:b])  # cubic taps overshoot at saturated edges, which would be cut on delivery

        over_rows(height, some, task, cost=width * 64 * 1e-4)
        return out
    over_rows(height, lambda a, b: _warp(src, m, lens, out, wraps, nearest, 8, a, b), task, cost=width * 64 * 1e-4)
    return out
