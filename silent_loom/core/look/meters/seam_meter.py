"""Seam meter: how much a join stands out from the surface around it. Up to 1 it cannot be told apart."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats, Image
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.lazy_modules import later
from silent_loom.core.base.parallel import IDLE, Task, both, over_rows
from silent_loom.core.look.features import features

ndimage = later("scipy.ndimage")

SCALES = (1, 2, 4, 8, 16)
"""Widths, in texels, of the strips on either side that are held against each other."""

WINDOWS = (1.0, 0.25, 0.0625)
"""Lengths of the windows along a join, as parts of its length."""

DISTINCT = 1.35
"""A line found by searching counts when it stands out this much from the next strongest line elsewhere."""

LINES = 64
"""Positions that a join is compared with."""


@dataclass(frozen=True)
class Seam:
    """Figures of one direction.

    Attributes
    ----------
    figure : float
        The worst window on the join, over the 95th percentile of the same on lines where nothing was joined.
    border : float
        The same for the join itself, without the search.
    searched : float
        The same for the strongest straight line elsewhere, when it is distinct; else 0.
    line : int
        Column of that line, or −1.
    profile : float32 array
        Figure along the join, for a heat picture.
    """

    figure: float
    border: float
    searched: float
    line: int
    profile: Floats


@kernel("f4[:,:,::1], i8[::1], i8[::1], i8[::1], f4[:,:,:,::1], i8, i8")
def _steps(planes, columns, offsets, scales, out, y0, y1):  # type: ignore[no-untyped-def]
    # out[t, s, y, 0:K] is the step, out[t, s, y, K:2K] what it lacks to the continuation from both sides, and the
    # last is how far the step stands alone: its size beyond that of the steps right before and after it
    h, w, channels = planes.shape
    prefix = np.empty((2 * w + 1, channels), np.float64)
    for y in range(y0, y1):
        for k in range(channels):
            prefix[0, k] = 0
        for x in range(w):
            for k in range(channels):
                prefix[x + 1, k] = prefix[x, k] + planes[y, x, k]
        for x in range(1, w + 1):
            for k in range(channels):
                prefix[w + x, k] = prefix[w, k] + prefix[x, k]
        for t in range(offsets.shape[0]):
            c = (columns[y] + offsets[t]) % w
            for i in range(scales.shape[0]):
                s = scales[i]
                a = c + w if c < 2 * s else c  # keep 2 s texels on both sides inside the doubled row
                if a + 2 * s > 2 * w:
                    a -= w
                at, before, after = 0.0, 0.0, 0.0
                for k in range(channels):
                    left = (prefix[a, k] - prefix[a - s, k]) / s
                    far_left = (prefix[a - s, k] - prefix[a - 2 * s, k]) / s
                    right = (prefix[a + s, k] - prefix[a, k]) / s
                    far_right = (prefix[a + 2 * s, k] - prefix[a + s, k]) / s
                    step = right - left
                    out[t, i, y, k] = step
                    out[t, i, y, channels + k] = step - 0.5 * ((left - far_left) + (far_right - right))
                    at += step * step
                    before += (left - far_left) ** 2
                    after += (far_right - right) ** 2
                out[t, i, y, 2 * channels] = max(0.0, np.sqrt(at) - np.sqrt(max(before, after)))


@kernel("f4[:,:,::1], f4[:,:,::1], i8, i8")
def _all_lines(planes, out, y0, y1):  # type: ignore[no-untyped-def]
    # Sums over rows y0 … y1, by quarters of the height: how far the step at every column stands alone, and its size
    h, w, channels = planes.shape
    step = np.empty(w + 2, np.float32)  # at column x: in step[x + 1]
    for y in range(y0, y1):
        q = min(3, 4 * y // h)
        last = w - 1
        for x in range(w):
            total = np.float32(0)
            for k in range(channels):
                d = planes[y, x, k] - planes[y, last, k]
                total += d * d
            step[x + 1] = np.sqrt(total)
            last = x
        step[0], step[w + 1] = step[w], step[1]
        for x in range(w):
            at = step[x + 1]
            out[0, q, x] += max(np.float32(0), at - max(step[x], step[x + 2]))
            out[1, q, x] += at


@kernel("f4[:,:,:,::1], i8[::1], i8, f4[:,:,::1], i8, i8")
def _sizes(steps, scales, finest, out, t0, t1):  # type: ignore[no-untyped-def]
    # Size of the step of each scale at each row, averaged along the line over as many rows as the strips are wide;
    # then, for the finest scales, how far it stands alone. out[kind, t, y] of steps[t, s, y, k]
    _, scaled, h, kinds = steps.shape
    total = np.empty(kinds - 1, np.float64)
    for t in range(t0, t1):
        for i in range(scaled):
            s = scales[i]
            first = (s // 2 + 1 - s) % h
            total[:] = 0
            y = first
            for _ in range(s):
                for k in range(kinds - 1):
                    total[k] += steps[t, i, y, k]
                y = y + 1 if y + 1 < h else 0
            for row in range(h):
                size = 0.0
                for k in range(kinds - 1):
                    size += total[k] * total[k]
                    total[k] += steps[t, i, y, k] - np.float64(steps[t, i, first, k])
                out[i, t, row] = np.sqrt(size) / s
                y = y + 1 if y + 1 < h else 0
                first = first + 1 if first + 1 < h else 0
        for i in range(finest):
            for row in range(h):
                out[scaled + i, t, row] = steps[t, i, row, kinds - 1]


@kernel("f4[:,::1], i8, f4[::1], f4[::1], i8, i8")
def _highest(strength, length, worst, running, t0, t1):  # type: ignore[no-untyped-def]
    # Highest mean over windows of a length, one figure a line; the running mean itself of the first line
    h = strength.shape[1]
    n = min(length, h)
    for t in range(t0, t1):
        total, most = 0.0, 0.0
        for y in range(n):
            total += strength[t, y]
        y = n % h
        for row in range(h):
            mean = total / n
            most = max(most, mean)
            if t == 0:
                running[row] = mean
            total += np.float64(strength[t, y]) - strength[t, row]
            y = y + 1 if y + 1 < h else 0
        worst[t] = most


def _worst(strength: Floats, length: int, task: Task) -> tuple[Floats, Floats]:
    worst, running = np.empty(strength.shape[0], np.float32), np.empty(strength.shape[1], np.float32)
    over_rows(strength.shape[0], partial(_highest, strength, length, worst, running), task, cost=strength.shape[1] * 2e-3)
    return worst, running


@dataclass(frozen=True)
class Line:
    """A line through a picture: its features, shape (H, W, K), and the line's column in every row."""

    planes: Floats
    columns: NDArray[np.int64]


