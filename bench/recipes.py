"""Recipes without a photo: seam figures at 1024, the likeness of 256 and 4096, and ratios of times at 512.

Run with ``python -m bench.recipes [NAME …]``. Times are told as parts of the time of six octaves of noise at 1024, so that machines can be compared.
"""

from __future__ import annotations

import sys
import time

import numpy as np

from bench.patterns import alike, evaluator
from silent_loom.core.look.meters.seam_meter import seams
from silent_loom.core.moving.resample import reduce_area
from silent_loom.core.patterns.ground import FIELDS
from silent_loom.core.weave.rows.dials import knobs, turned
from silent_loom.core.weave.rows.model import StepEntry, Weave
from silent_loom.core.weave.rows.saved import shipped
from silent_loom.work.cards import PICTURE_MAPS

LUMA = np.array([0.2126, 0.7152, 0.0722], np.float32)


def seconds(weave: Weave, size: int = 512) -> tuple[float, float]:
    """From cold, and after one changed dial."""
    asked = evaluator()
    FIELDS.forget()
    maps = [t for t in PICTURE_MAPS if t in asked.plan(weave).threads]
    began = time.perf_counter()
    asked.ask_many(weave, maps, size)
    cold = time.perf_counter() - began
    dial = next((k.dial for k in knobs(weave) if k.dial.value < k.dial.high), None)
    if dial is None:
        return cold, 0.0
    changed = turned(weave, {dial.id: dial.value + 0.3 * (dial.high - dial.value)})
    began = time.perf_counter()
    asked.ask_many(changed, maps, size)
    return cold, time.perf_counter() - began


def unit() -> float:
    """Time of six octaves of noise."""
    weave = Weave(steps=(StepEntry(step="blank"), StepEntry(step="noise", settings={"octaves": 6})))
    return min(_once(weave) for _ in range(3))


def _once(weave: Weave) -> float:
    asked = evaluator()
    FIELDS.forget()
    began = time.perf_counter()
    asked.ask(weave, "height", 1024)
    return time.perf_counter() - began


def main(names: list[str]) -> int:
    one = unit()
    print(f"{'recipe':24} seam  alike  cold  dial   (a unit is {1000 * one:.0f} ms)")
    for name in names or [n for n, r in shipped().items() if not r.slots]:
        weave, asked = shipped()[name].weave, evaluator()
        x, y = seams(asked.ask(weave, "base", 1024), search=False)
        small, large = (asked.ask(weave, "base", s) for s in (256, 4096))
        down = reduce_area(large.pixels, small.width, small.height)
        like = alike(small.pixels @ LUMA, down @ LUMA)
        cold, dial = seconds(weave)
        print(
            f"{name:24} {max(x.figure, y.figure):.2f}  {like:.3f}  {cold / one:5.1f}  {dial / one:4.1f}   {1000 * cold:.0f} ms, {1000 * dial:.0f} ms"
        )
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
