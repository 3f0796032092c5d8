"""Break-up: a larger sheet of irregular cells or hexagons, each showing another part of the repeat, turned or not."""

from __future__ import annotations

import math
from collections.abc import Mapping
from functools import partial
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.kernels import kernel, subkernel
from silent_loom.core.base.parallel import Task, over_rows
from silent_loom.core.moving.gauss import Gauss, learn, sampled, scores_of, value_of
from silent_loom.core.moving.slopes import normals_of, slopes_of
from silent_loom.core.tiling.pieces.follow import kept_to, motif_of
from silent_loom.core.tiling.pieces.pieces import BLOCK, framed, put, take, turned
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, setting
from silent_loom.core.weave.step import CarryStep, Geometry, Sheet, Sources, Texels

MANY = 30
"""Cells that may show in one block: all that are looked at around it."""


class BreakUpSettings(Settings):
    repeat_x: int = setting(3, "Repeats that the larger sheet is wide.", title="Tiles across", low=1, high=64, soft=(1, 8))
    repeat_y: int = setting(3, "Repeats that the larger sheet is high.", title="Tiles down", low=1, high=64, soft=(1, 8))
    cells: Literal["irregular", "hexagons"] = setting("irregular", "Outline of the cells.")
    cell_mm: float = setting(
        0.0,
        "Width of a cell; half of the repeat unless told.",
        title="Cell size",
        unit="mm",
        low=0,
        high=1e6,
        soft=(0, 2000),
        empty="automatic",
    )
    follow: Literal["automatic", "freely"] = setting(
        "automatic",
        "Where elements lie on a grid or in courses, pieces are moved by whole steps of it, so that joints meet.",
        title="Keep to the motif",
        names={"automatic": "where there is one", "freely": "no, anywhere"},
    )
    stray: float = setting(
        0.7,
        "How far cells stray across from an even grid.",
        title="Uneven across",
        low=0,
        high=1,
        step=0.01,
        when={"cells": ["irregular"]},
    )
    stray_y: float | None = setting(
        None,
        "The same down, when it differs.",
        title="Uneven down",
        low=0,
        high=1,
        step=0.01,
        when={"cells": ["irregular"]},
        empty="as across",
    )
    roam: float = setting(
        1.0,
        "How far across from its own place each cell may take its part of the repeat.",
        title="Taken from across",
        low=0,
        high=1,
        step=0.01,
    )
    roam_y: float | None = setting(
        None, "The same down, when it differs.", title="Taken from down", low=0, high=1, step=0.01, empty="as across"
    )
    turns: Literal["freely", "quarters"] = setting(
        "freely",
        "Cells are turned by any angle up to the one below, or by quarter turns.",
        title="Turned",
        names={"freely": "by any angle", "quarters": "by quarter turns"},
    )
    turn_deg: float = setting(
        0.0,
        "Cells are turned by up to this much either way.",
        title="Turn up to",
        unit="°",
        low=0,
        high=180,
        step=1,
        when={"turns": ["freely"]},
    )
    join: float = setting(
        0.12, "Width over which cells go over into each other.", unit="of a cell", low=0.02, high=0.5, step=0.01
    )
    seed: int = setting(7, "Another seed, another arrangement.", low=0, high=1_000_000, soft=(0, 100))


