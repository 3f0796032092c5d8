"""Horizons of a wrapping height field along lattice directions, and the light of an even sky that comes past them."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import finite, kernel
from silent_loom.core.base.parallel import IDLE, Task, over_rows

_BASIC = ((1, 0), (2, 1), (1, 1), (1, 2))
_FINER = ((3, 1), (3, 2), (2, 3), (1, 3))
_ROUNDS = 2
"""Repeats beyond which nothing is looked for: what is there was seen nearer by."""
HALF_PI = np.float32(math.pi / 2)
_COARSER_FROM = 6
"""Samples are taken in groups of g lattice steps from g times this many steps on: at most 1/12 error of a distance."""


def directions(fine: bool) -> list[tuple[int, int]]:
    """Lattice steps (across, down) of 16 azimuths, or of 32 when ``fine``; every texel lies on a line of each.

    >>> len(directions(False)), len(directions(True))
    (16, 32)
    """
    quarter = _BASIC + (_FINER if fine else ())
    out: list[tuple[int, int]] = []
    for x, y in quarter:
        for _ in range(4):
            out.append((x, y))
            x, y = -y, x
    return out


@finite
def _mix(line, a, b, t):  # type: ignore[no-untyped-def]
    for x in range(line.shape[0]):
        line[x] = a[x] + t * (b[x] - a[x])


@finite
def _blend(line, h, y, below, shift, tx, ty, out, to):  # type: ignore[no-untyped-def]
    # Row `to` of out: bilinear between two rows of h, from `shift` on
    cols = h.shape[1]
    a, b = h[y], h[below]
    _mix(line[: cols - shift], a[shift:], b[shift:], ty)
    _mix(line[cols - shift : cols], a[:shift], b[:shift], ty)
    line[cols] = line[0]
    _mix(out[to], line[:cols], line[1:], tx)


@kernel("f4[:,::1], i8, i8, f8, f4[:,::1], i8, i8", finite=True)
def _between(h, p, q, part, out, y0, y1):  # type: ignore[no-untyped-def]
    # Bilinear height at every texel's place plus part · (p, q)
    rows, cols = h.shape
    ex, ey = p * part, q * part
    ox, oy = int(math.floor(ex)), int(math.floor(ey))
    tx, ty = np.float32(ex - ox), np.float32(ey - oy)
    line = np.empty(cols + 1, np.float32)
    shift = ox % cols
    for y in range(y0, y1):
        _blend(line, h, (y + oy) % rows, (y + oy + 1) % rows, shift, tx, ty, out, y)


@finite
def _highest(line, one, other):  # type: ignore[no-untyped-def]
    # Plain loops over rows that start at 0, with a select and no call: the compiler turns these into vector code
    for x in range(line.shape[0]):
        a, b = one[x], other[x]
        line[x] = a if a > b else b


@finite
def _higher_row(a, b, y, yy, shift, out):  # type: ignore[no-untyped-def]
    line, one, other = out[y], a[y], b[yy]
    n = a.shape[1] - shift
    _highest(line[:n], one[:n], other[shift:])
    _highest(line[n:], one[n:], other[:shift])


@kernel("f4[:,::1], f4[:,::1], i8, i8, f4[:,::1], i8, i8", finite=True)
def _higher(a, b, p, q, out, y0, y1):  # type: ignore[no-untyped-def]
    # Higher of a here and b at (p, q) from here
    rows, cols = a.shape
    for y in range(y0, y1):
        _higher_row(a, b, y, (y + q) % rows, p % cols, out)


@finite
def _begin(steepest, h, y, beside, sx, kx, ky, near):  # type: ignore[no-untyped-def]
    # The bilinear patch right at the texel rises along the direction by the sum of its two forward differences
    if not near:
        for x in range(steepest.shape[0]):
            steepest[x] = np.float32(-1e9)
        return
    here, other = h[y], h[beside]
    cols = here.shape[0]
    first, last = (0, cols - 1) if sx > 0 else (1, cols)
    line, at, side, off = steepest[first:last], here[first:last], here[first + sx : last + sx], other[first:last]
    for x in range(line.shape[0]):
        line[x] = kx * (side[x] - at[x]) + ky * (off[x] - at[x])
    end, across = (cols - 1, 0) if sx > 0 else (0, cols - 1)
    steepest[end] = kx * (here[across] - here[end]) + ky * (other[end] - here[end])


@finite
def _rise(steepest, here, there, k):  # type: ignore[no-untyped-def]
    for x in range(steepest.shape[0]):
        v = (there[x] - here[x]) * k
        steepest[x] = v if v > steepest[x] else steepest[x]


@finite
def _steeper(steepest, h, y, samples, field, yy, shift, k):  # type: ignore[no-untyped-def]
    here, there = h[y], samples[field, yy]
    cols = here.shape[0]
    _rise(steepest[: cols - shift], here[: cols - shift], there[shift:], k)
    _rise(steepest[cols - shift :], here[cols - shift :], there[:shift], k)


@finite
def _add_arc(steepest, right, down, out, ux, uy, weight, seen):  # type: ignore[no-untyped-def]
    # Light along one azimuth between the horizon, or the plane of the surface itself, and straight up
    for x in range(steepest.shape[0]):
        n, m = out[x], ux * right[x] + uy * down[x]
        own = -m / n
        s = steepest[x] if steepest[x] > own else own
        cos2 = np.float32(1) / (np.float32(1) + s * s)
        steep = abs(s)
        far = steep > np.float32(1)
        z = np.float32(1) / steep if far else steep
        q = z * z
        t = np.float32(0.0208351) * q - np.float32(0.0851330)
        t = z * (np.float32(0.9998660) + q * (np.float32(-0.3302995) + q * (np.float32(0.1801410) + q * t)))
        t = HALF_PI - t if far else t
        arc = HALF_PI - (t if s > 0 else -t)
        seen[x] += weight * (n * cos2 + m * (arc - s * cos2))


@finite
def _add_bent(steepest, right, down, out, ux, uy, weight, bent_right, bent_down, bent_out):  # type: ignore[no-untyped-def]
    # The mean direction of that light, in closed form as well
    for x in range(steepest.shape[0]):
        n, m = out[x], ux * right[x] + uy * down[x]
        own = -m / n
        s = steepest[x] if steepest[x] > own else own
        sine = np.float32(1) / np.sqrt(np.float32(1) + s * s)
        c = s * sine
        sine3, c3 = sine * sine * sine / np.float32(3), c * c * c / np.float32(3)
        along = weight * (n * sine3 + m * (np.float32(2 / 3) - c + c3))
        bent_right[x] += along * ux
        bent_down[x] += along * uy
        bent_out[x] += weight * (n * (np.float32(1 / 3) - c3) + m * sine3)


@kernel(
    "f4[:,::1], f4[:,:,::1], i8[::1], i8[::1], f4[::1], i8, i8, f4, f4, b1, "
    "f4[:,:,::1], f4, f4, f4, f4[:,::1], f4[:,:,::1], i8, i8",
    finite=True,
)
def _march(h, samples, which, steps, inverse, p, q, kx, ky, near, normals, ux, uy, weight, seen, bent, y0, y1):  # type: ignore[no-untyped-def]
    rows, cols = h.shape
    steepest = np.empty(cols, np.float32)
    sx = 1 if p > 0 else -1
    sy = 1 if q > 0 else -1
    for y in range(y0, y1):
        _begin(steepest, h, y, (y + sy) % rows, sx, kx, ky, near)
        for i in range(which.shape[0]):
            _steeper(steepest, h, y, samples, which[i], (y + q * steps[i]) % rows, (p * steps[i]) % cols, inverse[i])
        _add_arc(steepest, normals[0, y], normals[1, y], normals[2, y], ux, uy, weight, seen[y])
        if bent.shape[0]:
            _add_bent(steepest, normals[0, y], normals[1, y], normals[2, y], ux, uy, weight, bent[0, y], bent[1, y], bent[2, y])


@dataclass(frozen=True)
class _Walk:
    """Which samples one direction looks at: index of the field, lattice steps, one over the distance."""

    which: NDArray[np.int64]
    steps: NDArray[np.int64]
    inverse: Floats
    parts: int
    levels: int


def _walk(p: int, q: int, step_mm: float, radius: float) -> _Walk:
    parts = 2 if max(abs(p), abs(q)) < 3 and p and q else max(abs(p), abs(q))
    last = int(radius / (step_mm / parts) + 1e-6)  # in parts of a lattice step
    which, steps, inverse = [], [], []
    at, levels = 1, 0
    while at <= last:
        whole, part = divmod(at, parts)
        group = 1
        if part == 0:
            while whole >= _COARSER_FROM * group * 2 and at + 2 * group * parts - 1 <= last:
                group *= 2
        if part == 0 and (group > 1 or (parts > 1 and whole >= _COARSER_FROM and at + parts - 1 <= last)):
            level = int(math.log2(group)) + 1  # field `parts + level − 1` holds the highest of 2^(level−1) steps
            levels = max(levels, level)
            which.append(parts + level - 1)
            steps.append(whole)
            count = group * parts
            inverse.append(parts / (step_mm * (at + (count - 1) / 2)))
            at += count
        else:
            which.append(part)
            steps.append(whole)
            inverse.append(parts / (step_mm * at))
            at += 1
    return _Walk(np.array(which, np.int64), np.array(steps, np.int64), np.array(inverse, np.float32), parts, levels)


@dataclass(frozen=True)
class Sky:
    """What a height field lets through of an even sky.

    Attributes
    ----------
    seen : float32 array, shape (H, W)
        Part of the light, 0…1.
    bent : float32 array, shape (H, W, 3), or None
        Unit vectors towards the mean of that light, x right, y up.
    """

    seen: Floats
    bent: Floats | None = None


def sky_of(
    height: Floats,
    normals: Floats | Callable[[Floats], Floats],
    texel: tuple[float, float],
    radius: float,
    *,
    fine: bool = False,
    bent: bool = False,
    task: Task = IDLE,
) -> Sky:
    """Light of an even sky at every texel of a wrapping height field, weighted by the cosine to its own normal.

    Parameters
    ----------
    height : float32 array, shape (H, W)
        In the unit of ``texel``.
    normals : float32 array, shape (H, W, 3)
        Unit normals of that field, x right, y up; or what makes them of a part of it, all columns of some rows.
    texel : tuple of float
        Width and height of a texel.
    radius : float
        Occluders farther than this, horizontally, are left out, without fall-off.
    fine : bool
        32 azimuths and not 16.
    bent : bool
        The mean direction of the light, too.

    Returns
    -------
    Sky
        1 where nothing rises above the plane of the surface at a texel.

    Notes
    -----
    This is what a path tracer bakes: rays over the hemisphere about the local normal, weighted by the cosine to it. Along
    one azimuth with unit vector d the part between straight up and the horizon, with s the steepest rise within the radius
    and the plane of the surface itself a horizon as well, is the inner integral of Jimenez et al. (2016), which in terms of
    the slope becomes n_z / (1 + s²) + (n·d) (acot s − s / (1 + s²)); on a level surface that is 1 / (1 + s²) (Max 1988).
    Azimuths are weighted by the sector they stand for. The mean direction has a closed form of the same kind.

    Directions are those of the lattice, so that every texel has texels on its lines; between them the field is bilinear,
    its slope right at the texel included. Every sample along a line counts: near ones singly, farther ones as the highest
    of 2, 4, 8 … steps at their mean distance, which is off by at most a twelfth. So the work for a texel grows with the
    logarithm of the radius only (compare the amortised sweep of Timonen & Westerholm 2010, which cannot keep a hard
    radius), and every row is one straight run through memory.

    References
    ----------
    Jimenez, Wu, Pesce & Jarabo, Practical real-time strategies for accurate indirect occlusion, SIGGRAPH courses, 2016.
    Max, Horizon mapping: shadows for bump-mapped surfaces, The Visual Computer 4, 1988. Timonen & Westerholm, Scalable
    height field self-shadowing, Computer Graphics Forum 29, 2010.

    >>> flat = np.zeros((4, 4), np.float32)
    >>> up = np.tile(np.array([0, 0, 1], np.float32), (4, 4, 1))
    >>> sky_of(flat, up, (1.0, 1.0), 10.0).seen.max()
    np.float32(1.0)
    """
    rows, cols = height.shape
    radius = min(radius, _ROUNDS * max(cols * texel[0], rows * texel[1]))
    reach = int(radius / texel[1]) + 4
    each = max(64, BANDED // cols)
    if rows * cols <= 2 * BANDED or each + 2 * reach >= rows:
        return _whole_sky(height, normals(height) if callable(normals) else normals, texel, radius, fine, bent, task)
    seen, mean = np.empty_like(height), np.empty((rows, cols, 3), np.float32) if bent else None
    for y in range(0, rows, each):  # what a texel sees lies within the radius: the fields that are looked up stay small
        last = min(rows, y + each)
        around = np.arange(y - reach, last + reach) % rows
        field = height[around]
        own = normals(field) if callable(normals) else normals[around]
        part = _whole_sky(field, own, texel, radius, fine, bent, task.part(y / rows, last / rows))
        seen[y:last] = part.seen[reach : reach + last - y]
        if mean is not None and part.bent is not None:
            mean[y:last] = part.bent[reach : reach + last - y]
    return Sky(seen, mean)


BANDED = 1 << 23
"""Texels of a band in which large fields are worked on: otherwise a dozen fields of their size would be needed at once."""


def _whole_sky(
    height: Floats, normals: Floats, texel: tuple[float, float], radius: float, fine: bool, bent: bool, task: Task
) -> Sky:
    """`sky_of` at once; the radius is no longer than a few rounds of the whole field."""
    dx, dy = texel
    vectors = directions(fine)
    angles = np.array([math.atan2(q * dy, p * dx) % (2 * math.pi) for p, q in vectors])
    order = np.argsort(angles)
    gaps = np.diff(np.r_[angles[order], angles[order][0] + 2 * math.pi])
    weights = np.empty(len(angles))
    weights[order] = (gaps + np.roll(gaps, 1)) / 2 / (2 * math.pi)
    h = np.ascontiguousarray(height)
    rows, cols = h.shape
    planes = np.ascontiguousarray(np.moveaxis(normals, -1, 0) * np.array([1, -1, 1], np.float32)[:, None, None])
    np.maximum(planes[2], np.float32(1e-4), out=planes[2])
    seen = np.zeros_like(h)
    mean = np.zeros((3 if bent else 0, rows, cols), np.float32)
    room = np.empty((0, rows, cols), np.float32)
    for i, (p, q) in enumerate(vectors):
        task.report(i / len(vectors), "horizons")
        step = math.hypot(p * dx, q * dy)
        walk = _walk(p, q, step, radius)
        if len(room) < walk.parts + walk.levels:
            room = np.empty((walk.parts + walk.levels, rows, cols), np.float32)
            room[0] = h
        _fill(h, walk, p, q, room, task)
        lattice = (np.float32(abs(p) / step), np.float32(abs(q) / step))
        toward = (np.float32(p * dx / step), np.float32(q * dy / step))
        fixed = (h, room, walk.which, walk.steps, walk.inverse, p, q, *lattice, step <= radius, planes, *toward)
        march = partial(_march, *fixed, np.float32(weights[i]), seen, mean)
        over_rows(rows, march, task, cost=cols * 64 * 2e-7 * max(4, len(walk.which)))
    np.clip(seen, 0, 1, out=seen)
    return Sky(seen, _directed(mean, normals) if bent else None)


def _directed(mean: Floats, normals: Floats) -> Floats:
    """Unit vectors of sums of light, x right, y up; the normal itself where no light comes."""
    out = np.moveaxis(mean, 0, -1) * np.array([1, -1, 1], np.float32)
    length = np.linalg.norm(out, axis=-1, keepdims=True)
    made: Floats = np.where(length > 1e-6, out / np.maximum(length, np.float32(1e-6)), normals).astype(np.float32)
    return made


def sky_visibility(height: Floats, texel: tuple[float, float], radius: float, *, fine: bool = False, task: Task = IDLE) -> Floats:
    """Cosine-weighted part of the sky that a level receiver sees at every texel: as `sky_of` with every normal straight up.

    >>> sky_visibility(np.zeros((4, 4), np.float32), (1.0, 1.0), 10.0).min()
    np.float32(1.0)
    """
    normals = np.zeros((*height.shape, 3), np.float32)
    normals[..., 2] = 1
    return sky_of(height, normals, texel, radius, fine=fine, task=task).seen


def _fill(h: Floats, walk: _Walk, p: int, q: int, room: Floats, task: Task) -> None:
    """Fields that a walk looks up: heights (there already), those at parts of a step, the highest of 1, 2, 4 … steps."""
    rows, cols = h.shape
    for part in range(1, walk.parts):
        between = partial(_between, h, p, q, part / walk.parts, room[part])
        over_rows(rows, between, task, cost=0.1 * cols / 64)
    before = room[0]
    if walk.levels and walk.parts > 1:
        for part in range(1, walk.parts):
            over_rows(rows, partial(_higher, before, room[part], 0, 0, room[walk.parts]), task)
            before = room[walk.parts]
    for level in range(2, walk.levels + 1):
        before, jump = before if level == 2 else room[walk.parts + level - 2], 2 ** (level - 2)
        over_rows(rows, partial(_higher, before, before, p * jump, q * jump, room[walk.parts + level - 1]), task)
