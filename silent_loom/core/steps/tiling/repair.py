"""Repair by hand: strokes that clone, heal, paint, soften and erase, kept in millimetres on layers."""

from __future__ import annotations

import math
import weakref
from dataclasses import dataclass
from functools import partial
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, field_validator

from silent_loom.core.base.bounded_memory import Memory
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import Task, copied, over_rows
from silent_loom.core.moving.resample import between, blur
from silent_loom.core.moving.slopes import normals_of, slopes_of
from silent_loom.core.steps.tiling.clean import rgb_of
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import CarryStep, Sheet

Dab = tuple[float, float, float]
Places = tuple[NDArray[np.int64], NDArray[np.int64]]
"""Rows and columns of a sheet."""


class Stroke(Settings):
    """One stroke of one tool; on every map in that map's own unit.

    Points are (x, y, pressure): millimetres from the top left of the sheet, beyond its edges where the hand went beyond
    them, and pressure 0…1.
    """

    tool: Literal["clone", "heal", "paint", "soften", "lighten", "darken", "erase"] = "clone"
    points: tuple[Dab, ...] = Field(min_length=1, max_length=20000)
    radius_mm: float = Field(gt=0, le=1e5)
    softness: float = Field(0.5, ge=0, le=1, description="0 hard edge, 1 soft from the middle on.")
    strength: float = Field(1.0, gt=0, le=1)
    offset_mm: tuple[float, float] = Field((0.0, 0.0), description="Clone, heal: from a place to its source.")
    source_mm: tuple[float, float] | None = Field(None, description="Clone, heal with a fixed source: every stroke starts here.")
    colour: str = Field("#808080", description="Paint on colour.")
    value: float | None = Field(
        None,
        allow_inf_nan=False,
        description="Paint on plain numbers, in the thread's own unit: height in mm. Nothing without it.",
    )
    slope: tuple[float, float] | None = Field(
        None, description="Paint on normals: rise to the right and upwards. Nothing without it."
    )
    by: float = Field(
        0.5,
        ge=0,
        le=1e5,
        description="Lighten, darken: stops of light on colour, that much of the thread's own unit on plain numbers, stops of "
        "slope on normals.",
    )
    pressure: Literal["none", "size", "strength", "both"] = Field("both", description="What pen pressure steers.")

    @field_validator("colour")
    @classmethod
    def _a_colour(cls, value: str) -> str:
        rgb_of(value)
        return value

    def offset(self) -> tuple[float, float]:
        if self.source_mm is None:
            return self.offset_mm
        return self.source_mm[0] - self.points[0][0], self.source_mm[1] - self.points[0][1]


class Layer(Settings):
    """Strokes that belong together."""

    name: str = Field("Layer", max_length=60)
    on: bool = True
    threads: Literal["base", "all"] | tuple[ThreadName, ...] = Field(
        "base", description="What it acts on: base colour alone, every map alike, or the threads of a list."
    )
    strokes: tuple[Stroke, ...] = Field((), max_length=5000)

    def acts_on(self, thread: str) -> bool:
        return self.threads == "all" or thread in ((self.threads,) if isinstance(self.threads, str) else self.threads)


class RepairSettings(Settings):
    layers: tuple[Layer, ...] = setting((), "Strokes, layer over layer; the last one is on top.", shape="strokes")


