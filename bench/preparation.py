"""Closing, breaking up, growing and filling at full size, as multiples of one plain copy of what is written.

Run as ``python -m bench.desk.preparation [SIDE]``; SIDE is that of the sheet, 4096 unless told.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
from scipy.spatial import cKDTree

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import IDLE
from silent_loom.core.moving.resample import resize
from silent_loom.core.steps.maps.normal import from_height
from silent_loom.core.steps.tiling.breakup import BreakUp, BreakUpSettings
from silent_loom.core.steps.tiling.clean import Clean, CleanSettings, Region
from silent_loom.core.steps.tiling.quilt import Quilt, QuiltSettings
from silent_loom.core.steps.tiling.seamless import SEAMLESS, SeamlessSettings
from silent_loom.core.weave.step import CarryStep, Geometry, Sheet


def surface(side: int, channels: int, seed: int) -> Floats:
    """Periodic noise that looks like a rough surface, about 0.2 to 0.6."""
    rng = np.random.default_rng(seed)
    k = np.hypot(*np.meshgrid(np.fft.rfftfreq(side), np.fft.fftfreq(side)))
    k[0, 0] = 1
    out = np.empty((side, side, channels), np.float32)
    for c in range(channels):
        plane = np.fft.irfft2(np.fft.rfft2(rng.standard_normal((side, side))) * k**-1.1)
        out[..., c] = 0.4 + 0.07 * plane / plane.std()
    return out


def a_set(side: int) -> dict[str, Image]:
    """Six maps of a metre."""
    size = (1000.0, 1000.0)
    height = Image(surface(side, 1, 1) * 30, Kind.DATA, size, True)
    data = {n: Image(surface(side, 1, i), Kind.DATA, size, True) for i, n in enumerate(("roughness", "metallic", "occlusion"), 2)}
    return {"base": Image(surface(side, 3, 0), Kind.COLOUR, size, True), "height": height, "normal": from_height(height), **data}


def plates(side: int) -> dict[str, Image]:
    """The same six maps, with the joints of plates in base colour and height: a cut through them moves its ends."""
    maps, count = a_set(side), 9
    rng = np.random.default_rng(5)
    middles = (
        np.stack(np.mgrid[0 : count + 2, 0 : count + 2], -1).reshape(-1, 2) - 1 + rng.uniform(0.1, 0.9, ((count + 2) ** 2, 2))
    ) / count
    small = min(side, 1024)
    at = (np.stack(np.mgrid[0:small, 0:small], -1).reshape(-1, 2) + 0.5) / small
    away, _ = cKDTree(middles).query(at, k=2)
    joint = np.float32(1) - np.float32(0.7) * (away[:, 1] - away[:, 0] < 6 / 1024).astype(np.float32).reshape(small, small, 1)
    large = resize(Image(joint, Kind.DATA, maps["base"].size_mm), side, side).pixels
    return {n: replace(i, pixels=i.pixels * large) if n in ("base", "height") else i for n, i in maps.items()}


def best(work: Callable[[], Any], times: int = 2) -> float:
    found = []
    for _ in range(times):
        start = time.perf_counter()
        work()
        found.append(time.perf_counter() - start)
    return min(found)


def copied(maps: dict[str, Image], times: int) -> float:
    """Seconds that a plain copy of all samples of the result takes, ``times`` as many as come in."""

    def copy() -> None:
        for image in maps.values():
            for _ in range(times):
                np.copyto(np.empty_like(image.pixels), image.pixels)

    return best(copy)


def run(step: CarryStep[Any], s: Any, maps: dict[str, Image], wraps: bool, texels: tuple[int, int]) -> tuple[float, float]:
    """Seconds to decide, and to carry all maps."""
    open_maps = {n: Image(i.pixels, i.kind, i.size_mm, wraps) for n, i in maps.items()}
    first = next(iter(maps.values()))
    before = Geometry(first.size_mm, wraps)
    after = step.geometry(s, before, None)  # type: ignore[arg-type]
    scale = round(1024 * (step.decision_scale or 0.1))
    small = {n: resize(i, scale, scale) for n, i in open_maps.items() if n in ("base", "height")}
    deciding = best(lambda: step.decide(s, small, before, IDLE), 1)
    decision = step.decide(s, small, before, IDLE)
    sheet = Sheet(before, after, (float(texels[0]), float(texels[1])), None)  # type: ignore[arg-type]

    def carry() -> None:
        for image in open_maps.values():
            step.carry(s, image, decision, sheet, IDLE)

    return deciding, best(carry)


def main() -> None:
    side = int(sys.argv[1]) if len(sys.argv) > 1 else 4096
    kept = round(side * 0.8)
    big, half = a_set(side), a_set(side // 2)
    disc = tuple((0.5 + 0.056 * np.cos(a), 0.5 + 0.056 * np.sin(a)) for a in np.linspace(0, 6.28, 40))
    lined = plates(side)
    jobs: list[tuple[str, CarryStep[Any], Any, dict[str, Image], bool, tuple[int, int], int]] = [
        *(
            (f"{m}, {side}²", SEAMLESS, SeamlessSettings(method=m), big, False, (kept, kept), 1)  # type: ignore[arg-type]
            for m in ("cut", "fade", "gradient")
        ),
        (f"cut, moved, {side}²", SEAMLESS, SeamlessSettings(), lined, False, (kept, kept), 1),
        (f"break up to {2 * side}²", BreakUp(), BreakUpSettings(repeat_x=4, repeat_y=4), half, True, (2 * side,) * 2, 16),
        ("the same, turned", BreakUp(), BreakUpSettings(repeat_x=4, repeat_y=4, turn_deg=180), half, True, (2 * side,) * 2, 16),
        (f"grow to {side}²", Quilt(), QuiltSettings(), half, False, (side, side), 4),
        (f"fill 1 %, {side}²", Clean(), CleanSettings(regions=(Region(points=disc),)), big, True, (side, side), 1),
    ]
    print(f"{'':24}{'decide':>10}{'carry':>10}{'times a plain copy':>22}")
    for name, step, s, maps, wraps, texels, times in jobs:
        deciding, carrying = run(step, s, maps, wraps, texels)
        print(f"{name:24}{deciding:9.2f}s{carrying:9.2f}s{carrying / copied(maps, times):22.1f}", flush=True)


if __name__ == "__main__":
    main()
