"""Patterns: how long each takes at 1024, its seam figure, and whether small pictures are large ones reduced.

Run with ``python -m bench.patterns [NAME …]``.
"""

from __future__ import annotations

import sys
import time
from pathlib import Path
from typing import Any

import numpy as np

from silent_loom.core.base.images import Floats
from silent_loom.core.look.meters.seam_meter import seams
from silent_loom.core.moving.resample import blur, reduce_area
from silent_loom.core.ways.sources import FileSources
from silent_loom.core.weave import registry
from silent_loom.core.weave.answers.cache import Cache
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.beginnings import beginnings
from silent_loom.core.weave.rows.model import StepEntry, Weave


def _no_file(digest: str) -> tuple[Path, str, str]:
    raise KeyError(digest)


def evaluator() -> Evaluator:
    return Evaluator(FileSources(_no_file), Cache(2 << 30))


def alone(name: str) -> Weave:
    """The pattern's own step on its sheet."""
    b = beginnings()[name]
    sheet = StepEntry(step=registry.able("sheet"), settings={"width_mm": b.size_mm[0], "height_mm": b.size_mm[1]})
    return Weave(steps=(sheet, StepEntry(step=b.step, settings=b.settings)))


def alike(a: Floats, b: Floats) -> float:
    """Mean structural similarity (Wang, Bovik, Sheikh & Simoncelli 2004), Gaussian windows of 1.5 texels, on a torus."""
    span = float(max(np.ptp(a), np.ptp(b), 1e-9))
    c1, c2 = (0.01 * span) ** 2, (0.03 * span) ** 2

    def mean(plane: Any) -> Any:
        return blur(np.ascontiguousarray(plane, np.float32), 1.5, True).astype(np.float64)

    a, b = a - a.mean(), b - a.mean()
    ma, mb = mean(a), mean(b)
    va, vb, ab = mean(a * a) - ma * ma, mean(b * b) - mb * mb, mean(a * b) - ma * mb
    return float((((2 * ma * mb + c1) * (2 * ab + c2)) / ((ma * ma + mb * mb + c1) * (va + vb + c2))).mean())


def main(names: list[str]) -> int:
    print(f"{'pattern':20} {'ms at 1024':>10} {'seam':>6} {'alike':>6}")
    for name in names or list(beginnings()):
        weave = alone(name)
        evaluator().ask(weave, "height", 64)
        fresh = evaluator()
        started = time.perf_counter()
        height = fresh.ask(weave, "height", 1024)
        spent = 1e3 * (time.perf_counter() - started)
        x, y = seams(height, search=False)
        small = fresh.ask(weave, "height", 256).plane()
        large = reduce_area(fresh.ask(weave, "height", 4096).pixels, small.shape[1], small.shape[0])[..., 0]
        print(f"{name:20} {spent:10.0f} {max(x.figure, y.figure):6.2f} {alike(small, large):6.3f}", flush=True)
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
