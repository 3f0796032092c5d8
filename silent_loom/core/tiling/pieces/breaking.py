"""Cells of a broken-up sheet, each showing another place of the repeat: which show at a place, and what is seen there."""

from __future__ import annotations

import math

import numpy as np

from silent_loom.core.base.kernels import kernel, subkernel
from silent_loom.core.moving.gauss import value_of
from silent_loom.core.tiling.pieces.pieces import BLOCK, put, take, turned

MANY = 30
"""Cells that may show in one block: all that are looked at around it."""

ALONE = 1.0001
"""Up to this sum of shares a texel is shown by one cell only."""


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


@subkernel
def _reach(x0, y0, x1, y1, lean_x, lean_y, step_x, step_y):  # type: ignore[no-untyped-def]
    # Half the diagonal of a block, and how far the ragged edges lean within the block
    xm, ym = (x0 + x1) // 2, (y0 + y1) // 2
    bent_x, bent_y = 0.0, 0.0
    for y in range(y0, y1):
        bent_x = max(bent_x, abs(lean_x[y] - lean_x[ym]))
    for x in range(x0, x1):
        bent_y = max(bent_y, abs(lean_y[x] - lean_y[xm]))
    half_x, half_y = 0.5 * BLOCK * step_x + step_x + bent_x, 0.5 * BLOCK * step_y + step_y + bent_y
    return math.sqrt(half_x * half_x + half_y * half_y)


@subkernel
def _facts_of(flat, lists, places, count, x0, y0, step_x, step_y, pitch_x, pitch_y, tw, th, frame, facts):  # type: ignore[no-untyped-def]
    # What `take` wants to know of each candidate of a block
    per_x, per_y = 1.0 / pitch_x, 1.0 / pitch_y
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


@subkernel
def _copied(src, facts, exact, slopes, x0, y0, x1, y1, starts, weights, out):  # type: ignore[no-untyped-def]
    # A block that only one cell shows
    if exact and facts[0, 1] == 0.0:
        sx, sy = int(facts[0, 8]), int(facts[0, 9])
        for j in range(y1 - y0):
            for i in range(x1 - x0):
                for k in range(out.shape[2]):
                    out[y0 + j, x0 + i, k] = src[sy + j, sx + i, k]
        return
    turned(src, facts[0], x1 - x0, y1 - y0, starts, weights[0], weights[1], out, y0, x0)
    if slopes:
        # Chain rule, as in `take`
        c32, s32 = np.float32(facts[0, 0]), np.float32(facts[0, 1])
        for y in range(y0, y1):
            for x in range(x0, x1):
                a, d = out[y, x, 0], out[y, x, 1]
                out[y, x, 0], out[y, x, 1] = c32 * a - s32 * d, s32 * a + c32 * d


@subkernel
def _summed(src, mixed, facts, count, x0, y0, x1, y1, share, first, sum1, total, exact, slopes, ids, out):  # type: ignore[no-untyped-def]
    # Texels that one cell has to itself are done; of the others the sum of what their cells show
    none, alone = np.float32(0), np.float32(ALONE)
    for i in range(BLOCK * BLOCK):
        total[0, i], total[1, i], total[2, i] = none, none, none
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


@subkernel
def _blended(src, facts, x0, y0, x1, y1, first, sum1, sum2, total, exact, slopes, back, to_value, out):  # type: ignore[no-untyped-def]
    # The sums with the deviation that they would have lost, brought back to the histogram of the surface
    none, alone = np.float32(0), np.float32(ALONE)
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
            if out.shape[2] == 1:
                a = own * a + rest * (back[0, 0] * value_a)
            elif out.shape[2] == 3:
                value_b, value_c = value_of(total[1, i] * scale, 1, to_value), value_of(total[2, i] * scale, 2, to_value)
                a = own * a + rest * (back[0, 0] * value_a + back[0, 1] * value_b + back[0, 2] * value_c)
                d = own * d + rest * (back[1, 0] * value_a + back[1, 1] * value_b + back[1, 2] * value_c)
                e = own * e + rest * (back[2, 0] * value_a + back[2, 1] * value_b + back[2, 2] * value_c)
            put(out, y, x, a, d, e)


