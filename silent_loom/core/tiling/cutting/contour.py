"""What a cut between two pictures of one strip costs when what they show is to stay whole."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial

import cv2
import numpy as np

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import by_constants, inlined, kernel
from silent_loom.core.base.parallel import IDLE, Task, over_rows
from silent_loom.core.tiling.cutting.cut import Prices
from silent_loom.core.tiling.cutting.layers import Layers

LOOK = 6.0
"""Reach of the look to either side of the cut, in texels of `layers.FULL`; so are the lengths below."""
SKIP = 3.0
"""How far it begins on the other side of the cut: a blurred edge must be left behind whole."""
NEAR = 6.0
"""How far from a line a change of tone still belongs to it."""
QUIET = 1.5
"""Detail that differs by less than this, in terms of the usual difference, is grain: one is as good as the other …"""
GRAIN = 0.1
"""… and costs this part of its full price."""
BEYOND = 0.6
"""What detail that is no line costs on the side that fits less well, beside the other."""
END = 2.0
"""What a line costs that ends at the cut, beside a difference in other detail …"""
USUAL, THINNEST = 7.0, 3.0
"""… if it is as wide as this, and up to so many times as much where it is narrower: a hairline ends as visibly …"""
DOUBLE = 0.05
"""… what lines cost that stand close to each other on both sides of the cut …"""
HIDDEN = 1.0
"""… and what a line costs that is hidden close to it: a trace of it would shine through the blend."""
SLACK = 0.04
"""Steps of tone up to here are taken up by the blend, in features (a colour's are L*a*b* over 100)."""
STEP = 5.0
"""What a step of tone costs, beside a difference in detail."""


@inlined
def _gaps(one, other, at_one, at_other, count, channels, out):  # type: ignore[no-untyped-def]
    # Squared differences between two runs of places; places that are never negative, which would be asked of each of them
    step = np.uintp(channels)
    for i in range(count):
        out[np.uintp(i)] = 0
    for k in range(channels):
        p, q = np.uintp(at_one * channels + k), np.uintp(at_other * channels + k)
        for i in range(count):
            x = np.uintp(i)
            d = one[x * step + p] - other[x * step + q]
            out[x] += d * d


@kernel("f4[:,:,::1], f4[:,:,::1], f4[:,::1], i8, i8")
def _apart(first, second, out, y0, y1):  # type: ignore[no-untyped-def]
    n, channels = first.shape[1], first.shape[2]
    one, other = first.reshape(-1), second.reshape(-1)
    for y in range(y0, y1):
        _gaps(one, other, y * n, y * n, n, channels, out[y])


@kernel("f4[:,:,::1], f4[:,:,::1], f4[:,::1], f4[:,::1], f4, f4[:,::1], f4[:,::1], f4[:,::1], i8, i8")
def _differing(a, b, line_a, line_b, quiet, only_a, only_b, grain, y0, y1):  # type: ignore[no-untyped-def]
    n, channels = a.shape[1], a.shape[2]
    one, other, gap = a.reshape(-1), b.reshape(-1), np.empty(n, np.float32)
    for y in range(y0, y1):
        _gaps(one, other, y * n, y * n, n, channels, gap)
        for x in range(n):
            line = max(line_a[y, x], line_b[y, x])
            more = max(np.sqrt(gap[x]) - quiet, np.float32(0))
            only_a[y, x] = max(line_a[y, x] - line_b[y, x], np.float32(0)) * more * more
            only_b[y, x] = max(line_b[y, x] - line_a[y, x], np.float32(0)) * more * more
            grain[y, x] = (np.float32(1) - line) * more * more + np.float32(GRAIN) * gap[x]


@dataclass(frozen=True)
class Lines:
    """Lines as they count where they end, a texel wider to either side.

    Attributes
    ----------
    detail : array, shape (H, W, K)
    line : array, shape (H, W)
        0…1.
    price : array, shape (H, W)
        Of a line that ends here, beside a difference in other detail.
    """

    detail: Floats
    line: Floats
    price: Floats


@kernel("f4[:,:,::1], f4[:,::1], f4[:,::1], i8, i8")
def _strengths(detail, line, out, y0, y1):  # type: ignore[no-untyped-def]
    n, channels = detail.shape[1], detail.shape[2]
    one, none = detail.reshape(-1), np.zeros(n * channels, np.float32)
    for y in range(y0, y1):
        _gaps(one, none, y * n, 0, n, channels, out[y])
        for x in range(n):
            out[y, x] *= line[y, x] * line[y, x]


@kernel("f4[:,:,::1], f4[:,::1], f4[:,::1], b1, f4[:,:,::1], f4[:,::1], i8, i8")
def _widened(detail, line, strength, closed, out, out_line, y0, y1):  # type: ignore[no-untyped-def]
    h, w, channels = detail.shape
    most, where = np.empty(w, np.float32), np.empty(w, np.int32)
    for y in range(y0, y1):
        up = y - 1 if y > 0 else (h - 1 if closed else y)
        down = y + 1 if y + 1 < h else (0 if closed else y)
        for x in range(w):
            v, i = strength[y, x], y
            if strength[up, x] > v:
                v, i = strength[up, x], up
            if strength[down, x] > v:
                v, i = strength[down, x], down
            most[x], where[x] = v, i
        for x in range(w):
            v, j = most[x], x
            if x > 0 and most[x - 1] > v:
                v, j = most[x - 1], x - 1
            if x + 1 < w and most[x + 1] > v:
                v, j = most[x + 1], x + 1
            i = where[j]
            out_line[y, x] = line[i, j]
            for k in range(channels):
                out[y, x, k] = detail[i, j, k]


@kernel("f4[:,::1], f4, f4[:,::1], i8, i8")
def _ending(width, wide, out, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(out.shape[1]):
            times = wide / max(width[y, x], np.float32(1e-3))
            out[y, x] = np.float32(END) * min(max(times, np.float32(1)), np.float32(THINNEST))


def lines_of(side: Layers, scale: float, closed: bool, task: Task = IDLE) -> Lines:
    """Lines a texel wider to either side, by the strongest detail next to each place, and what it costs to end them.

    Notes
    -----
    A path parts texels that share a side. A line of a texel's width that runs askew passes through a corner of such a
    path between them, and would end there for nothing; wider by a texel it cannot. How wide a line is follows from how
    much of the area around it is line.

    >>> from silent_loom.core.tiling.cutting.layers import layers_of
    >>> even = layers_of(np.full((32, 32, 1), 0.5, np.float32), 1.0)
    >>> float(np.abs(lines_of(even, 1.0, False).detail).max())
    0.0
    """
    h = len(side.line)
    strength, price = np.empty_like(side.line), np.empty_like(side.line)
    detail, line = np.empty_like(side.detail), np.empty_like(side.line)
    over_rows(h, partial(_strengths, side.detail, side.line, strength), task)
    over_rows(h, partial(_widened, side.detail, side.line, strength, closed, detail, line), task)
    near = min(_near(scale), h)
    around = 2 * near + 1
    wrapped = np.concatenate([side.line[-near:], side.line, side.line[:near]]) if closed else side.line
    width = cv2.blur(wrapped, (around, around))
    over_rows(h, partial(_ending, width[near:] if closed else width, np.float32(USUAL * scale / around), price), task)
    return Lines(detail, line, price)


def _near(scale: float) -> int:
    return max(1, round(NEAR * scale))


@kernel("f4[:,::1], f4, i8, f4[:,::1], f4[:,::1], i8, i8")
def _aside(unlike, keep, skip, left, right, y0, y1):  # type: ignore[no-untyped-def]
    # Before column c: how unlike both pictures are to the left of it, nearest first; and to the right
    n = unlike.shape[1]
    gain = np.float32(1) - keep
    for y in range(y0, y1):
        v = unlike[y, 0]
        for c in range(n + 1 + skip):
            if 0 < c <= n:
                v = keep * v + gain * unlike[y, c - 1]
            if c >= skip:
                left[y, c - skip] = v
        v = unlike[y, n - 1]
        for c in range(n, -1 - skip, -1):
            if 0 <= c < n:
                v = keep * v + gain * unlike[y, c]
            if c + skip <= n:
                right[y, c + skip] = v


@inlined
def _faded_in(values, at, keep, gain, x0, v):  # type: ignore[no-untyped-def]
    first = np.uintp(at * values.shape[1] + x0)
    row = values.reshape(-1)
    for i in range(len(v)):
        x = np.uintp(i)
        v[x] = keep * v[x] + gain * row[x + first]


@kernel("f4[:,::1], f4, i8, i8, f4[:,::1], f4[:,::1], i8, i8")
def _above(unlike, keep, skip, start, up, down, x0, x1):  # type: ignore[no-untyped-def]
    # Below row y: how unlike both pictures are above that place, and below it. The rows before the first one are the last
    # ones where the strip is closed (start < 0), else the first one again.
    h = unlike.shape[0]
    gain = np.float32(1) - keep
    closed = start < 0
    v = unlike[start % h, x0:x1].copy()
    for y in range(start, h + skip):
        if y < h or closed:
            _faded_in(unlike, y % h, keep, gain, x0, v)
        if y >= skip:
            for i in range(x1 - x0):
                up[y - skip, x0 + i] = v[i]
    for i in range(x1 - x0):
        v[i] = unlike[(h - 1 - start) % h, x0 + i]
    for y in range(h - 1 - start, -1 - skip, -1):
        if 0 <= y + skip < h:
            for i in range(x1 - x0):
                down[y + skip, x0 + i] = v[i]
        if y >= 0 or closed:
            _faded_in(unlike, y % h, keep, gain, x0, v)


@inlined
def _gather(line_b, line_a, at_b, at_a, close, count, met):  # type: ignore[no-untyped-def]
    # The strongest line so far around a row of places, and those of either picture that lines of the other run into
    line, met_a, met_b = met
    at_b, at_a = np.uintp(at_b), np.uintp(at_a)
    for i in range(count):
        x = np.uintp(i)
        b, a = line_b[x + at_b], line_a[x + at_a]
        line[x] = max(line[x], max(a, b))
        met_a[x], met_b[x] = max(met_a[x], close * b), max(met_b[x], close * a)


@inlined
def _closeness(k, near):  # type: ignore[no-untyped-def]
    return max(np.float32(1) - np.float32(2 * k) / np.float32(near), np.float32(0))


@inlined
def _beside(one, other, grain, at, count, price, first):  # type: ignore[no-untyped-def]
    # Before the cut b is shown, behind it a: lines that are hidden right there, lines that are shown on both sides, and
    # other detail, which has to fit on both sides, though less on one of them
    shown_b, hidden_b = other
    hidden_a, shown_a = one
    left, right = grain
    at, first = np.uintp(at), np.uintp(first)
    for i in range(count):
        x = np.uintp(i)
        double = min(shown_b[x + at], shown_a[x + at])
        price[x + first] = np.float32(HIDDEN) * (hidden_a[x + at] + hidden_b[x + at]) + np.float32(DOUBLE) * double
    for i in range(count):
        x = np.uintp(i)
        low, high = min(left[x + at], right[x + at]), max(left[x + at], right[x + at])
        price[x + first] += low + np.float32(BEYOND) * high + np.float32(1e-6)


@inlined
def _ended(wide, price_of, details, here, there, met, count, price, first):  # type: ignore[no-untyped-def]
    # Lines shown here that would go on there in their own picture, do not in the other, and run into nothing behind the cut
    here, there, first = np.uintp(here), np.uintp(there), np.uintp(first)
    for i in range(count):
        x = np.uintp(i)
        p, q, c = x + here, x + there, x + first
        price[c] += price_of[p] * wide[p] * wide[q] * details[q] * (np.float32(1) - met[c])


@inlined
def _also_there(tones, hidden, own, there, count, shown, most, first):  # type: ignore[no-untyped-def]
    # A change of tone counts as far as neither picture makes it by itself, and not by a line that is hidden. Both pictures
    # are that far apart at one place: how far one of them is from what is shown there.
    there, first = np.uintp(there), np.uintp(first)
    for i in range(count):
        x = np.uintp(i)
        q, c = x + there, x + first
        by_line = max(hidden[q] - own[q], np.float32(0))
        most[c] = min(most[c], tones[q] + by_line * shown[c])


@inlined
def _stepped(most, line, count, price, first):  # type: ignore[no-untyped-def]
    first = np.uintp(first)
    for i in range(count):
        c = np.uintp(i) + first
        more = max(np.sqrt(most[c]) - np.float32(SLACK), np.float32(0))
        price[c] += np.float32(STEP) * more * more * (np.float32(1) - line[c])


@by_constants
def _parting(b, a, apart, at_b, at_a, beside, at_beside, met, scratch, count, price, first):  # type: ignore[no-untyped-def]
    # What it costs to show b in a run of places and a beside each of them. In many short loops: one that reads many arrays
    # does not become vector code.
    base_b, line_b, wide_b, price_b = b
    base_a, line_a, wide_a, price_a = a
    tones, details = apart
    one, other, grain = beside
    line, met_a, met_b = met
    shown, most = scratch
    _beside(one, other, grain, at_beside, count, price, first)
    _ended(wide_b, price_b, details, at_b, at_a, met_b, count, price, first)
    _ended(wide_a, price_a, details, at_a, at_b, met_a, count, price, first)
    _gaps(base_b, base_a, at_b, at_a, count, len(base_b) // len(line_b), shown[first:])
    for i in range(first, first + count):
        most[i] = shown[i]
    _also_there(tones, line_b, line_a, at_a, count, shown, most, first)
    _also_there(tones, line_a, line_b, at_b, count, shown, most, first)
    _stepped(most, line, count, price, first)


@kernel(
    "UniTuple(f4[::1], 4), UniTuple(f4[::1], 4), UniTuple(f4[::1], 2), UniTuple(UniTuple(f4[::1], 2), 3), i8, f4[:,::1], i8, i8",
)
def _across(b, a, apart, beside, near, out, y0, y1):  # type: ignore[no-untyped-def]
    # Between columns c − 1, which shows b, and c, which shows a; at the borders between a column and itself
    n = out.shape[1] - 1
    line_b, line_a = b[1], a[1]
    met = np.empty(n + 1, np.float32), np.empty(n + 1, np.float32), np.empty(n + 1, np.float32)
    scratch = np.empty(n + 1, np.float32), np.empty(n + 1, np.float32)
    before, behind = np.empty(n + 1 + near, np.float32), np.empty(n + 1 + near, np.float32)
    for y in range(y0, y1):
        start = y * n
        for c in range(n + 1 + near):
            before[c], behind[c] = line_b[start + min(max(c - near, 0), n - 1)], line_a[start + min(c, n - 1)]
        for each in met:
            each[:] = 0
        for k in range(near):
            _gather(before, behind, near - 1 - k, k, _closeness(k, near), n + 1, met)
        row, end = out[y], start + n - 1
        at = y * (n + 1)
        _parting(b, a, apart, start, start, beside, at, met, scratch, 1, row, 0)
        _parting(b, a, apart, start, start + 1, beside, at + 1, met, scratch, n - 1, row, 1)
        _parting(b, a, apart, end, end, beside, at + n, met, scratch, 1, row, n)


@kernel(
    "UniTuple(f4[::1], 4), UniTuple(f4[::1], 4), UniTuple(f4[::1], 2), UniTuple(UniTuple(f4[::1], 2), 3), i8, "
    "b1, f4[:,::1], i8, i8",
)
def _along(b, a, apart, beside, near, closed, out, y0, y1):  # type: ignore[no-untyped-def]
    # Between row y, which shows b, and the one below it, which shows a
    h, n = out.shape[0], out.shape[1] - 1
    line_b, line_a = b[1], a[1]
    met = np.empty(n, np.float32), np.empty(n, np.float32), np.empty(n, np.float32)
    scratch = np.empty(n, np.float32), np.empty(n, np.float32)
    for y in range(y0, y1):
        z = y + 1 if y + 1 < h else (0 if closed else y)
        for each in met:
            each[:] = 0
        for k in range(near):
            i, j = y - k, z + k
            i = (i + h if closed else 0) if i < 0 else i
            j = (j - h if closed else h - 1) if j >= h else j
            _gather(line_b, line_a, max(i, 0) * n, min(j, h - 1) * n, _closeness(k, near), n, met)
        _parting(b, a, apart, y * n, z * n, beside, y * n, met, scratch, n, out[y], 0)
        out[y, n] = out[y, n - 1]


def quiet_below(first: Layers, second: Layers, task: Task = IDLE) -> float:
    """Difference in detail up to which it is grain; by the usual one, whatever lies on top of each other.

    >>> from silent_loom.core.tiling.cutting.layers import layers_of
    >>> even = layers_of(np.full((32, 32, 1), 0.5, np.float32), 1.0)
    >>> quiet_below(even, even) >= 0
    True
    """
    gap = np.empty(first.line.shape, np.float32)
    over_rows(len(gap), partial(_apart, first.detail, second.detail, gap), task)
    return QUIET * float(np.sqrt(np.median(gap)))


def contour_prices(
    first: Layers,
    second: Layers,
    scale: float,
    closed: bool,
    task: Task = IDLE,
    *,
    quiet: float | None = None,
    lines: tuple[Lines, Lines] | None = None,
) -> Prices:
    """Price of parting neighbouring texels so that nothing shown looks cut through.

    Parameters
    ----------
    first, second : Layers
        The two pictures of the strip, as `cut.lowest_cut` lays them: the second left of the path, the first right of it.
    scale : float
        Longer side of the whole sheet over `FULL`.
    closed : bool
        The last row continues at the first one.
    quiet : float, optional
        See `quiet_below`, where it is known.
    lines : tuple of Lines, optional
        Of `lines_of`, where they are known.

    Notes
    -----
    By how far both pictures differ at the cut (Kwatra et al. 2003), a crack of one that is kept beside a plain plate of the
    other costs as much as one that ends there, and a way through the middle of two plates is the cheapest. What an eye
    minds is another matter, and so is what is counted here:

    - A line (joint, crack, rib) costs where it reaches the cut, would go on in its own picture, and does not in the other.
      The less, the closer behind the cut a line of the other is that it runs into. A hairline costs about as much as a
      joint (`lines_of`).
      It may be kept along the cut beside whatever follows, and lines that run into each other there make a fork, as
      cracks and joints do everywhere. A line that is hidden close to the cut costs a little, as a blend would let a trace
      of it through, and so do two that are shown close together on both sides of it, which would look doubled.
    - Other detail is compared to either side of the cut, weighted less with distance. It needs to go on in one of both
      pictures, and counts less on the side that fits less well.
    - A step in tone costs where the cut makes one, that is where neither picture has it there by itself and no line lies
      between: stones differ beyond a joint.

    The parts are told from each other by a median (`layers_of`).

    >>> from silent_loom.core.tiling.cutting.layers import layers_of
    >>> even = layers_of(np.full((32, 32, 1), 0.5, np.float32), 1.0)
    >>> [p.shape for p in contour_prices(even, even, 1.0, False)][:2]
    [(32, 33), (32, 33)]
    """
    h, n = first.line.shape
    only_first, only_second, grain = (np.empty((h, n), np.float32) for _ in range(3))
    below = np.float32(quiet_below(first, second, task) if quiet is None else quiet)
    over_rows(
        h, partial(_differing, first.detail, second.detail, first.line, second.line, below, only_first, only_second, grain), task
    )
    keep, skip = np.float32(np.exp(-1 / (LOOK * scale))), round(SKIP * scale)
    near = _near(scale)
    lines = lines or (lines_of(first, scale, closed, task), lines_of(second, scale, closed, task))
    one, other = (
        (side.base.ravel(), side.line.ravel(), line.line.ravel(), line.price.ravel())
        for side, line in zip((first, second), lines, strict=True)
    )
    tones, details = np.empty((h, n), np.float32), np.empty((h, n), np.float32)
    over_rows(h, partial(_apart, first.base, second.base, tones), task)
    over_rows(h, partial(_apart, lines[0].detail, lines[1].detail, details), task)
    apart = tones.ravel(), details.ravel()
    start = -min(h - 1, int(4 * LOOK * scale) + skip + 1) if closed else 0
    aside, above = [], []
    for unlike, begin in ((only_first, 0), (only_second, 0), (grain, skip)):
        left, right = np.empty((h, n + 1), np.float32), np.empty((h, n + 1), np.float32)
        up, down = np.empty((h, n), np.float32), np.empty((h, n), np.float32)
        over_rows(h, partial(_aside, unlike, keep, min(begin, n), left, right), task)
        over_rows(n, partial(_above, unlike, keep, min(begin, h - 1), start, up, down), task)
        aside.append((left.ravel(), right.ravel()))
        above.append((up.ravel(), down.ravel()))
    across, rightward, leftward = (np.empty((h, n + 1), np.float32) for _ in range(3))
    over_rows(h, partial(_across, other, one, apart, tuple(aside), near, across), task)
    # Going right, the row above shows the first picture where the one below shows the second
    over_rows(h, partial(_along, one, other, apart, (above[1], above[0], above[2]), near, closed, rightward), task)
    over_rows(h, partial(_along, other, one, apart, tuple(above), near, closed, leftward), task)
    return Prices(across, rightward, leftward)
