"""What a cut between two pictures of one strip costs when what they show is to stay whole."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial

import cv2
import numpy as np

from silent_loom.core.images import Floats
from silent_loom.core.kernels import inlined, kernel
from silent_loom.core.parallel import IDLE, Task, both, over_rows
from silent_loom.core.tiling.cut import Prices

FULL = 1024
"""Texels along the longer side of the sheet to which the lengths below belong."""
WINDOW = 31
"""Lines and spots narrower than half of this are detail; what is wider is tone."""
LOOK = 6.0
"""Reach of the look to either side of the cut."""
SKIP = 3.0
"""How far it begins on the other side of the cut: a blurred edge must be left behind whole."""
NEAR = 6.0
"""How far from a line a change of tone still belongs to it."""
LINE = (3.0, 6.0)
"""How much stronger than usual detail is where it begins to be a line, and where it is nothing else."""
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


@kernel
def _kept(planes, base, usual, detail, line, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(planes.shape[1]):
            total = np.float32(0)
            for k in range(planes.shape[2]):
                d = planes[y, x, k] - base[y, x, k]
                detail[y, x, k] = d
                total += d * d
            t = (np.sqrt(total) / usual - np.float32(LINE[0])) / np.float32(LINE[1] - LINE[0])
            t = min(max(t, np.float32(0)), np.float32(1))
            line[y, x] = t * t * (np.float32(3) - np.float32(2) * t)


@dataclass(frozen=True)
class Layers:
    """Features taken apart: broad tone that keeps its edges, detail, and where detail is a line.

    Attributes
    ----------
    base, detail : arrays, shape (H, W, K)
        Their sum is the features.
    line : array, shape (H, W)
        0…1.
    """

    base: Floats
    detail: Floats
    line: Floats

    def part(self, columns: slice) -> Layers:
        return Layers(*(np.ascontiguousarray(a[:, columns]) for a in (self.base, self.detail, self.line)))

    def turned(self) -> Layers:
        return Layers(*(np.ascontiguousarray(a.swapaxes(0, 1)) for a in (self.base, self.detail, self.line)))


def window_at(scale: float) -> int:
    """Texels that the median looks at each way, odd."""
    return max(3, round(WINDOW * scale) | 1)


def layers_of(planes: Floats, scale: float, toned: int | None = None, task: Task = IDLE) -> Layers:
    """Take features apart.

    Parameters
    ----------
    planes : array, shape (H, W, K)
    scale : float
        Longer side of their whole sheet over `FULL`.
    toned : int, optional
        How many of the first planes have a tone; what is left is all detail. All of them unless told.

    Notes
    -----
    The median of a window removes whatever covers less than half of it and leaves the border between two areas where it is,
    which no linear filter does (Tukey, Exploratory Data Analysis, 1977): joints and cracks become detail, stones keep their
    tone up to the joint.
    """
    side = window_at(scale)
    base = np.zeros_like(planes)

    def smooth(k: int) -> None:
        plane = planes[..., k]
        low, high = float(plane.min()), float(plane.max())
        span = high - low or 1.0
        codes = np.rint((plane - low) * np.float32(255 / span)).astype(np.uint8)
        base[..., k] = cv2.medianBlur(codes, side) * np.float32(span / 255) + np.float32(low)

    with_tone = range(planes.shape[2] if toned is None else toned)
    if with_tone:
        both(*(partial(smooth, k) for k in with_tone))
    detail, line = np.empty_like(planes), np.empty(planes.shape[:2], np.float32)
    rough = np.sqrt(np.square(planes[::4, ::4] - base[::4, ::4]).sum(2))
    usual = np.float32(float(np.median(rough)) / 1.18 + 1e-4)  # the median length of two Gaussian numbers, to their deviation
    over_rows(len(planes), partial(_kept, planes, base, usual, detail, line), task)
    return Layers(base, detail, line)


@kernel
def _differing(a, b, line_a, line_b, quiet, only_a, only_b, grain, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(a.shape[1]):
            total = np.float32(0)
            for k in range(a.shape[2]):
                d = a[y, x, k] - b[y, x, k]
                total += d * d
            line = max(line_a[y, x], line_b[y, x])
            more = max(np.sqrt(total) - quiet, np.float32(0))
            only_a[y, x] = max(line_a[y, x] - line_b[y, x], np.float32(0)) * more * more
            only_b[y, x] = max(line_b[y, x] - line_a[y, x], np.float32(0)) * more * more
            grain[y, x] = (np.float32(1) - line) * more * more + np.float32(GRAIN) * total


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


@kernel
def _strengths(detail, line, out, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(line.shape[1]):
            total = np.float32(0)
            for k in range(detail.shape[2]):
                total += detail[y, x, k] * detail[y, x, k]
            out[y, x] = line[y, x] * line[y, x] * total


@kernel
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


@kernel
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


@kernel
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


@kernel
def _above(unlike, keep, skip, start, up, down, x0, x1):  # type: ignore[no-untyped-def]
    # Below row y: how unlike both pictures are above that place, and below it. The rows before the first one are the last
    # ones where the strip is closed (start < 0), else the first one again.
    h = unlike.shape[0]
    gain = np.float32(1) - keep
    closed = start < 0
    v = unlike[start % h, x0:x1].copy()
    for y in range(start, h + skip):
        if y < h or closed:
            at = y % h
            for x in range(x0, x1):
                v[x - x0] = keep * v[x - x0] + gain * unlike[at, x]
        if y >= skip:
            for x in range(x0, x1):
                up[y - skip, x] = v[x - x0]
    v[:] = unlike[(h - 1 - start) % h, x0:x1]
    for y in range(h - 1 - start, -1 - skip, -1):
        if 0 <= y + skip < h:
            for x in range(x0, x1):
                down[y + skip, x] = v[x - x0]
        if y >= 0 or closed:
            at = y % h
            for x in range(x0, x1):
                v[x - x0] = keep * v[x - x0] + gain * unlike[at, x]


@kernel
def _apart(first, second, out, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(out.shape[1]):
            total = np.float32(0)
            for k in range(first.shape[2]):
                d = first[y, x, k] - second[y, x, k]
                total += d * d
            out[y, x] = total


@inlined
def _step(shown, apart_there, apart_here, hidden_here, hidden_there):  # type: ignore[no-untyped-def]
    # The change of tone from here to there, both shown, unless either picture makes the same one by itself, and not by a
    # line that is hidden. Both pictures are that far apart at one place: how far one of them is from what is shown there.
    if shown <= np.float32(SLACK * SLACK):
        return np.float32(0)
    first, second = apart_there + hidden_here * shown, apart_here + hidden_there * shown
    more = max(np.sqrt(min(shown, min(first, second))) - np.float32(SLACK), np.float32(0))
    return np.float32(STEP) * more * more


@inlined
def _at_cut(base_a, base_b, line_a, line_b, ends_a, ends_b, apart, y, x, v, u):  # type: ignore[no-untyped-def]
    # Between b shown at (y, x) and a shown beside it at (v, u): what lines of b and of a cost that end there, which are
    # shown, would go on in their own picture, and do not; and a step
    wide_a, price_a = ends_a
    wide_b, price_b = ends_b
    tones, details = apart
    end_b = price_b[y, x] * wide_b[y, x] * wide_b[v, u] * details[v, u]
    end_a = price_a[v, u] * wide_a[v, u] * wide_a[y, x] * details[y, x]
    shown = np.float32(0)
    for k in range(base_a.shape[2]):
        d = base_b[y, x, k] - base_a[v, u, k]
        shown += d * d
    hidden_b = max(line_b[v, u] - line_a[v, u], np.float32(0))
    hidden_a = max(line_a[y, x] - line_b[y, x], np.float32(0))
    return end_b, end_a, _step(shown, tones[v, u], tones[y, x], hidden_b, hidden_a)


@inlined
def _beside(lines_a, lines_b, grain, y, x):  # type: ignore[no-untyped-def]
    # Before the cut b is shown, behind it a: lines that are hidden right there, lines that are shown on both sides, and
    # other detail, which has to fit on both sides, though less on one of them
    hidden = lines_a[0][y, x] + lines_b[1][y, x]
    double = min(lines_b[0][y, x], lines_a[1][y, x])
    low, high = min(grain[0][y, x], grain[1][y, x]), max(grain[0][y, x], grain[1][y, x])
    return np.float32(HIDDEN) * hidden + np.float32(DOUBLE) * double + low + np.float32(BEYOND) * high


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
def _priced(price, ends, met, x):  # type: ignore[no-untyped-def]
    line, met_a, met_b = met
    end_b, end_a, step = ends
    more = step * (np.float32(1) - line[x]) + end_b * (np.float32(1) - met_b[x]) + end_a * (np.float32(1) - met_a[x])
    return price + more + np.float32(1e-6)


@inlined
def _closeness(k, near):  # type: ignore[no-untyped-def]
    return max(np.float32(1) - np.float32(2 * k) / np.float32(near), np.float32(0))


@kernel
def _across(base_a, base_b, line_a, line_b, ends_a, ends_b, apart, lines_a, lines_b, grain, near, out, y0, y1):  # type: ignore[no-untyped-def]
    n = base_a.shape[1]
    met = np.empty(n + 1, np.float32), np.empty(n + 1, np.float32), np.empty(n + 1, np.float32)
    before, behind = np.empty(n + 1 + near, np.float32), np.empty(n + 1 + near, np.float32)
    for y in range(y0, y1):
        for c in range(n + 1 + near):
            before[c], behind[c] = line_b[y, min(max(c - near, 0), n - 1)], line_a[y, min(c, n - 1)]
        for each in met:
            each[:] = 0
        for k in range(near):
            _gather(before, behind, near - 1 - k, k, _closeness(k, near), n + 1, met)
        for c in range(n + 1):
            i, j = max(c - 1, 0), min(c, n - 1)
            ends = _at_cut(base_a, base_b, line_a, line_b, ends_a, ends_b, apart, y, i, y, j)
            out[y, c] = _priced(_beside(lines_a, lines_b, grain, y, c), ends, met, c)


@kernel
def _along(base_a, base_b, line_a, line_b, ends_a, ends_b, apart, lines_a, lines_b, grain, near, closed, out, y0, y1):  # type: ignore[no-untyped-def]
    # Between row y, which shows b, and the one below it, which shows a
    h, n = line_a.shape
    met = np.empty(n, np.float32), np.empty(n, np.float32), np.empty(n, np.float32)
    for y in range(y0, y1):
        z = y + 1 if y + 1 < h else (0 if closed else y)
        for each in met:
            each[:] = 0
        for k in range(near):
            i, j = y - k, z + k
            i = (i + h if closed else 0) if i < 0 else i
            j = (j - h if closed else h - 1) if j >= h else j
            _gather(line_b[max(i, 0)], line_a[min(j, h - 1)], 0, 0, _closeness(k, near), n, met)
        for x in range(n):
            ends = _at_cut(base_a, base_b, line_a, line_b, ends_a, ends_b, apart, y, x, z, x)
            out[y, x] = _priced(_beside(lines_a, lines_b, grain, y, x), ends, met, x)
        out[y, n] = out[y, n - 1]


def quiet_below(first: Layers, second: Layers) -> float:
    """Difference in detail up to which it is grain; by the usual one, whatever lies on top of each other."""
    gap = np.sqrt(np.square(first.detail - second.detail).sum(2))
    return QUIET * float(np.median(gap))


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
    """
    h, n = first.line.shape
    only_first, only_second, grain = (np.empty((h, n), np.float32) for _ in range(3))
    below = np.float32(quiet_below(first, second) if quiet is None else quiet)
    over_rows(
        h, partial(_differing, first.detail, second.detail, first.line, second.line, below, only_first, only_second, grain), task
    )
    keep, skip = np.float32(np.exp(-1 / (LOOK * scale))), round(SKIP * scale)
    near = _near(scale)
    lines = lines or (lines_of(first, scale, closed, task), lines_of(second, scale, closed, task))
    ends_1, ends_2 = ((each.line, each.price) for each in lines)
    tones, details = np.empty((h, n), np.float32), np.empty((h, n), np.float32)
    over_rows(h, partial(_apart, first.base, second.base, tones), task)
    over_rows(h, partial(_apart, lines[0].detail, lines[1].detail, details), task)
    start = -min(h - 1, int(4 * LOOK * scale) + skip + 1) if closed else 0
    one = (first.base, second.base, first.line, second.line, ends_1, ends_2, (tones, details))
    other = (second.base, first.base, second.line, first.line, ends_2, ends_1, (tones, details))
    aside, above = [], []
    for unlike, begin in ((only_first, 0), (only_second, 0), (grain, skip)):
        left, right = np.empty((h, n + 1), np.float32), np.empty((h, n + 1), np.float32)
        up, down = np.empty((h, n), np.float32), np.empty((h, n), np.float32)
        over_rows(h, partial(_aside, unlike, keep, min(begin, n), left, right), task)
        over_rows(n, partial(_above, unlike, keep, min(begin, h - 1), start, up, down), task)
        aside.append((left, right))
        above.append((up, down))
    across, rightward, leftward = (np.empty((h, n + 1), np.float32) for _ in range(3))
    over_rows(h, partial(_across, *one, aside[0], aside[1], aside[2], near, across), task)
    # Going right, the row above shows the first picture where the one below shows the second
    over_rows(h, partial(_along, *other, above[1], above[0], above[2], near, closed, rightward), task)
    over_rows(h, partial(_along, *one, above[0], above[1], above[2], near, closed, leftward), task)
    return Prices(across, rightward, leftward)