@kernel("f8[:,::1], f8[::1], f8[::1], f8, f4[:,::1], i8, i8, f8, f8, f8, f8, i8, i8")
def _cover(points, radii, alphas, hard, out, rows, columns, left, top, step_x, step_y, first, last):  # type: ignore[no-untyped-def]
    # Highest coverage that any dab or the way between two dabs gives, in some rows; places are mm. A stroke of more rows or
    # columns than there are lies on itself
    h, w = out.shape
    texel, pitch, softness = np.float32(0.5 * (step_x + step_y)), np.float32(step_x), np.float32(1.0 - hard)
    nothing, half, one, two, three = np.float32(0), np.float32(0.5), np.float32(1), np.float32(2), np.float32(3)
    n = points.shape[0]
    for i in range(max(1, n - 1)):
        j = min(i + 1, n - 1)
        ax, ay, bx, by = points[i, 0], points[i, 1], points[j, 0], points[j, 1]
        r = max(radii[i], radii[j])
        x0, x1 = int((min(ax, bx) - r - left) / step_x) - 1, int((max(ax, bx) + r - left) / step_x) + 2
        x0 = max(x0, 0)
        y0, y1 = int((min(ay, by) - r - top) / step_y) - 1, int((max(ay, by) + r - top) / step_y) + 2
        length = math.sqrt((bx - ax) * (bx - ax) + (by - ay) * (by - ay))
        # The hull of two discs: from a place beside the way, the nearest point of its outline belongs to a disc further on,
        # by as much as the discs shrink; where one holds the other there is no way between them
        shrink = (radii[i] - radii[j]) / length if length > 0 else 0.0
        lean = shrink / math.sqrt(1.0 - shrink * shrink) if abs(shrink) < 1.0 else 0.0
        per = 1.0 / length if length > 0 else 0.0
        ux, uy = np.float32((bx - ax) * per), np.float32((by - ay) * per)
        # Pressed harder without moving, the later dab holds the earlier one
        grows = length == 0.0 and (radii[j] > radii[i] or alphas[j] > alphas[i])
        low = np.float32(1 if grows or shrink <= -1.0 else 0)
        high = np.float32(1 if grows or (length > 0.0 and shrink < 1.0) else 0)
        leaning, scale = np.float32(lean), np.float32(per)
        way_x, way_y = np.float32(bx - ax), np.float32(by - ay)
        r0, r1, a0, a1 = (
            np.float32(radii[i]),
            np.float32(radii[j] - radii[i]),
            np.float32(alphas[i]),
            np.float32(alphas[j] - alphas[i]),
        )
        for fold in range(0, rows, h):
            for y in range(max(fold + first, y0), min(fold + last, y1, rows)):
                py, line = np.float32(top + (y + 0.5) * step_y - ay), out[y - fold]
                for turn in range(0, columns, w):
                    x = max(turn, x0)
                    part = line[x - turn : max(x, min(turn + w, columns, x1)) - turn]
                    begin = np.float32(left + (x + 0.5) * step_x - ax)
                    # Plain steps on numbers of one kind, without a way out: they become vector code
                    for k in range(len(part)):
                        px = begin + np.float32(k) * pitch
                        t = (px * ux + py * uy - abs(px * uy - py * ux) * leaning) * scale
                        t = min(max(t, low), high)
                        dx, dy = px - t * way_x, py - t * way_y
                        reach = r0 + t * r1
                        # A straight ramp over one texel is the share of it that a hard edge covers; the softer, the rounder.
                        # Half covered at the same place at every size
                        soft = max(softness * reach, texel)
                        q = half + (reach - half * softness * reach - np.sqrt(dx * dx + dy * dy)) / soft
                        q = min(max(q, nothing), one)
                        q += (one - texel / soft) * (q * q * (three - two * q) - q)
                        part[k] = max(part[k], q * (a0 + t * a1))


@kernel("f4[:,:,::1], f4[:,::1], i8[::1], i8[::1], f4[:,:,::1], i8, i8")
def _gather(pixels, cover, rows, columns, out, y0, y1):  # type: ignore[no-untyped-def]
    # What lies at other places of the sheet, for covered texels only
    for y in range(y0, y1):
        for x in range(cover.shape[1]):
            if cover[y, x] > 0:
                for k in range(pixels.shape[2]):
                    out[y, x, k] = pixels[rows[y], columns[x], k]