@kernel(
    "f4[:,:,::1], f4[:,:,::1], i8, i8, i8, f8[:,:,::1], f8, f8, f8, f8[::1], f8[::1], f8, f8, b1, b1, b1, "
    "f4[:,::1], f4[:,::1], f4[:,:,::1], i8, i8",
)
def show_cells(  # type: ignore[no-untyped-def]
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
    # Rows b0 … b1 of blocks. mixed: the samples in their Gaussian form, in which they are blended; for slopes the samples
    rows, columns, kinds = cells.shape
    height, width = out.shape[0], out.shape[1]
    flat = cells.reshape(rows * columns, kinds)
    lists, places = np.empty(MANY, np.int64), np.empty((MANY, 2), np.float64)
    facts = np.empty((MANY, 10), np.float64)
    across, down = np.empty((2, BLOCK), np.float32), np.empty((2, BLOCK), np.float32)
    share, total = np.empty((MANY, BLOCK * BLOCK), np.float32), np.empty((3, BLOCK * BLOCK), np.float32)
    least, first = np.empty(BLOCK * BLOCK, np.float32), np.empty(BLOCK * BLOCK, np.int32)
    sum1, sum2 = np.empty(BLOCK * BLOCK, np.float32), np.empty(BLOCK * BLOCK, np.float32)
    starts, weights = np.empty(BLOCK, np.int64), np.empty((2, 4, BLOCK), np.float32)
    step_x, step_y = w / width, h / height
    for b in range(b0, b1):
        for x0 in range(0, width, BLOCK):
            y0 = b * BLOCK
            y1, x1 = min(height, y0 + BLOCK), min(width, x0 + BLOCK)
            xm, ym = (x0 + x1) // 2, (y0 + y1) // 2
            reach = _reach(x0, y0, x1, y1, lean_x, lean_y, step_x, step_y)
            mx, my = (xm + 0.5) * step_x + lean_x[ym], (ym + 0.5) * step_y + lean_y[xm]
            count = _around(mx, my, cells, w, h, reach, join, lists, places)
            _facts_of(flat, lists, places, count, x0, y0, step_x, step_y, pitch_x, pitch_y, tw, th, frame, facts)
            if count == 1 and (not ids or (exact and facts[0, 1] == 0.0)):
                _copied(src, facts, exact, slopes, x0, y0, x1, y1, starts, weights, out)
                continue
            for i in range(BLOCK):
                x, y = min(x0 + i, width - 1), min(y0 + i, height - 1)
                across[0, i], across[1, i] = (x + 0.5) * step_x - mx, lean_y[x]
                down[0, i], down[1, i] = lean_x[y], (y + 0.5) * step_y - my
            _shares(across, down, places, count, mx, my, join, share, least, first, sum1, sum2)
            _summed(src, mixed, facts, count, x0, y0, x1, y1, share, first, sum1, total, exact, slopes, ids, out)
            if not ids:
                _blended(src, facts, x0, y0, x1, y1, first, sum1, sum2, total, exact, slopes, back, to_value, out)


@kernel("f8[:,:,::1], f8, f8, f8[::1], f8[::1], f4[:,:,::1], i8, i8")
def label_cells(cells, w, h, lean_x, lean_y, out, y0, y1):  # type: ignore[no-untyped-def]
    lists, places = np.empty(MANY, np.int64), np.empty((MANY, 2), np.float64)
    height, width, _ = out.shape
    for y in range(y0, y1):
        for x in range(width):
            px, py = (x + 0.5) * w / width + lean_x[y], (y + 0.5) * h / height + lean_y[x]
            count = _around(px, py, cells, w, h, 0.0, 1e-9, lists, places)
            out[y, x, 0] = lists[0] if count else 0
