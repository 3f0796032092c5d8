"""Threads that cross: cloth out of a draft."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import IDLE, Task, over_rows
from silent_loom.core.patterns.ground import Ground

DRAFTS: dict[str, tuple[str, ...]] = {
    "plain": ("10", "01"),
    "basket": ("1100", "1100", "0011", "0011"),
    "twill": ("1100", "0110", "0011", "1001"),
    "herringbone": (
        "11001001",
        "01101100",
        "00110110",
        "10010011",
    ),
    "satin": ("11110", "10111", "11101", "01111", "11011"),
    "rib": ("10", "10", "01", "01"),
    "diamond": ("110011", "011110", "001100", "001100", "011110", "110011"),
}
"""A row for each weft thread, a letter for each warp thread: 1 where the warp lies over the weft."""


@dataclass(frozen=True)
class Cloth:
    """Cloth of a sheet.

    Attributes
    ----------
    height : float32 array, shape (H, W)
        0…1.
    which : int32 array, shape (H, W)
        Thread on top from 1, those of the warp first; 0 where one sees through.
    warp : bool array, shape (H, W)
        Whether that is a warp thread.
    along : float32 array, shape (H, W)
        Place along that thread in mm.
    aside : float32 array, shape (H, W)
        Place across it, −1…1.
    """

    height: Floats
    which: NDArray[np.int32]
    warp: NDArray[np.bool_]
    along: Floats
    aside: Floats


@kernel("u1[:,::1], f4, f4, f4, f4, f4, f4, f4, f4[:,::1], i4[:,::1], f4[:,::1], f4[:,::1], i8, i8, i8, i8")
def _weave(draft, across, down, thick_x, thick_y, crimp, pitch_x, pitch_y, out, which, along, aside, nx, ny, y0, y1):  # type: ignore[no-untyped-def]
    # Each place sees one warp thread and one weft thread. A thread's middle goes up and down between the crossings that the
    # draft names; across it is round.
    rows, columns = draft.shape
    one, half = np.float32(1), np.float32(0.5)
    for y in range(y0, y1):
        v = (np.float32(y) + half) / down
        j = int(v)
        fy = v - np.float32(j) - half
        jn = j + 1 if fy > 0 else j + rows - 1  # the crossing that comes next on the warp thread
        ty = half - half * np.cos(np.float32(np.pi) * abs(fy))
        qy = fy * np.float32(2) / thick_y
        for x in range(out.shape[1]):
            u = (np.float32(x) + half) / across
            i = int(u)
            fx = u - np.float32(i) - half
            xn = i + 1 if fx > 0 else i + columns - 1
            tx = half - half * np.cos(np.float32(np.pi) * abs(fx))
            qx = fx * np.float32(2) / thick_x
            here = np.float32(draft[j % rows, i % columns])
            warp_z = here + ty * (np.float32(draft[jn % rows, i % columns]) - here)
            weft_z = one - (here + tx * (np.float32(draft[j % rows, xn % columns]) - here))
            # Half above the middle, half below: of a round thread's height the part that its crimp leaves
            a = crimp * warp_z + (one - crimp) * np.sqrt(one - qx * qx) if abs(qx) < one else np.float32(-1)
            b = crimp * weft_z + (one - crimp) * np.sqrt(one - qy * qy) if abs(qy) < one else np.float32(-1)
            if a < 0 and b < 0:
                out[y, x], which[y, x], along[y, x], aside[y, x] = 0, 0, 0, 0
            elif a >= b:
                out[y, x], which[y, x] = a, 1 + i % nx
                along[y, x], aside[y, x] = (np.float32(y) + half) * pitch_y, qx
            else:
                out[y, x], which[y, x] = b, 1 + nx + j % ny
                along[y, x], aside[y, x] = (np.float32(x) + half) * pitch_x, qy


def woven(
    ground: Ground,
    draft: tuple[str, ...],
    warp_mm: float,
    weft_mm: float,
    *,
    thick: tuple[float, float] = (0.9, 0.9),
    crimp: float = 0.5,
    task: Task = IDLE,
) -> Cloth:
    """Cloth after a draft, whole repeats of which go on a sheet.

    Parameters
    ----------
    draft : tuple of str
        See `DRAFTS`.
    warp_mm, weft_mm : float
        From one thread to the next.
    thick : tuple of float
        Width of warp and weft threads, in parts of that.
    crimp : float
        How much threads go up and down, of the whole height; the rest is their roundness.

    >>> from silent_loom.core.patterns.ground import Ground
    >>> cloth = woven(Ground.of(64, 64, (8.0, 8.0)), ("10", "01"), 2.0, 2.0)
    >>> round(float(cloth.warp.mean()), 1)
    0.5
    """
    marks = np.ascontiguousarray([[letter == "1" for letter in row] for row in draft], np.uint8)
    nx, ny = ground.counts(warp_mm, weft_mm, (marks.shape[1], marks.shape[0]))
    shape = ground.height, ground.width
    out, along, aside = (np.empty(shape, np.float32) for _ in range(3))
    which = np.empty(shape, np.int32)
    lengths = (ground.texels[0] / nx, ground.texels[1] / ny, *thick, crimp, *ground.pitch)
    fixed: list[Any] = [marks, *(np.float32(n) for n in lengths), out, which, along, aside, nx, ny]
    over_rows(ground.height, partial(_weave, *fixed), task, cost=ground.width * 1.5e-3)
    return Cloth(out, which, (which > 0) & (which <= nx), along, aside)
