"""Patterns: how long each takes at 1024, its seam figure, and whether small pictures are large ones reduced.

Run with ``python -m bench.patterns [NAME …]``; ``--ratios`` holds three of them against their plain numpy form, and times a weave of
thirty steps.
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
from silent_loom.core.patterns.bonds import laid
from silent_loom.core.patterns.cellular import cellular
from silent_loom.core.patterns.ground import FIELDS, Ground
from silent_loom.core.patterns.hashing import grid
from silent_loom.core.patterns.laying import beside
from silent_loom.core.patterns.noise import noise
from silent_loom.core.ways.sources import FileSources
from silent_loom.core.weave import registry
from silent_loom.core.weave.answers.cache import Cache
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.beginnings import beginnings, woven_from
from silent_loom.core.weave.rows.model import Mask, StepEntry, Weave


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


# --- plain numpy forms -----------------------------------------------------------------------------------------------


def plain_noise(n: int, cells: int, octaves: int) -> Floats:
    """Gradient noise summed over octaves, an array operation at a time."""
    out = np.zeros((n, n))
    for k in range(octaves):
        m = cells << k
        angle = grid(m, m, k) * 2 * np.pi
        u, v = np.meshgrid(*[(np.arange(n) + 0.5) / n * m] * 2)
        i, j = u.astype(int), v.astype(int)
        fx, fy = u - i, v - j
        sx, sy = (t**3 * (t * (t * 6 - 15) + 10) for t in (fx, fy))
        corner = [
            [np.cos(a := angle[(j + b) % m, (i + c) % m]) * (fx - c) + np.sin(a) * (fy - b) for c in (0, 1)] for b in (0, 1)
        ]
        top = corner[0][0] + (corner[0][1] - corner[0][0]) * sx
        low = corner[1][0] + (corner[1][1] - corner[1][0]) * sx
        out += 0.5**k * (top + (low - top) * sy)
    return out.astype(np.float32)


def plain_cells(n: int, cells: int) -> Floats:
    """The nearest two of 25 points and the distance to the border, an array operation at a time."""
    u, v = np.meshgrid(*[(np.arange(n) + 0.5) / n * cells] * 2)
    i, j = u.astype(int), v.astype(int)
    px, py = grid(cells, cells, 1), grid(cells, cells, 2)
    away = []
    for b in range(-2, 3):
        for a in range(-2, 3):
            at = (j + b) % cells, (i + a) % cells
            away.append((i + a + px[at] - u, j + b + py[at] - v))
    far = np.array([x * x + y * y for x, y in away])
    nearest = far.argmin(0)
    bx, by = (np.take_along_axis(np.array([d[k] for d in away]), nearest[None], 0)[0] for k in (0, 1))
    edge = np.full((n, n), 1e9)
    for x, y in away:
        gx, gy = x - bx, y - by
        long = np.hypot(gx, gy)
        edge = np.where(long > 1e-6, np.minimum(edge, ((x + bx) * gx + (y + by) * gy) / (2 * np.maximum(long, 1e-9))), edge)
    return edge.astype(np.float32)


def plain_bond(n: int, table: Floats, mm: float) -> Floats:
    """Distances to boxes with round corners, one box after another over the whole sheet."""
    x, y = np.meshgrid(*[(np.arange(n) + 0.5) * mm / n] * 2)
    out = np.full((n, n), -1e9)
    for cx, cy, c, s, hx, hy, r in table[:, :7]:
        dx, dy = (x - cx + mm / 2) % mm - mm / 2, (y - cy + mm / 2) % mm - mm / 2
        qx, qy = np.abs(dx * c + dy * s) - hx + r, np.abs(dy * c - dx * s) - hy + r
        out = np.maximum(out, r - np.hypot(np.maximum(qx, 0), np.maximum(qy, 0)) - np.minimum(np.maximum(qx, qy), 0))
    return out.astype(np.float32)


def timed(work: Any, times: int = 3) -> float:
    """Milliseconds, the quickest of some."""
    work()
    found = []
    for _ in range(times):
        FIELDS.forget()
        started = time.perf_counter()
        work()
        found.append(1e3 * (time.perf_counter() - started))
    return min(found)


def ratios() -> None:
    """Three patterns against their plain form at 1024, and a weave of thirty steps at 512."""
    ground = Ground.of(1024, 1024, (1000.0, 1000.0))
    table = laid(ground, "running", 100, 50).table(8, 3, 1)
    for words, ours, plain in (
        ("noise, six octaves", lambda: noise(ground, (8, 8), octaves=6), lambda: plain_noise(1024, 8, 6)),
        ("cells", lambda: cellular(ground, (16, 16)), lambda: plain_cells(1024, 16)),
        ("bond of 200", lambda: beside(ground, table, 10), lambda: plain_bond(1024, table, 1000.0)),
    ):
        a, b = timed(ours), timed(plain, 1)
        print(f"{words:20} {a:7.0f} ms, plain {b:7.0f} ms, {b / a:5.1f} times as fast")
    weave = thirty()
    row = next(r for r in weave.rows() if r.step == "noise" and r.mix == "add")
    asked = evaluator()
    asked.ask_many(weave, OUT, 32)
    asked = evaluator()
    FIELDS.forget()
    cold = timed_once(lambda: asked.ask_many(weave, OUT, 512))
    changed = weave.with_settings(row.id, {"depth_mm": 3.0})
    dial = timed_once(lambda: asked.ask_many(changed, OUT, 512))
    print(
        f"a weave of {len(weave.rows())} steps at 512: {cold:.0f} ms from cold, {dial:.0f} ms after a changed setting near its beginning"
    )


OUT = ("base", "normal", "roughness", "metallic", "occlusion")


def timed_once(work: Any) -> float:
    started = time.perf_counter()
    work()
    return 1e3 * (time.perf_counter() - started)


def thirty() -> Weave:
    """Clinkers with everything that they have, and more on top: thirty steps."""
    weave = woven_from("clinkers")
    more = []
    while len(weave.rows()) + len(more) < 30:
        k = len(more) // 2
        more.append(StepEntry(step="where", settings={"by": "noise", "scale_mm": 40.0 + 10 * k, "name": f"dirt{k}"}))
        stops = [[0.0, 0.2, 0.18, 0.15]]
        more.append(StepEntry(step="dye", settings={"thread": "mottle", "ramp": stops}, mask=Mask(thread=f"dirt{k}"), amount=0.3))
    return weave.model_copy(update={"steps": (*weave.steps, *more[: 30 - len(weave.rows())])})


def main(names: list[str]) -> int:
    if names == ["--ratios"]:
        ratios()
        return 0
    print(f"{'pattern':20} {'ms at 1024':>10} {'seam':>6} {'alike':>6}")
    for name in names or list(beginnings()):
        weave = alone(name)
        evaluator().ask(weave, "height", 64)
        fresh = evaluator()
        FIELDS.forget()
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