class BreakUp(CarryStep[BreakUpSettings]):
    """Random pieces of a seamless repeat, joined with their contrast kept.

    Notes
    -----
    The larger sheet is parted into the Voronoi cells of points on a grid that wraps: jittered ones (Worley 1996) or a
    triangular grid, whose cells are hexagons (Mikkelsen 2022). Every cell shows the repeat from another place and,
    if wanted, turned. Where cells meet, the Gaussian forms of their samples are blended with the deviation of the sum kept,
    and brought back to the histogram of the surface (Heitz & Neyret 2018), so the blend is as rich in contrast as the rest.
    The field is one for every thread: heights stay continuous, slopes turn with their cell, ids are never blended.

    References
    ----------
    Worley, A cellular texture basis function, SIGGRAPH 1996. Heitz & Neyret, High-performance by-example noise using a
    histogram-preserving blending operator, HPG 2018. Mikkelsen, Practical real-time hex-tiling, JCGT 11, 2022.
    """

    name = "breakup"
    can = frozenset({"break"})
    panel = "cells"
    title = "Break up"
    words_for_it = ("repetition", "random", "pieces", "larger", "variation")
    sentence = "Makes a larger sheet without visible repetition from irregular pieces of the repeat."
    version = 2
    decides = True
    decision_scale = 0.5
    Settings = BreakUpSettings

    def words(self, s: BreakUpSettings) -> str:
        return f"{s.repeat_x} × {s.repeat_y}, {s.cells}"

    def geometry(self, s: BreakUpSettings, before: Geometry, sources: Sources) -> Geometry:
        if not before.wraps:
            raise WeaveError("it needs a sheet whose edges meet", self.title, "Put Seamless above it.")
        return Geometry((before.size_mm[0] * s.repeat_x, before.size_mm[1] * s.repeat_y), True)

    def demand(self, s: BreakUpSettings, before: Geometry, after: Geometry, texels: Texels) -> Texels:
        return max(1.0, texels[0] / s.repeat_x), max(1.0, texels[1] / s.repeat_y)

    def decide(self, s: BreakUpSettings, inputs: Mapping[str, Image], geometry: Geometry, task: Task) -> Decision:
        size = geometry.size_mm[0] * s.repeat_x, geometry.size_mm[1] * s.repeat_y
        cells = layout(s, geometry.size_mm)
        figures: dict[str, Any] = {"cells": int(cells[..., 0].size), "cell_mm": round(size[0] / cells.shape[1], 3)}
        base, turned = inputs.get("base"), s.turns == "quarters" or s.turn_deg > 0
        warnings: tuple[str, ...] = ()
        if s.follow == "automatic" and base is not None:
            motif = motif_of(base, task)
            if motif is not None and turned:
                warnings = ("Its elements repeat, but turned pieces cannot keep to them: joints may not meet.",)
            elif motif is not None:
                cells = kept_to(cells, motif, geometry.size_mm)
            figures["keeps_to"] = "" if motif is None or turned else motif.words
        return Decision({"cells": cells}, figures, warnings)

    def carry(self, s: BreakUpSettings, image: Image, decision: Decision, sheet: Sheet, task: Task) -> Image:
        pixels = broken_up(image, decision.arrays["cells"], sheet.width, sheet.height, sheet.after.size_mm, s.join, s.cells, task)
        return Image(pixels, image.kind, sheet.size_mm, True)


def layout(s: BreakUpSettings, tile_mm: tuple[float, float]) -> NDArray[np.float64]:
    """The cells of a sheet.

    Returns
    -------
    array, shape (rows, columns, 5)
        Centre in mm (x, y), displacement into the repeat in mm (x, y), turn in radians.
    """
    w, h = tile_mm[0] * s.repeat_x, tile_mm[1] * s.repeat_y
    cell = s.cell_mm if s.cell_mm > 0 else 0.5 * min(tile_mm)
    columns = max(2, round(w / cell))
    rows = max(2, 2 * round(h / (cell * math.sqrt(0.75)) / 2))  # even, so that shifted rows wrap
    if rows * columns > 4_000_000:
        raise WeaveError("the cells are too small for so large a sheet", "Break up", "Make the cells larger.")
    rng = np.random.default_rng(s.seed)
    jitter = rng.uniform(-0.5, 0.5, (rows, columns, 2))
    roam, straying = (s.roam, s.roam if s.roam_y is None else s.roam_y), (s.stray, s.stray if s.stray_y is None else s.stray_y)
    shift = rng.uniform(-0.5, 0.5, (rows, columns, 2)) * roam
    turn = np.radians(s.turn_deg) * rng.uniform(-1, 1, (rows, columns))
    if s.turns == "quarters":
        turn = np.pi / 2 * rng.integers(0, 4, (rows, columns))
    j, i = np.mgrid[0:rows, 0:columns].astype(np.float64)
    stray_x, stray_y = (0.9 * v if s.cells == "irregular" else 0.0 for v in straying)
    x = (i + 0.25 + 0.5 * (j % 2) + stray_x * jitter[..., 0]) * w / columns
    y = (j + 0.5 + stray_y * jitter[..., 1]) * h / rows
    return np.stack([x, y, shift[..., 0] * tile_mm[0], shift[..., 1] * tile_mm[1], turn], -1)


