"""Maps of single photos against known truth, on families that training never saw: `python -m bench.reading` prints the tables of
docs/reading.md.

Every surface is photographed by code (`tools/training/`), its maps are derived with the light told, and are held
against the surface: by the reading of light, by brightness alone (what `derive` does), and by the linear
integral of shading.
"""

from __future__ import annotations

import sys
from collections.abc import Mapping
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from PIL import Image as Pillow

from silent_loom.core.base.colour import luminance
from silent_loom.core.base.images import Floats, Image, Kind, data
from silent_loom.core.base.parallel import IDLE
from silent_loom.core.base.srgb import decode_table
from silent_loom.core.maps.horizon import sky_of
from silent_loom.core.steps.maps.height import Height, HeightSettings
from silent_loom.core.steps.maps.normal import from_height
from silent_loom.core.steps.photo.reading import FINISH, OPEN, SURE, ReadFromLight, ReadingSettings
from silent_loom.core.steps.photo.unlit import ColourWithoutLight, UnlitSettings
from silent_loom.core.weave.rows.recipes import recipe
from silent_loom.core.weave.step import Geometry, MapStep, Sheet

SIDE = 384
"""Texels along a sheet; a texel is a millimetre."""
MARGIN = 32
WAYS = ("reading", "brightness", "linear")
RADIUS_MM = 24.0


@dataclass(frozen=True)
class Truth:
    """A made-up surface and the photo of it; heights in millimetres."""

    family: str
    light: str
    photo: Image
    height: Floats
    normal: Floats
    occlusion: Floats
    colour: Floats
    roughness: Floats
    misleading: bool


def made(number: int) -> Truth:
    """The surface of that number."""
    from tools.training.camera import photographed
    from tools.training.colours import painted
    from tools.training.light import lit
    from tools.training.reliefs import HELD_OUT, deep, drawn, evaluator, flat

    cv2.setNumThreads(1)
    rng = np.random.default_rng(70_000 + number)
    names, wide = sorted(HELD_OUT), SIDE + 2 * MARGIN
    bare = number % 11 == 10
    relief = flat(wide) if bare else deep(rng, drawn(rng, wide, evaluator(), [names[number % len(names)]]))
    other = drawn(rng, wide, evaluator(), names) if bare else None
    paint = painted(rng, relief, other)
    light = lit(rng, relief.height, paint)
    codes, _ = photographed(rng, light.light)
    inner = slice(MARGIN, MARGIN + SIDE)
    linear = decode_table(256)[codes[inner, inner]].astype(np.float32)
    height = np.ascontiguousarray(relief.height[inner, inner])
    size = (float(SIDE), float(SIDE))
    soft = cv2.GaussianBlur(height, (0, 0), 0.6)
    tone = luminance(np.ascontiguousarray(paint.colour[inner, inner]))
    fine = [p - cv2.GaussianBlur(p, (0, 0), 24) for p in (tone, height)]
    return Truth(
        relief.family,
        "sun" if light.sun else "overcast",
        Image(linear, Kind.COLOUR, size),
        height,
        from_height(Image(soft[..., None], Kind.DATA, size)).pixels,
        light.occlusion[inner, inner],
        np.ascontiguousarray(paint.colour[inner, inner]),
        paint.roughness[inner, inner],
        alike(*fine) < -0.1,
    )


def alike(a: Floats, b: Floats) -> float:
    """Correlation; 0 where one of them is even."""
    return float(np.corrcoef(a.ravel(), b.ravel())[0, 1]) if min(a.std(), b.std()) > 1e-6 else 0.0


def _ran(step: MapStep[Any], settings: Any, inputs: Mapping[str, Image]) -> dict[str, Image]:
    photo = inputs["base"]
    geometry = Geometry(photo.size_mm, photo.wraps)
    there = {t: inputs[t] for t in step.reads(settings) if t in inputs}
    decision = step.decide(settings, there, geometry, IDLE)
    sheet = Sheet(geometry, geometry, (photo.width, photo.height), None)  # type: ignore[arg-type]
    return step.run(settings, there, decision, sheet, IDLE)


def _row(step: str, name: str = "photo_by_light") -> dict[str, Any]:
    """Settings that a photo begins with."""
    return next((dict(r.settings) for r in recipe(name).rows if getattr(r, "step", "") == step), {})  # type: ignore[union-attr]


def derived(truth: Truth, way: str) -> dict[str, Image]:
    """Height, occlusion, colour and finish of a photo."""
    threads = {"base": truth.photo}
    toward = 0.0 if truth.light == "sun" else None
    depth = {"depth_mm": 1000.0} if way == "reading" else {"depth_mm": 10.0}
    if way == "reading":
        threads |= _ran(ReadFromLight(), ReadingSettings(light_deg=toward), threads)
        threads |= _ran(ColourWithoutLight(), UnlitSettings(), threads)
        threads |= _ran(Height(), HeightSettings(**{**_row("height"), **depth}), threads)
    else:
        told = toward if way == "linear" else None
        threads |= _ran(Height(), HeightSettings(light_deg=told, **depth), threads)  # type: ignore[arg-type]
    threads["normal"] = from_height(threads["height"])
    seen = sky_of(threads["height"].plane(), threads["normal"].pixels, (1.0, 1.0), RADIUS_MM, fine=False).seen
    if way == "reading":
        sure = threads[SURE].plane()
        seen = sure * seen + (1 - sure) * threads[OPEN].plane()
    return {**threads, "occlusion": data(seen, truth.photo)}


def _light_left(colour: Floats, truth: Truth) -> float:
    """Spread of the logarithm of a colour over the true one: what is left of light in it."""
    log = np.log(np.maximum(luminance(colour), 0.01) / np.maximum(luminance(truth.colour), 0.01))
    return float(np.clip(log - np.median(log), -2, 2).std())