@kernel("f4[:,:,::1], i8[::1], i8[::1], f4[:,:,::1], i8, i8")
def _part(pixels, rows, columns, out, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(len(columns)):
            for k in range(pixels.shape[2]):
                out[y, x, k] = pixels[rows[y], columns[x], k]


@kernel("f4[:,:,::1], f4[:,::1], i8[::1], i8[::1], i8[::1], i8[::1], i8, f4[:,:,::1], i8, i8")
def _gaps(pixels, cover, rows, columns, from_rows, from_columns, cell, gap, y0, y1):  # type: ignore[no-untyped-def]
    # Means over square cells: what a place and its source differ by outside of a stroke, and last how much lies outside
    h, w = cover.shape
    channels = pixels.shape[2]
    for j in range(y0, y1):
        gap[j] = 0
        for y in range(j * cell, min(h, (j + 1) * cell)):
            here, there, line = rows[y], from_rows[y], cover[y]
            for i in range(gap.shape[1]):
                for x in range(i * cell, min(w, (i + 1) * cell)):
                    if line[x] < np.float32(0.02):
                        gap[j, i, channels] += np.float32(1)
                        for k in range(channels):
                            gap[j, i, k] += pixels[here, columns[x], k] - pixels[there, from_columns[x], k]
        for i in range(gap.shape[1]):
            share = np.float32(1) / np.float32((min(h, (j + 1) * cell) - j * cell) * (min(w, (i + 1) * cell) - i * cell))
            for k in range(channels + 1):
                gap[j, i, k] *= share


@kernel("f4[:,:,::1], f4[:,::1], f4[:,:,::1], i8, i8")
def _add_scale(blurred, done, out, y0, y1):  # type: ignore[no-untyped-def]
    # What is known at one scale, where nothing finer was; the last channel is how much of it is known
    for y in range(y0, y1):
        for x in range(done.shape[1]):
            weight = blurred[y, x, out.shape[2]]
            share = min(max(weight * np.float32(4), np.float32(0)), np.float32(1)) * (np.float32(1) - done[y, x])
            done[y, x] += share
            share /= max(weight, np.float32(1e-5))
            for k in range(out.shape[2]):
                out[y, x, k] += share * blurred[y, x, k]


@kernel("f4[:,:,::1], f4[:,::1], f4[:,:,::1], i4[:,::1], f4[:,::1], i4[:,::1], f4[:,::1], i8, i8")
def _raise(wanted, cover, smooth, rows, row_weights, columns, weights, y0, y1):  # type: ignore[no-untyped-def]
    # Adds what is smooth, between cells by Catmull-Rom, to covered texels only
    cols, channels = smooth.shape[1], smooth.shape[2]
    line = np.empty((cols, channels), np.float32)
    for y in range(y0, y1):
        first, second, third, fourth = smooth[rows[y, 0]], smooth[rows[y, 1]], smooth[rows[y, 2]], smooth[rows[y, 3]]
        a, b, c, d = row_weights[y, 0], row_weights[y, 1], row_weights[y, 2], row_weights[y, 3]
        for i in range(cols):
            for k in range(channels):
                line[i, k] = a * first[i, k] + b * second[i, k] + c * third[i, k] + d * fourth[i, k]
        for x in range(cover.shape[1]):
            if cover[y, x] > 0:
                i, j, m, n = columns[x, 0], columns[x, 1], columns[x, 2], columns[x, 3]
                a, b, c, d = weights[x, 0], weights[x, 1], weights[x, 2], weights[x, 3]
                for k in range(channels):
                    wanted[y, x, k] += a * line[i, k] + b * line[j, k] + c * line[m, k] + d * line[n, k]


@kernel("f4[:,:,::1], f4[:,:,::1], i8, f4[:,::1], i8[::1], i8[::1], b1, i8, i8")
def _lay(pixels, wanted, step, cover, rows, columns, labels, y0, y1):  # type: ignore[no-untyped-def]
    # Towards what is wanted, by how much is covered; labels whole. One colour for all where step is 0
    for y in range(y0, y1):
        for x in range(cover.shape[1]):
            t = cover[y, x]
            if t > 0:
                for k in range(pixels.shape[2]):
                    here, there = pixels[rows[y], columns[x], k], wanted[y * step, x * step, k]
                    pixels[rows[y], columns[x], k] = (there if t >= 0.5 else here) if labels else here + t * (there - here)


class Box:
    """A part of a sheet that a stroke reaches: rows and columns, beyond the edges where it wraps, each once at most."""

    def __init__(self, stroke: Stroke, width: int, height: int, pitch: tuple[float, float], wraps: bool) -> None:
        p = np.array([(x, y) for x, y, _ in stroke.points])
        r = stroke.radius_mm
        low, high = (p.min(0) - r) / pitch, (p.max(0) + r) / pitch
        self.x0, self.y0 = int(np.floor(low[0])) - 1, int(np.floor(low[1])) - 1
        self.x1, self.y1 = int(np.ceil(high[0])) + 1, int(np.ceil(high[1])) + 1
        if not wraps:
            self.x0, self.y0 = max(0, self.x0), max(0, self.y0)
            self.x1, self.y1 = min(width, self.x1), min(height, self.y1)
        self.rows = np.arange(self.y0, min(self.y1, self.y0 + height))
        self.columns = np.arange(self.x0, min(self.x1, self.x0 + width))
        self.size = width, height
        self.wraps = wraps

    @property
    def empty(self) -> bool:
        return self.x1 <= self.x0 or self.y1 <= self.y0

    @property
    def place(self) -> Places:
        """Its rows and columns on the sheet."""
        return self.inside(self.rows, self.columns)

    def inside(self, rows: NDArray[np.int64], columns: NDArray[np.int64]) -> Places:
        """Places on the sheet: wrapped, or held at the edges."""
        w, h = self.size
        if self.wraps:
            return rows % h, columns % w
        return np.clip(rows, 0, h - 1), np.clip(columns, 0, w - 1)

    def take(self, pixels: Floats, dx: int = 0, dy: int = 0) -> Floats:
        """The part, or what lies some texels away; wrapped, or held at the edges."""
        out = np.empty((len(self.rows), len(self.columns), pixels.shape[2]), np.float32)
        rows, columns = self.inside(self.rows + dy, self.columns + dx)
        over_rows(len(rows), partial(_part, np.ascontiguousarray(pixels), rows, columns, out), cost=len(columns) * 1e-3)
        return out


def coverage(stroke: Stroke, box: Box, pitch: tuple[float, float]) -> Floats:
    """How much of a stroke every texel of its box gets, 0…1, shape (h, w).

    >>> stroke = Stroke(points=((8.0, 8.0, 1.0),), radius_mm=4.0, softness=0.0)
    >>> covered = coverage(stroke, Box(stroke, 16, 16, (1.0, 1.0), False), (1.0, 1.0))
    >>> covered.shape, float(covered.max()), float(covered[0, 0])
    ((10, 10), 1.0, 0.0)
    """
    p = np.array(stroke.points, np.float64)
    force = np.clip(p[:, 2], 0, 1)
    by_size, by_strength = stroke.pressure in ("size", "both"), stroke.pressure in ("strength", "both")
    radii = stroke.radius_mm * (np.maximum(force, 0.05) if by_size else np.ones(len(p)))
    alphas = (force if by_strength else np.ones(len(p))).astype(np.float64)
    out = np.zeros((len(box.rows), len(box.columns)), np.float32)
    rows, columns = box.y1 - box.y0, box.x1 - box.x0
    ends = np.ascontiguousarray(p[:, :2]), radii, alphas, 1.0 - stroke.softness, out, rows, columns
    place = box.x0 * pitch[0], box.y0 * pitch[1], *pitch
    over_rows(len(out), partial(_cover, *ends, *place), cost=len(box.columns) * 1e-2)
    out *= np.float32(stroke.strength)
    return out


def _heal(pixels: Floats, wanted: Floats, box: Box, source: Places, cover: Floats, sigma: float) -> None:
    """Give the detail of another place the tone of this one: what differs around the stroke is gone on with over it.

    Only what is covered is read of the source (``wanted``, changed in place); around it, means over cells are enough.
    """
    h, w, channels = wanted.shape
    scales = [max(s * sigma, 0.7) for s in (0.15, 0.4, 1.0, 3.0)]
    cell = max(1, int(scales[0] / 3))  # none of the scales shows anything as fine as a third of the smallest
    rows, cols = -(-h // cell), -(-w // cell)
    gap, done = np.empty((rows, cols, channels + 1), np.float32), np.zeros((rows, cols), np.float32)
    over_rows(rows, partial(_gaps, pixels, cover, *box.place, *source, cell, gap), cost=cell * w * 2e-3)
    if gap[..., channels].sum() * cell * cell < 8:
        wanted += (pixels[np.ix_(*box.place)] - pixels[np.ix_(*source)]).mean((0, 1))
        return
    out = np.zeros((rows, cols, channels), np.float32)
    for s in scales:
        blurred = blur(gap, math.sqrt(s * s / (cell * cell) - (1 / 12 if cell > 1 else 0)), False)
        over_rows(rows, partial(_add_scale, blurred, done, out))
    taps = *between(h, rows, 1 / cell), *between(w, cols, 1 / cell)
    over_rows(h, partial(_raise, wanted, cover, out, *taps), cost=w * 4e-3)


class Repair(CarryStep[RepairSettings]):
    """Applies strokes one after another, each on what the ones before it left.

    Notes
    -----
    Coverage is the highest that any dab along a stroke gives, so that slow hands paint no darker than quick ones. Healing
    keeps the detail of the source and the tone of its goal (a membrane; Pérez, Gangnet & Blake 2003; Georgiev 2005). All
    lengths are millimetres of the sheet: a stroke looks the same at every size, and is laid again on whatever comes in.
    """

    name = "repair"
    can = frozenset({"strokes"})
    title = "Repair"
    words_for_it = ("clone", "heal", "paint", "brush", "stamp", "retouch", "hand", "draw")
    sentence = "Clone, heal, paint, soften, lighten, darken by hand, on any map; every stroke is kept and can be taken back."
    Settings = RepairSettings

    def words(self, s: RepairSettings) -> str:
        count = sum(len(layer.strokes) for layer in s.layers if layer.on)
        return f"{count} stroke{'s' if count != 1 else ''}"

    def idle(self, s: RepairSettings) -> bool:
        return not any(layer.on and layer.strokes for layer in s.layers)

    def carry(self, s: RepairSettings, image: Image, decision: Decision, sheet: Sheet, task: Task) -> Image:
        return self.carry_thread(s, "base" if image.kind is Kind.COLOUR else "", image, decision, sheet, task)

    def carry_thread(self, s: RepairSettings, thread: str, image: Image, decision: Decision, sheet: Sheet, task: Task) -> Image:
        mine = [
            stroke
            for layer in s.layers
            if layer.on and layer.acts_on(thread)
            for stroke in layer.strokes
            if stroke.tool != "paint" or _paint(stroke, image.kind) is not None
        ]
        if not mine:
            return image
        original = slopes_of(image.pixels, task) if image.kind is Kind.NORMAL else image.pixels
        pixels, done = _laid.begun(image, mine, sheet.pitch)
        if pixels is None:
            pixels = copied(original)
        for stroke in mine[done:]:
            task.checkpoint()
            _apply(stroke, pixels, original, image, sheet.pitch)
        if image.kind is Kind.NORMAL:
            return image.with_pixels(normals_of(pixels, task))
        _laid.keep(image, mine, sheet.pitch, pixels)
        return image.with_pixels(pixels)


@dataclass(frozen=True)
class _Record:
    source: weakref.ref[Floats]
    strokes: list[Stroke]
    pitch: tuple[float, float]
    made: weakref.ref[Floats]


class _Laid:
    """What strokes made of a picture, for as long as somebody else keeps it: the next stroke is laid on that.

    The result is the same to the last bit, since strokes are laid one after another. Normals, which are turned into slopes
    and back, always begin anew.
    """

    def __init__(self, most: int = 16) -> None:
        self._known: Memory[int, _Record] = Memory(most)

    def begun(self, image: Image, strokes: list[Stroke], pitch: tuple[float, float]) -> tuple[Floats | None, int]:
        """A copy of what the first strokes made, and how many they are; or None and 0."""
        known = self._known.get(id(image.pixels))
        if known is None or known.source() is not image.pixels or known.pitch != pitch:
            return None, 0
        made = known.made()
        if made is None or strokes[: len(known.strokes)] != known.strokes:
            return None, 0
        return copied(made), len(known.strokes)

    def keep(self, image: Image, strokes: list[Stroke], pitch: tuple[float, float], made: Floats) -> None:
        self._known.put(id(image.pixels), _Record(weakref.ref(image.pixels), strokes, pitch, weakref.ref(made)))


_laid = _Laid()


def _paint(stroke: Stroke, kind: Kind) -> Floats | None:
    """What a stroke of paint lays on an image of a kind, shape (1, 1, C); None when it says nothing of that kind."""
    if kind is Kind.COLOUR:
        values: tuple[float, ...] | None = tuple(rgb_of(stroke.colour))
    elif kind is Kind.NORMAL:
        values = stroke.slope
    else:
        values = None if stroke.value is None else (round(stroke.value) if kind is Kind.ID else stroke.value,)
    return None if values is None else np.array(values, np.float32).reshape(1, 1, -1)


def _lifted(pixels: Floats, stroke: Stroke, kind: Kind) -> Floats:
    """A part of an image lightened or darkened: light and slopes by a factor, plain numbers by a sum."""
    by = stroke.by if stroke.tool == "lighten" else -stroke.by
    if kind in (Kind.COLOUR, Kind.NORMAL):
        return pixels * np.float32(2.0 ** min(max(by, -60.0), 60.0))
    return pixels + np.float32(by)


def _apply(stroke: Stroke, pixels: Floats, original: Floats, image: Image, pitch: tuple[float, float]) -> None:
    h, w = pixels.shape[:2]
    box = Box(stroke, w, h, pitch, image.wraps)
    if box.empty:
        return
    cover = coverage(stroke, box, pitch)
    if not cover.any():
        return
    ox, oy = stroke.offset()
    dx, dy = round(ox / pitch[0]), round(oy / pitch[1])
    cost, labels = len(box.columns) * 2e-3, image.kind is Kind.ID
    # A stroke covers few texels of its box, and only those are read and written
    lay = partial(over_rows, len(cover), cost=cost)
    if stroke.tool == "paint":
        lay(partial(_lay, pixels, _paint(stroke, image.kind), 0, cover, *box.place, labels))
        return
    if stroke.tool == "soften":
        if labels:
            return
        wanted = blur(box.take(pixels), max(0.5, 0.12 * stroke.radius_mm / pitch[0]), False)
    elif stroke.tool in ("lighten", "darken"):
        if labels:
            return
        wanted = _lifted(box.take(pixels), stroke, image.kind)
    else:
        source = box.place if stroke.tool == "erase" else box.inside(box.rows + dy, box.columns + dx)
        wanted = np.empty((*cover.shape, pixels.shape[2]), np.float32)
        from_ = np.ascontiguousarray(original) if stroke.tool == "erase" else pixels
        lay(partial(_gather, from_, cover, *source, wanted))
        if stroke.tool == "heal" and not labels:
            _heal(pixels, wanted, box, source, cover, stroke.radius_mm / pitch[0])
    lay(partial(_lay, pixels, wanted, 1, cover, *box.place, labels))
