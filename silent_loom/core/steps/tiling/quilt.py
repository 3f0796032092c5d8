"""Grow: a larger sheet that does not repeat, quilted from overlapping pieces of the photo."""

from __future__ import annotations

import math
from collections.abc import Mapping
from functools import partial
from typing import Any, Literal

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.kernels import inlined, kernel
from silent_loom.core.base.lazy_modules import later
from silent_loom.core.base.parallel import WORKERS, Task, over_rows
from silent_loom.core.look.features import features
from silent_loom.core.moving.resample import blur, reduce_area
from silent_loom.core.moving.slopes import normals_of, slopes_of
from silent_loom.core.tiling.cutting.cut import edge_prices, lowest_cut
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, setting
from silent_loom.core.weave.step import CarryStep, Geometry, Sheet, Sources, Texels

fft = later("scipy.fft")

SIDES = ("left", "top", "right", "bottom")


class QuiltSettings(Settings):
    times_x: float = setting(
        2.0, "How many times as wide as what comes in.", title="Times across", low=0.5, high=8, step=0.1, soft=(1, 4)
    )
    times_y: float = setting(
        2.0, "How many times as high as what comes in.", title="Times down", low=0.5, high=8, step=0.1, soft=(1, 4)
    )
    piece: float = setting(
        0.4,
        "Width of a piece: wider than the largest thing that must stay whole.",
        unit="of the shorter side",
        low=0.1,
        high=0.8,
        step=0.01,
    )
    overlap: float = setting(0.3, "Part of a piece that its neighbour overlaps.", low=0.1, high=0.45, step=0.01)
    freedom: float = setting(
        0.15,
        "How much worse than the best fit a piece may fit; the more, the less of the photo is seen twice.",
        title="Variety",
        low=0,
        high=1,
        step=0.01,
    )
    seed: int = setting(7, "Another seed, another arrangement.", low=0, high=1_000_000, soft=(0, 100))


class Quilt(CarryStep[QuiltSettings]):
    """Pieces that fit those before them, parted along the lowest-error cuts; the sheet closes on itself.

    Notes
    -----
    Image quilting (Efros & Freeman 2001) on a ring both ways: every piece is chosen among all places of the photo by how well
    it fits what lies there already (by correlation, so all places are tried), those used before and those that would only
    go on with a neighbour counting less, and is cut free along the paths of least error. Pieces are only shifted: heights
    stay what they are, normals need no turning. Broad tone goes over along the cut more softly than detail (Burt &
    Adelson 1983). The same pieces and paths serve every thread.

    References
    ----------
    Efros & Freeman, Image quilting for texture synthesis and transfer, SIGGRAPH 2001. Burt & Adelson, A multiresolution
    spline with application to image mosaics, TOG 2, 1983.
    """

    name = "quilt"
    can = frozenset({"grow"})
    title = "Grow"
    words_for_it = ("larger", "bigger", "sheet", "extend", "more")
    sentence = "Makes a larger sheet without repetition from overlapping pieces of what comes in; its edges meet."
    decides = True
    decision_scale = 0.5
    Settings = QuiltSettings

    def words(self, s: QuiltSettings) -> str:
        return f"{s.times_x:.3g} × {s.times_y:.3g} times"

    def works_on(self, s: QuiltSettings) -> Literal["both", "sheet", "model"]:
        return "sheet"

    def geometry(self, s: QuiltSettings, before: Geometry, sources: Sources) -> Geometry:
        return Geometry((before.size_mm[0] * s.times_x, before.size_mm[1] * s.times_y), True)

    def demand(self, s: QuiltSettings, before: Geometry, after: Geometry, texels: Texels) -> Texels:
        return max(1.0, texels[0] / s.times_x), max(1.0, texels[1] / s.times_y)

    def decide(self, s: QuiltSettings, inputs: Mapping[str, Image], geometry: Geometry, task: Task) -> Decision:
        planes = np.concatenate([features(i) for i in inputs.values() if i.kind is not Kind.ID], 2)
        arrays = quilted(planes, s, geometry.wraps, task)
        return Decision(arrays, {"pieces": len(arrays["pieces"])})

    def carry(self, s: QuiltSettings, image: Image, decision: Decision, sheet: Sheet, task: Task) -> Image:
        values = slopes_of(image.pixels, task) if image.kind is Kind.NORMAL else image.pixels
        out = laid(values, decision.arrays, sheet.width, sheet.height, image.kind is Kind.ID, task)
        return Image(normals_of(out, task) if image.kind is Kind.NORMAL else out, image.kind, sheet.size_mm, True)