def figures(truth: Truth, way: str) -> dict[str, float]:
    """How far maps are from the surface."""
    maps = derived(truth, way)
    height = maps["height"].plane()
    flat = np.degrees(np.arccos(np.clip(truth.normal[..., 2], -1, 1))).mean()
    off = np.degrees(np.arccos(np.clip((maps["normal"].pixels * truth.normal).sum(-1), -1, 1))).mean()
    out = {
        "height": alike(height, truth.height),
        "normals": float(flat - off),
        "occlusion": float(np.sqrt(np.square(maps["occlusion"].plane() - truth.occlusion).mean())),
        "constant": float(truth.occlusion.std()),
        "light left": _light_left(maps["base"].pixels, truth),
        "light there": _light_left(truth.photo.pixels, truth),
        "slope": float(np.hypot(*np.gradient(height)).mean()),
    }
    for name, sigmas in (("fine", (0.8, 2.5)), ("middle", (2.5, 8.0)), ("coarse", (8.0, 26.0))):
        bands = [cv2.GaussianBlur(h, (0, 0), sigmas[0]) - cv2.GaussianBlur(h, (0, 0), sigmas[1]) for h in (height, truth.height)]
        out[name] = alike(*bands)
    if way == "reading":
        out["finish"] = float(np.sqrt(np.square(maps[FINISH].plane() - truth.roughness).mean()))
        out["finish constant"] = float(truth.roughness.std())
    return out


def one(number: int) -> tuple[str, str, bool, dict[str, dict[str, float]]]:
    """Family, light, whether colour misleads, and figures by way of one surface."""
    truth = made(number)
    return truth.family, truth.light, truth.misleading, {way: figures(truth, way) for way in WAYS}


NAMES = {
    "height": "height, correlation",
    "fine": "… fine",
    "middle": "… middle",
    "coarse": "… coarse",
    "normals": "normals, degrees under a flat map's error",
    "occlusion": "occlusion, RMSE",
    "light left": "light left in the colour",
}
Lines = list[tuple[str, str, bool, dict[str, dict[str, float]]]]


def table(lines: Lines) -> str:
    """Medians over all, by family, by light and where colour contradicts depth."""
    real = [line for line in lines if line[0] != "flat"]
    out = ["| median | " + " | ".join(WAYS) + " |", "|---" * (len(WAYS) + 1) + "|"]
    for key, name in NAMES.items():
        out.append(f"| {name} | " + " | ".join(f"{np.median([x[3][w][key] for x in real]):.3f}" for w in WAYS) + " |")
    constant, there = (np.median([x[3]["reading"][k] for x in real]) for k in ("constant", "light there"))
    out.append(f"\nBest constant for occlusion {constant:.3f}; light in the photo {there:.3f}.")
    finish = [np.median([x[3]["reading"][k] for x in real]) for k in ("finish", "finish constant")]
    out.append(f"Finish off by {finish[0]:.3f}, the best constant by {finish[1]:.3f}.")
    worst = min(x[3]["reading"]["normals"] for x in real)
    out.append(f"Worst normals {worst:.1f}° under a flat map's.")
    bare = [x for x in lines if x[0] == "flat"]
    if bare:
        slope = [np.median([x[3][w]["slope"] for x in bare]) for w in ("reading", "brightness")]
        out.append(f"Slope of painted flat sheets {slope[0]:.4f}, by brightness {slope[1]:.4f}.")
    for title, group in (("family", 0), ("light", 1), ("colour contradicts depth", 2)):
        out += ["", f"| {title} | photos | height by reading | brightness | linear | normals by reading | occlusion by reading |"]
        out.append("|---" * 7 + "|")
        for value in sorted({x[group] for x in real}, key=str):
            own = [x[3] for x in real if x[group] == value]
            cells = [f"{np.median([f[w]['height'] for f in own]):.2f}" for w in WAYS]
            cells += [f"{np.median([f['reading'][k] for f in own]):.2f}" for k in ("normals", "occlusion")]
            out.append(f"| {value} | {len(own)} | " + " | ".join(cells) + " |")
    return "\n".join(out)


def look(numbers: list[int], to: Path) -> None:
    """A row each: photo, true height, height by reading and by brightness, colour without light, sureness."""
    rows = []
    for number in numbers:
        truth = made(number)
        reading, bright = derived(truth, "reading"), derived(truth, "brightness")
        planes = [truth.height, reading["height"].plane(), bright["height"].plane()]
        greys = [np.clip((p - np.percentile(p, 1)) / max(float(np.ptp(np.percentile(p, [1, 99]))), 0.5), 0, 1) for p in planes]
        colours = [np.clip(p, 0, 1) ** (1 / 2.2) for p in (truth.photo.pixels, reading["base"].pixels)]
        cells = [colours[0], *(np.repeat(g[..., None], 3, -1) for g in greys), colours[1]]
        cells.append(np.repeat(np.clip(reading[SURE].pixels, 0, 1), 3, -1))
        rows.append(np.concatenate(cells, 1))
    Pillow.fromarray((np.concatenate(rows) * 255).astype(np.uint8)).save(to)


def main(most: int) -> None:
    with ProcessPoolExecutor(2) as pool:
        lines = list(pool.map(one, range(most), chunksize=4))
    print(table(lines))


if __name__ == "__main__":
    if sys.argv[1:2] == ["--look"]:
        look([int(n) for n in sys.argv[3:]], Path(sys.argv[2]))
    else:
        main(int(sys.argv[1]) if len(sys.argv) > 1 else 200)