@subkernel
def _around(px, py, cells, w, h, reach, join, lists, places):  # type: ignore[no-untyped-def]
    # Cells that may show anywhere within reach of a place: labels and centres there; their number
    rows, columns, _ = cells.shape
    cw, ch = w / columns, h / rows
    j0, i0 = int(math.floor(py / ch)), int(math.floor(px / cw - 0.25))
    least, wide = 1e30, join + 2 * reach
    count = 0
    for j in range(j0 - 2, j0 + 3):
        jj = j + rows if j < 0 else (j - rows if j >= rows else j)
        jj = jj % rows
        oy = (j - jj) // rows * h
        for i in range(i0 - 2, i0 + 4):
            ii = i + columns if i < 0 else (i - columns if i >= columns else i)
            if ii < 0 or ii >= columns:
                ii = ii % columns
            cx, cy = cells[jj, ii, 0] + (i - ii) // columns * w, cells[jj, ii, 1] + oy
            d = math.sqrt((px - cx) * (px - cx) + (py - cy) * (py - cy))
            if d >= least + wide:
                continue
            if d < least:
                least = d
                kept = 0  # those kept so far may be out of reach now
                for q in range(count):
                    if math.hypot(px - places[q, 0], py - places[q, 1]) < least + wide:
                        lists[kept] = lists[q]
                        places[kept, 0], places[kept, 1] = places[q, 0], places[q, 1]
                        kept += 1
                count = kept
            if count < lists.shape[0]:
                lists[count] = jj * columns + ii
                places[count, 0], places[count, 1] = cx, cy
                count += 1
    return count


@subkernel
def _shares(across, down, places, count, mx, my, join, share, least, first, sum1, sum2):  # type: ignore[no-untyped-def]
    # How much each candidate counts at every texel of a block, and the sums of that and of its squares. Plain loops over
    # arrays, which become vector code; places within the block in mm from its middle: across[0] + down[0] right, the rest down
    n = BLOCK * BLOCK
    for i in range(n):
        least[i], first[i], sum1[i], sum2[i] = np.float32(1e30), 0, np.float32(0), np.float32(0)
    for q in range(count):
        cx, cy, row = np.float32(places[q, 0] - mx), np.float32(places[q, 1] - my), share[q]
        for j in range(BLOCK):
            right, under, at = down[0, j] - cx, down[1, j] - cy, j * BLOCK
            for i in range(BLOCK):
                ex, ey = across[0, i] + right, across[1, i] + under
                d, before = np.sqrt(ex * ex + ey * ey), least[at + i]
                row[at + i] = d
                least[at + i] = min(d, before)
                first[at + i] = q if d < before else first[at + i]
    narrow, three, two = np.float32(1.0 / join), np.float32(3), np.float32(2)
    for q in range(count):
        row = share[q]
        for i in range(n):
            t = max(np.float32(0), np.float32(1) - (row[i] - least[i]) * narrow)
            t = t * t * (three - two * t)
            row[i] = t
            sum1[i] += t
            sum2[i] += t * t