class _Search:
    """Sum of squared differences between a piece of the new sheet and every place of the photo, by correlation."""

    def __init__(self, planes: Floats, piece: int, wraps: bool) -> None:
        h, w, _ = planes.shape
        self.wraps, self.piece = wraps, piece
        self.shape = (h, w) if wraps else (fft.next_fast_len(h, real=True), fft.next_fast_len(w, real=True))
        self.rows, self.columns = (h, w) if wraps else (h - piece + 1, w - piece + 1)
        self.planes = [self._turned(planes[..., k]) for k in range(planes.shape[2])]
        self.squares = self._turned(np.square(planes).sum(2))

    def _turned(self, plane: Floats) -> NDArray[np.complex64]:
        out: NDArray[np.complex64] = fft.rfft2(plane.astype(np.float32), self.shape, workers=WORKERS)
        return out

    def errors(self, there: Floats, known: NDArray[np.bool_]) -> Floats:
        """For every place the piece may be taken from; mean over what is known."""
        weight = known.astype(np.float32)
        total = self.squares * np.conj(self._turned(weight))
        for k, plane in enumerate(self.planes):
            total -= 2 * plane * np.conj(self._turned(there[..., k] * weight))
        found = fft.irfft2(total, self.shape, workers=WORKERS)[: self.rows, : self.columns]
        found += float((np.square(there).sum(2) * weight).sum())
        return np.maximum(found, 0).astype(np.float32) / max(1.0, float(weight.sum()))