def _kinds(steps: Floats, scales: NDArray[np.int64], task: Task) -> Floats:
    """Every kind of step by line and row, shape (kinds, T, H)."""
    finest = int((scales <= 2).sum())
    out = np.empty((len(scales) + finest, steps.shape[0], steps.shape[2]), np.float32)
    over_rows(steps.shape[0], partial(_sizes, steps, scales, finest, out), task, cost=steps.shape[2] * steps.shape[3] * 1e-2)
    return out


def _steps_at(line: Line, scales: NDArray[np.int64], task: Task) -> Floats:
    h, w, channels = line.planes.shape
    steps = np.empty((1, len(scales), h, 2 * channels + 1), np.float32)
    nowhere = np.zeros(1, np.int64)
    over_rows(h, lambda a, b: _steps(line.planes, line.columns, nowhere, scales, steps, a, b), task, cost=w * 1e-3)
    return steps


def _measure(
    planes: Floats,
    columns: NDArray[np.int64],
    seed: int,
    avoid: list[int],
    task: Task,
    strongest: NDArray[np.int64] | None = None,
    sources: Sequence[Line] = (),
) -> tuple[float, Floats]:
    h, w, channels = planes.shape
    scales = np.array([s for s in SCALES if 8 * s <= w] or [1], np.int64)
    keep_off = max(6, w // 64)
    offsets = np.arange(keep_off, w - keep_off)
    blocked = np.zeros(w, bool)
    for a in avoid:  # lines already known to be joins would spoil the comparison
        blocked[(a + np.arange(-keep_off, keep_off + 1)) % w] = True
    straight = int(columns.max() - columns.min()) <= 2
    if straight:
        offsets = offsets[~blocked[(int(columns[0]) + offsets) % w]]
    if len(offsets) > LINES:
        offsets = np.sort(np.random.default_rng(seed).choice(offsets, LINES, replace=False))
    natural = 0
    if straight and strongest is not None:
        known = strongest[~blocked[strongest]]
        natural = len(known)
        offsets = np.r_[offsets, (known - int(columns[0])) % w]
    offsets = np.r_[0, offsets].astype(np.int64)
    steps = np.empty((len(offsets), len(scales), h, 2 * channels + 1), np.float32)
    over_rows(h, lambda a, b: _steps(planes, columns, offsets, scales, steps, a, b), task, cost=w * 64 * channels * 1e-5)
    ratios, profiles = [], []
    kinds = _kinds(steps, scales, task)
    unjoined = [_kinds(_steps_at(line, scales, task), scales, task) for line in sources]
    for index, strength in enumerate(kinds):
        # Resampling leaves single rows that stand alone a little, beside many that do not: their whole range counts
        percentile = 95 if index < len(scales) else 100
        for part in WINDOWS:
            length = max(8, int(part * h))
            worst, running = _worst(strength, length, task)
            usual = float(np.percentile(worst[1 : len(worst) - natural], percentile)) if len(worst) > 1 else float(worst[0])
            # A path that follows a joint of the surface meets in the sources, too, what lies along that joint
            usual = max(usual, 1e-5, *(float(_worst(line[index], length, task)[0][0]) for line in unjoined))
            ratios.append(worst / usual)
            profiles.append(running / usual)
    figures = np.max(ratios, 0)
    usual, spread = _usual(figures[1:], natural) if len(figures) > 1 else (1.0, 1.0)
    along = np.max(profiles, 0)
    return float(_stretched(figures[0], usual, spread)), _stretched(along, usual, spread).astype(np.float32)


def _usual(figures: Floats, natural: int) -> tuple[float, float]:
    """What lines without a join reach, and their spread; the last ``natural`` are the strongest lines of the surface.

    One line in twenty lies above the 95th percentile by definition, and that of a hundred lines is itself uncertain.
    An untouched repeat must not be accused by chance, nor for having its border on a joint: the strongest natural line
    counts, too, and half a spread is added.
    """
    drawn = figures[: len(figures) - natural]
    middle, high = (float(v) for v in np.percentile(drawn if len(drawn) else figures, [50, 95]))
    spread = max(high - middle, 0.05 * high, 1e-5)
    return max(high, float(figures.max())) + 0.5 * spread, spread


def _stretched(figure: Any, usual: float, spread: float) -> Any:
    """Up to 1 the plain quotient; above it, how many spreads of the comparison beyond its 95th percentile."""
    return np.where(figure <= usual, figure / usual, 1 + (figure - usual) / spread)


@dataclass(frozen=True)
class _Lines:
    """Every straight line of a sheet, seen at its finest.

    Attributes
    ----------
    best : int
        The one away from the border whose steps stand most alone.
    distinct : float
        How far it stands out from the next.
    strongest : int array
        The strongest lines away from the border: natural ones, such as joints, that a join is compared with, too.
    """

    best: int
    distinct: float
    strongest: NDArray[np.int64]


def _lines(planes: Floats, task: Task) -> _Lines:
    h, w, _ = planes.shape
    bands = max(1, min(8, h // 64))
    parts = np.zeros((bands, 2, 4, w), np.float32)
    edges = np.linspace(0, h, bands + 1).astype(int)
    over_rows(bands, lambda a, b: [_all_lines(planes, parts[i], edges[i], edges[i + 1]) for i in range(a, b)], task, least=1)
    alone, size = parts.sum(0) / (h / 4)
    lines = np.maximum(alone.mean(0), 0.8 * np.partition(alone, 1, 0)[1])  # most of its length must show it
    border = max(4, w // 128)
    away = lines.copy()
    away[:border] = away[-border:] = 0
    best = int(away.argmax())
    others = away.copy()
    others[max(0, best - border) : best + border + 1] = 0
    plain = size.mean(0)
    plain[:border] = plain[-border:] = 0
    strongest = np.unique(np.r_[np.argsort(away)[-12:], np.argsort(plain)[-12:]])
    return _Lines(best, float(away[best] / max(others.max(), 1e-6)), strongest[(strongest >= border) & (strongest < w - border)])


def seam(
    image: Image,
    axis: str,
    *,
    planes: Floats | None = None,
    join: NDArray[np.int64] | None = None,
    search: bool = True,
    sources: Sequence[Line] = (),
    seed: int = 1,
    task: Task = IDLE,
) -> Seam:
    """How much the joins of a sheet show when it is repeated.

    Parameters
    ----------
    image : Image
        Any kind but ID, taken as a repeat whether or not it was made to be one.
    axis : str
        'x' for joins that run down (left meets right), 'y' for joins that run across.
    planes : array, shape (H, W, K), optional
        Its `features`, where they are known.
    join : int array, optional
        A known join: column (axis x) for every row, or row for every column. The tile border is always measured too.
    sources : sequence of Line
        The pictures that were joined, as they lie along the join (transposed for axis y): see `unjoined`.
    search : bool
        Look for a straight line at any position, too: a sheet may have been shifted. Left out when a join is known.

    Returns
    -------
    Seam

    Notes
    -----
    Across a line, the step between the means of strips 1 to 16 texels wide on either side and what that step lacks to
    the continuation predicted from both sides are averaged along the line over as many texels; their size, and at the
    finest widths how far the step exceeds its neighbours (a lens blurs every edge, a join none), is averaged in
    windows of the whole, a quarter and a sixteenth of the line. For each width and length the worst window is divided
    by the 95th percentile of the worst windows of the same line moved to places where nothing was joined; the largest
    quotient counts, and is held against what the moved lines reach by the same rule. So an untouched repeat stays at or
    under 1, whatever its content. Beyond 1 the excess is counted in spreads (95th percentile minus median) of the moved
    lines.

    >>> from silent_loom.core.base.images import Kind
    >>> sheet = Image(np.random.default_rng(1).random((128, 128, 3), np.float32), Kind.COLOUR, wraps=True)
    >>> seam(sheet, "x").figure < 1.1
    True
    """
    planes = features(image) if planes is None else planes
    if axis == "y":
        planes = _turned(planes)
    h, w, _ = planes.shape
    straight = np.zeros(h, np.int64)
    searched, figures = 0.0, []
    lines = _lines(planes, task) if min(h, w) >= 32 else _Lines(-1, 0.0, np.empty(0, np.int64))
    distinct = search and join is None and lines.distinct >= DISTINCT
    avoid = [0, lines.best] if distinct else [0]
    border, profile = _measure(planes, straight, seed, avoid, task, lines.strongest)
    figures.append(border)
    if distinct:
        searched, along = _measure(planes, np.full(h, lines.best, np.int64), seed, avoid, task, lines.strongest)
        figures.append(searched)
        profile = np.maximum(profile, along)
    if join is not None:
        curve, along = _measure(planes, np.asarray(join, np.int64) % w, seed, [0], task, sources=sources)
        figures.append(curve)
        profile = np.maximum(profile, along)
    return Seam(max(figures), border, searched, lines.best if searched else -1, profile)


def seams(
    image: Image,
    joins: tuple[NDArray[np.int64], NDArray[np.int64]] | None = None,
    *,
    open_sheet: Image | None = None,
    search: bool = True,
    task: Task = IDLE,
) -> tuple[Seam, Seam]:
    """`seam` across and down, side by side; with the sheet as it was before it was closed, joins are held against it.

    >>> from silent_loom.core.base.images import Kind
    >>> ramp = np.linspace(0.1, 0.9, 128, dtype=np.float32)
    >>> sheet = Image(np.ascontiguousarray(np.broadcast_to(ramp[None, :, None], (128, 128, 3))), Kind.COLOUR, wraps=True)
    >>> across, down = seams(sheet)
    >>> across.figure > 2, down.figure < 1.1
    (True, True)
    """
    jx, jy = joins or (None, None)
    sx: Sequence[Line] = ()
    sy: Sequence[Line] = ()
    if open_sheet is not None and jx is not None and jy is not None:
        sx, sy = unjoined(open_sheet, jx, jy, (image.width, image.height))
    planes = features(image)
    x, y = both(
        lambda: seam(image, "x", planes=planes, join=jx, sources=sx, search=search, task=task),
        lambda: seam(image, "y", planes=planes, join=jy, sources=sy, search=search, task=task),
    )
    return x, y


def unjoined(
    sheet: Image, across: NDArray[np.int64], down: NDArray[np.int64], keep: tuple[int, int]
) -> tuple[list[Line], list[Line]]:
    """Both pictures of each overlap along the joins, from the sheet before it was closed.

    Parameters
    ----------
    sheet : Image
        Overlaps included, at the pitch of the finished sheet.
    across, down : int arrays
        The joins: see `seam`.
    keep : tuple of int
        Width and height of the finished sheet.

    >>> from silent_loom.core.base.images import Kind
    >>> sheet = Image(np.full((64, 80, 3), 0.2, np.float32), Kind.COLOUR)
    >>> across, down = unjoined(sheet, np.full(64, 8), np.zeros(64, np.int64), (64, 64))
    >>> len(across), len(down)
    (2, 2)
    """
    reach = 2 * SCALES[-1]  # how far from a line anything is looked at
    w, h = keep

    def line(places: NDArray[np.int64], n: int, along: NDArray[np.int64], turned: bool) -> Line:
        beside = places[:, None] + np.arange(-reach, reach)
        beside = np.abs(beside)  # the picture goes on mirrored
        beside = np.minimum(beside, 2 * (n - 1) - beside).clip(0, n - 1)
        strip = sheet.pixels[beside, along[:, None]] if turned else sheet.pixels[along[:, None], beside]
        return Line(features(sheet, np.ascontiguousarray(strip)), np.full(len(places), reach, np.int64))

    rows, columns = np.minimum(np.arange(h), sheet.height - 1), np.minimum(np.arange(w), sheet.width - 1)
    xs = [line(across + shift, sheet.width, rows, False) for shift in (0, w)]
    return xs, [line(down + shift, sheet.height, columns, True) for shift in (0, h)]


def _turned(planes: Floats) -> Floats:
    """Rows and columns exchanged, block by block: whole rows at once would miss the cache with every sample."""
    h, w, k = planes.shape
    out = np.empty((w, h, k), planes.dtype)
    for y in range(0, h, 64):
        for x in range(0, w, 64):
            out[x : x + 64, y : y + 64] = planes[y : y + 64, x : x + 64].transpose(1, 0, 2)
    return out


def heat(image: Image, found: tuple[Seam, Seam], joins: tuple[NDArray[np.int64], NDArray[np.int64]] | None) -> Floats:
    """Where joins still show: the figure along each, spread a little to both sides, shape (H, W); 0 elsewhere.

    >>> from silent_loom.core.base.images import Kind
    >>> even = Image(np.full((64, 64, 3), 0.2, np.float32), Kind.COLOUR, wraps=True)
    >>> heat(even, seams(even, search=False), None).shape
    (64, 64)
    """
    h, w = image.height, image.width
    out = np.zeros((h, w), np.float32)
    lines_x = [np.zeros(h, np.int64), *([joins[0]] if joins else [])]
    lines_y = [np.zeros(w, np.int64), *([joins[1]] if joins else [])]
    for line in lines_x:
        np.maximum.at(out, (np.arange(h), line % w), found[0].profile[:h])
    for line in lines_y:
        np.maximum.at(out, (line % h, np.arange(w)), found[1].profile[:w])
    reach = max(1, w // 160)
    padded = np.pad(out, reach, mode="wrap")
    spread = ndimage.maximum_filter(padded, 2 * reach + 1)[reach:-reach, reach:-reach]
    return np.ascontiguousarray(spread, np.float32)