@kernel(
    "f4[:,:,::1], f4[:,:,::1], i8, i8, i8, f8[:,:,::1], f8, f8, f8, f8[::1], f8[::1], f8, f8, b1, b1, b1, "
    "f4[:,::1], f4[:,::1], f4[:,:,::1], i8, i8",
)
def _break(  # type: ignore[no-untyped-def]
    src,
    mixed,
    frame,
    tw,
    th,
    cells,
    w,
    h,
    join,
    lean_x,
    lean_y,
    pitch_x,
    pitch_y,
    exact,
    slopes,
    ids,
    back,
    to_value,
    out,
    b0,
    b1,
):
    # mixed: the samples in their Gaussian form, in which they are blended; the samples themselves for slopes
    rows, columns, kinds = cells.shape
    height, width, channels = out.shape
    flat = cells.reshape(rows * columns, kinds)
    lists, places = np.empty(MANY, np.int64), np.empty((MANY, 2), np.float64)
    facts = np.empty((MANY, 10), np.float64)
    across, down = np.empty((2, BLOCK), np.float32), np.empty((2, BLOCK), np.float32)
    share, total = np.empty((MANY, BLOCK * BLOCK), np.float32), np.empty((3, BLOCK * BLOCK), np.float32)
    least, first = np.empty(BLOCK * BLOCK, np.float32), np.empty(BLOCK * BLOCK, np.int32)
    sum1, sum2 = np.empty(BLOCK * BLOCK, np.float32), np.empty(BLOCK * BLOCK, np.float32)
    starts, weights = np.empty(BLOCK, np.int64), np.empty((2, 4, BLOCK), np.float32)
    step_x, step_y = w / width, h / height
    per_x, per_y = 1.0 / pitch_x, 1.0 / pitch_y
    none = np.float32(0)
    for b in range(b0, b1):
        for x0 in range(0, width, BLOCK):
            y0 = b * BLOCK
            y1, x1 = min(height, y0 + BLOCK), min(width, x0 + BLOCK)
            xm, ym = (x0 + x1) // 2, (y0 + y1) // 2
            # Half the diagonal, and how far the ragged edges lean within the block
            bent_x, bent_y = 0.0, 0.0
            for y in range(y0, y1):
                bent_x = max(bent_x, abs(lean_x[y] - lean_x[ym]))
            for x in range(x0, x1):
                bent_y = max(bent_y, abs(lean_y[x] - lean_y[xm]))
            half_x, half_y = 0.5 * BLOCK * step_x + step_x + bent_x, 0.5 * BLOCK * step_y + step_y + bent_y
            reach = math.sqrt(half_x * half_x + half_y * half_y)
            mx, my = (xm + 0.5) * step_x + lean_x[ym], (ym + 0.5) * step_y + lean_y[xm]
            count = _around(mx, my, cells, w, h, reach, join, lists, places)
            for q in range(count):
                i = lists[q]
                c, s = flat[i, 5], flat[i, 6]
                dx, dy = (x0 + 0.5) * step_x - places[q, 0], (y0 + 0.5) * step_y - places[q, 1]
                u = (places[q, 0] + flat[i, 2] + c * dx - s * dy) * per_x - 0.5
                v = (places[q, 1] + flat[i, 3] + s * dx + c * dy) * per_y - 0.5
                facts[q, 0], facts[q, 1] = c, s
                facts[q, 4], facts[q, 5] = c * step_x * per_x, -s * step_y * per_x
                facts[q, 6], facts[q, 7] = s * step_x * per_y, c * step_y * per_y
                # Moved by whole repeats, so that the middle of the block lies in the repeat and all of it in the frame
                um, vm = u + (facts[q, 4] + facts[q, 5]) * 0.5 * BLOCK, v + (facts[q, 6] + facts[q, 7]) * 0.5 * BLOCK
                facts[q, 2], facts[q, 3] = u - tw * math.floor(um / tw) + frame, v - th * math.floor(vm / th) + frame
                jump_x, jump_y = int(round(flat[i, 2] / pitch_x)), int(round(flat[i, 3] / pitch_y))
                facts[q, 8], facts[q, 9] = (x0 + jump_x) % tw + frame, (y0 + jump_y) % th + frame
            if count == 1 and exact and facts[0, 1] == 0.0:
                sx, sy = int(facts[0, 8]), int(facts[0, 9])
                for j in range(y1 - y0):
                    for i in range(x1 - x0):
                        for k in range(channels):
                            out[y0 + j, x0 + i, k] = src[sy + j, sx + i, k]
                continue
            if count == 1 and not ids:
                turned(src, facts[0], x1 - x0, y1 - y0, starts, weights[0], weights[1], out, y0, x0)
                if slopes:
                    # Chain rule, as in `take`
                    c32, s32 = np.float32(facts[0, 0]), np.float32(facts[0, 1])
                    for y in range(y0, y1):
                        for x in range(x0, x1):
                            a, d = out[y, x, 0], out[y, x, 1]
                            out[y, x, 0], out[y, x, 1] = c32 * a - s32 * d, s32 * a + c32 * d
                continue
            for i in range(BLOCK):
                x, y = min(x0 + i, width - 1), min(y0 + i, height - 1)
                across[0, i], across[1, i] = (x + 0.5) * step_x - mx, lean_y[x]
                down[0, i], down[1, i] = lean_x[y], (y + 0.5) * step_y - my
            _shares(across, down, places, count, mx, my, join, share, least, first, sum1, sum2)
            for i in range(BLOCK * BLOCK):
                total[0, i], total[1, i], total[2, i] = none, none, none
            alone = np.float32(1.0001)
            for q in range(count):
                for y in range(y0, y1):
                    for x in range(x0, x1):
                        i = (y - y0) * BLOCK + x - x0
                        t = share[q, i]
                        if first[i] == q and (ids or sum1[i] <= alone):
                            a, d, e = take(src, facts, q, x - x0, y - y0, exact, slopes, ids)
                            put(out, y, x, a, d, e)
                        elif t > none and sum1[i] > alone and not ids:
                            a, d, e = take(mixed, facts, q, x - x0, y - y0, exact, slopes, False)
                            total[0, i] += t * a
                            total[1, i] += t * d
                            total[2, i] += t * e
            if ids:
                continue
            for y in range(y0, y1):
                for x in range(x0, x1):
                    i = (y - y0) * BLOCK + x - x0
                    if sum1[i] <= alone:
                        continue
                    scale = np.float32(1.0) / np.sqrt(sum2[i])
                    if slopes:
                        put(out, y, x, total[0, i] * scale, total[1, i] * scale, none)
                        continue
                    # Where one cell counts for nearly all, its own sample: tables are a little coarser than samples
                    own = max(none, (np.float32(1) / sum1[i] - np.float32(0.9)) * np.float32(10))
                    a, d, e = none, none, none
                    if own > none:
                        a, d, e = take(src, facts, first[i], x - x0, y - y0, exact, slopes, False)
                    rest = np.float32(1) - own
                    value_a = value_of(total[0, i] * scale, 0, to_value)
                    if channels == 1:
                        a = own * a + rest * (back[0, 0] * value_a)
                    elif channels == 3:
                        value_b, value_c = value_of(total[1, i] * scale, 1, to_value), value_of(total[2, i] * scale, 2, to_value)
                        a = own * a + rest * (back[0, 0] * value_a + back[0, 1] * value_b + back[0, 2] * value_c)
                        d = own * d + rest * (back[1, 0] * value_a + back[1, 1] * value_b + back[1, 2] * value_c)
                        e = own * e + rest * (back[2, 0] * value_a + back[2, 1] * value_b + back[2, 2] * value_c)
                    put(out, y, x, a, d, e)