def _grid(length: int, piece: int, overlap: int) -> NDArray[np.int64]:
    """Where pieces begin along a side that closes on itself, as even as whole texels allow.

    The edges of the sheet run through the middle of pieces: nothing was joined where it will be looked at most.
    """
    count = max(1, math.ceil(length / (piece - overlap)))
    first = max(0, (piece - 2 * overlap) // 2)
    return np.round(first + np.arange(count) * length / count).astype(np.int64)


def quilted(planes: Floats, s: QuiltSettings, wraps: bool, task: Task) -> dict[str, NDArray[Any]]:
    """Choose and cut the pieces.

    Parameters
    ----------
    planes : array, shape (H, W, K)
        What comes in, as `features`.

    Returns
    -------
    dict
        pieces : int array, shape (N, 4)
            Left and top on the new sheet, left and top of where it is taken from.
        paths : int array, shape (N, 4, piece)
            Cuts in texels from the piece's own left or top, for each of `SIDES`; −1 where there is none.
        facts : int array
            Width and height of the new sheet and of what comes in, piece, overlap, whether what comes in wraps.

    Raises
    ------
    WeaveError
        The sheet is too small for its pieces.

    >>> from silent_loom.core.base.parallel import IDLE
    >>> planes = np.random.default_rng(1).random((64, 64, 1), np.float32)
    >>> sorted(quilted(planes, QuiltSettings(), False, IDLE))
    ['facts', 'paths', 'pieces']
    """
    h, w, channels = planes.shape
    width, height = max(8, round(w * s.times_x)), max(8, round(h * s.times_y))
    piece = min(round(s.piece * min(w, h)), width, height)
    overlap = max(3, round(s.overlap * piece))
    if piece < 12 or piece > min(w, h) or piece - overlap < 4:
        raise WeaveError("the sheet is too small for such pieces", "Grow", "Make the pieces wider, or the new sheet larger.")
    xs, ys = _grid(width, piece, overlap), _grid(height, piece, overlap)
    search = _Search(planes, piece, wraps)
    rng = np.random.default_rng(s.seed)
    used = np.zeros((search.rows, search.columns), np.float32)
    canvas = np.zeros((height, width, channels), np.float32)
    filled = np.zeros((height, width), bool)
    pieces: list[tuple[int, int, int, int]] = []
    paths = np.full((len(xs) * len(ys), 4, piece), -1, np.int32)
    for n, (y, x) in enumerate((int(y), int(x)) for y in ys for x in xs):
        task.report(n / len(paths), "choosing pieces")
        task.checkpoint()
        rows, columns = np.arange(y, y + piece) % height, np.arange(x, x + piece) % width
        there, known = canvas[np.ix_(rows, columns)], filled[np.ix_(rows, columns)]
        if known.any():
            error = search.errors(there, known)
            worst = float(np.median(error))
            error = error + used * 0.5 * max(worst, 1e-9)
            for px, py, sx, sy in pieces[-1:] + [p for p in pieces if p[0] == x][-1:]:
                # Going on with a neighbour would fit without a cut, and grow nothing new
                _forbid(error, sx + x - px, sy + y - py, piece // 3, worst * 4)
            least = float(error.min())
            choice = np.argwhere(error <= least + s.freedom * max(least, 0.02 * worst))
        else:
            choice = np.argwhere(used <= used.min())
        sy, sx = (int(v) for v in choice[rng.integers(len(choice))])
        pieces.append((x, y, sx, sy))
        used += _bump(used.shape, sx, sy, piece / 3)
        taken = planes[np.ix_(np.arange(sy, sy + piece) % h, np.arange(sx, sx + piece) % w)]
        mask = np.ones((piece, piece), bool)
        if known.any():
            difference = np.sqrt(np.square(taken - there).sum(2))
            busy = _busy(taken) + _busy(there)
            for side in range(4):
                path = _cut(difference, busy, known, side, overlap)
                if path is None:
                    continue
                paths[n, side] = path
                at = np.arange(piece)
                along = at[None, :] if side in (0, 2) else at[:, None]
                edge = path[:, None] if side in (0, 2) else path[None, :]
                mask &= along >= edge if side in (0, 1) else along < edge
        block = np.where(mask[..., None] | ~known[..., None], taken, there)
        canvas[np.ix_(rows, columns)] = block
        filled[np.ix_(rows, columns)] = True
    facts = np.array([width, height, w, h, piece, overlap, int(wraps)])
    return {"pieces": np.array(pieces, np.int64), "paths": paths, "facts": facts}


def _busy(planes: Floats) -> Floats:
    return np.sqrt(sum(np.square(g).sum(2) for g in np.gradient(planes, axis=(0, 1)))).astype(np.float32)


def _bump(shape: tuple[int, int], x: int, y: int, width: float) -> Floats:
    v, u = np.ogrid[0 : shape[0], 0 : shape[1]]
    return np.exp(-(((u - x) / width) ** 2 + ((v - y) / width) ** 2)).astype(np.float32)


def _forbid(error: Floats, x: int, y: int, reach: int, price: float) -> None:
    h, w = error.shape
    y0, y1, x0, x1 = max(0, y - reach), min(h, y + reach + 1), max(0, x - reach), min(w, x + reach + 1)
    if y1 > y0 and x1 > x0:
        error[y0:y1, x0:x1] += price


def _cut(difference: Floats, busy: Floats, known: NDArray[np.bool_], side: int, overlap: int) -> NDArray[np.int32] | None:
    """Path between a piece and what lies along one of its sides, in texels of the piece; None where nothing lies there."""
    n = len(known)
    turned = known if side in (0, 2) else known.T
    line = turned[:, 0] if side in (0, 1) else turned[:, -1]
    if not line.all():  # corners alone are parted by the cuts along the other sides
        return None
    # How deep what is known reaches from that side, at its shallowest
    inside = turned if side in (0, 1) else turned[:, ::-1]
    deep = int(np.where(inside.all(1), n, (~inside).argmax(1)).min())
    deep = max(3, min(deep, max(overlap, 3) * 2, n - 2))
    part = np.s_[:, :deep] if side in (0, 1) else np.s_[:, n - deep :]
    d, b = (a if side in (0, 2) else a.T for a in (difference, busy))
    k = turned[part]
    price = np.where(k, d[part], 0.0).astype(np.float32)
    prices = edge_prices(np.ascontiguousarray(price), np.ascontiguousarray(b[part], np.float32))
    path = lowest_cut(prices, margin=max(1, deep // 10), closed=False)
    return (path if side in (0, 1) else path + n - deep).astype(np.int32)


def laid(values: Floats, arrays: Mapping[str, NDArray[Any]], width: int, height: int, hard: bool, task: Task) -> Floats:
    """Lay the pieces of one thread at any size.

    Parameters
    ----------
    values : array, shape (h, w, C)
    arrays : mapping
        See `quilted`.
    hard : bool
        Samples are labels: cut, never blended.

    >>> from silent_loom.core.base.parallel import IDLE
    >>> planes = np.random.default_rng(1).random((64, 64, 1), np.float32)
    >>> arrays = quilted(planes, QuiltSettings(times_x=1, times_y=1), False, IDLE)
    >>> laid(planes, arrays, 48, 48, False, IDLE).shape
    (48, 48, 1)
    """
    was_w, was_h, in_w, in_h, piece, overlap = (int(v) for v in arrays["facts"][:6])
    fx, fy = width / was_w, height / was_h
    h, w, channels = values.shape
    values = np.ascontiguousarray(values)
    out = np.zeros((height, width, channels), np.float32)
    if hard:
        _compose(out, values, arrays, (fx, fy), (w / in_w, h / in_h), 0.0, False, task)
        return out
    # Broad tone goes over softly, what is finer along the cut; inside a piece both add up to what it was
    coarse = max(1, int(overlap * min(fx, fy) / 10))
    low = blur(reduce_area(values, max(4, w // coarse), max(4, h // coarse)), 1.5, False)
    low = np.ascontiguousarray(cv2.resize(low, (w, h), interpolation=cv2.INTER_CUBIC).reshape(values.shape))
    source = w / in_w, h / in_h
    _compose(out, values - low, arrays, (fx, fy), source, max(1.2, 1 / min(fx, fy)), False, task.part(0, 0.5))
    broad = np.zeros_like(out)
    _compose(broad, low, arrays, (fx, fy), source, 0.22 * overlap, True, task.part(0.5, 1))
    least, most = values.min((0, 1)), values.max((0, 1))

    def together(first: int, last: int) -> None:
        np.clip(out[first:last] + broad[first:last], least, most, out=out[first:last])

    over_rows(height, together, task.part(0, 0))
    return out


def _compose(
    out: Floats,
    values: Floats,
    arrays: Mapping[str, NDArray[Any]],
    scale: tuple[float, float],
    source: tuple[float, float],
    soft: float,
    broad: bool,
    task: Task,
) -> None:
    # soft: width of the transition in texels of the decision; 0 cuts
    height, width, channels = out.shape
    h, w, _ = values.shape
    piece, overlap, wraps = (int(v) for v in arrays["facts"][4:])
    pw, ph = min(width, math.ceil(piece * scale[0])), min(height, math.ceil(piece * scale[1]))
    at_x, at_y = (((np.arange(n) + 0.5) / f).astype(np.float32) for n, f in zip((pw, ph), scale, strict=True))
    for n, (x, y, sx, sy) in enumerate(arrays["pieces"]):
        task.report(n / len(arrays["pieces"]), "laying pieces")
        task.checkpoint()
        x0, y0 = round(x * scale[0]), round(y * scale[1])
        tx, ty = round(sx * source[0] + (x0 - x * scale[0])), round(sy * source[1] + (y0 - y * scale[1]))
        if not wraps:
            tx, ty = min(max(tx, 0), max(0, w - pw)), min(max(ty, 0), max(0, h - ph))
        lines, has = np.zeros((4, max(pw, ph)), np.float32), np.zeros(4, np.bool_)
        for side in range(4):
            path = arrays["paths"][n, side]
            if path[0] < 0:
                continue
            along = at_y if side in (0, 2) else at_x
            line = np.interp(along, np.arange(piece) + 0.5, path)
            if broad:  # it has to be over before the overlap is
                low = 0.5 * soft if side in (0, 1) else piece - overlap + 0.5 * soft
                line = np.clip(line, low, low + overlap - soft)
            lines[side, : len(along)], has[side] = line, True
        place = x0, y0, tx, ty
        over_rows(
            ph, partial(_lay, out, values, *place, at_x, at_y, lines, has, np.float32(soft)), task.part(0, 0), cost=pw * 2e-3
        )


@inlined
def _covers(gap, soft):  # type: ignore[no-untyped-def]
    if soft == np.float32(0):
        return np.float32(1) if gap >= np.float32(0) else np.float32(0)
    t = min(max(gap / soft + np.float32(0.5), np.float32(0)), np.float32(1))
    return t * t * (np.float32(3) - np.float32(2) * t)


@kernel("f4[:,:,::1], f4[:,:,::1], i8, i8, i8, i8, f4[::1], f4[::1], f4[:,::1], b1[::1], f4, i8, i8")
def _lay(out, values, x0, y0, tx, ty, at_x, at_y, lines, has, soft, first, last):  # type: ignore[no-untyped-def]
    # One piece over what lies there, in some of its rows; lines: where it is cut, by row at its left and right, by column
    # at its top and bottom
    height, width, channels = out.shape
    h, w, _ = values.shape
    for r in range(first, last):
        y, sy = (y0 + r) % height, (ty + r) % h
        x, sx = x0 % width, tx % w
        for c in range(len(at_x)):
            m = np.float32(1)
            if has[0]:
                m *= _covers(at_x[c] - lines[0, r], soft)
            if has[2]:
                m *= _covers(lines[2, r] - at_x[c], soft)
            if has[1]:
                m *= _covers(at_y[r] - lines[1, c], soft)
            if has[3]:
                m *= _covers(lines[3, c] - at_y[r], soft)
            if m >= np.float32(1):
                for k in range(channels):
                    out[y, x, k] = values[sy, sx, k]
            elif m > np.float32(0):
                for k in range(channels):
                    out[y, x, k] += m * (values[sy, sx, k] - out[y, x, k])
            x += 1
            if x == width:
                x = 0
            sx += 1
            if sx == w:
                sx = 0