def _ragged(n: int, length: float, cell: float, much: float, phase: float) -> NDArray[np.float64]:
    """How far the edges of cells lean at every texel of a side: a wavy line that wraps."""
    at = (np.arange(n) + 0.5) / n * 2 * np.pi
    k = max(1, round(length / cell))
    return much * (
        0.6 * np.sin(k * at + phase) + 0.3 * np.sin((2 * k + 1) * at + 2.3 * phase) + 0.15 * np.sin((5 * k + 2) * at + phase)
    )


def broken_up(
    image: Image,
    cells: NDArray[np.float64],
    width: int,
    height: int,
    size_mm: tuple[float, float],
    join: float,
    outline: str,
    task: Task,
) -> Floats:
    """One thread through the cells.

    Parameters
    ----------
    image : Image
        A repeat that wraps.
    cells : array
        See `layout`.
    width, height : int
        Texels of the larger sheet.
    size_mm : tuple of float
        Its size.
    join : float
        Width of the transitions as a part of a cell.
    outline : str
        'irregular' cells get ragged edges.
    """
    slopes = image.kind is Kind.NORMAL
    pitch = image.size_mm[0] / image.width, image.size_mm[1] / image.height
    ratio = max(size_mm[0] / width / pitch[0], size_mm[1] / height / pitch[1])
    frame = math.ceil(BLOCK * max(1.0, ratio * max(pitch) / min(pitch))) + 4  # a turned block, from a middle in the repeat
    values = framed(slopes_of(image.pixels, task) if slopes else image.pixels, frame)
    plain = slopes or image.kind is Kind.ID
    tables = _IDENTITY if plain else learn(sampled(image.pixels), image.kind)
    mixed = values if plain else scores_of(values, tables, task)
    cell = size_mm[0] / cells.shape[1]
    tiles = round(size_mm[0] / image.size_mm[0]), round(size_mm[1] / image.size_mm[1])
    exact = width == tiles[0] * image.width and height == tiles[1] * image.height
    out = np.empty((height, width, values.shape[2]), np.float32)
    much = 0.09 * cell if outline == "irregular" else 0.0
    run = partial(
        _break,
        values,
        mixed,
        frame,
        image.width,
        image.height,
        _with_turns(cells),
        size_mm[0],
        size_mm[1],
        join * cell,
        _ragged(height, size_mm[1], cell, much, 0.7),
        _ragged(width, size_mm[0], cell, much, 1.9),
        pitch[0],
        pitch[1],
        exact,
        slopes,
        image.kind is Kind.ID,
        tables.back,
        tables.to_value,
        out,
    )
    over_rows(-(-height // BLOCK), run, task, least=2, cost=width * 64 * BLOCK * out.shape[2] * 2e-5)
    return normals_of(out, task) if slopes else out


_IDENTITY = Gauss(*(np.zeros((3, 3), np.float32),) * 2, np.zeros((3, 4), np.float32), np.zeros((3, 2), np.float32))


def outlines(s: BreakUpSettings, tile_mm: tuple[float, float], width: int, height: int, task: Task) -> Image:
    """The cells by themselves, a flat colour each, as they are joined on the surface."""
    cells = layout(s, tile_mm)
    size = tile_mm[0] * s.repeat_x, tile_mm[1] * s.repeat_y
    rows, columns = cells.shape[:2]
    tones = np.random.default_rng(3).uniform(0.1, 0.8, (rows * columns, 3)).astype(np.float32)
    numbers = np.empty((height, width, 1), np.float32)
    cell = size[0] / columns
    much = 0.09 * cell if s.cells == "irregular" else 0.0
    lean = _ragged(height, size[1], cell, much, 0.7), _ragged(width, size[0], cell, much, 1.9)
    over_rows(height, partial(_labels, cells, size[0], size[1], *lean, numbers), task)
    return Image(np.ascontiguousarray(tones[numbers[..., 0].astype(int)]), Kind.COLOUR, size, True)


@kernel("f8[:,:,::1], f8, f8, f8[::1], f8[::1], f4[:,:,::1], i8, i8")
def _labels(cells, w, h, lean_x, lean_y, out, y0, y1):  # type: ignore[no-untyped-def]
    lists, places = np.empty(MANY, np.int64), np.empty((MANY, 2), np.float64)
    height, width, _ = out.shape
    for y in range(y0, y1):
        for x in range(width):
            px, py = (x + 0.5) * w / width + lean_x[y], (y + 0.5) * h / height + lean_y[x]
            count = _around(px, py, cells, w, h, 0.0, 1e-9, lists, places)
            out[y, x, 0] = lists[0] if count else 0


def _with_turns(cells: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.ascontiguousarray(np.concatenate([cells, np.cos(cells[..., 4:5]), np.sin(cells[..., 4:5])], -1))
