"""Default maps against known truth, beside a plain recipe and a flat map: `python -m bench.truth` writes docs/quality.md."""

from __future__ import annotations

import sys
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from scipy.ndimage import gaussian_filter, sobel

from bench.surfaces import Surface, surfaces
from silent_loom.core.base.colour import encode, luminance
from silent_loom.core.base.images import Floats, Image, data
from silent_loom.core.base.parallel import IDLE
from silent_loom.core.maps.horizon import sky_of
from silent_loom.core.maps.parting import parted, usual_size
from silent_loom.core.steps.maps.height import Height, HeightSettings
from silent_loom.core.steps.maps.normal import from_height
from silent_loom.core.weave.step import Geometry, Sheet

SIZES_MM = (8, 25, 75, 220)
"""Middles of the bands in which heights are compared."""
RADIUS_MM = 30.0


@dataclass(frozen=True)
class Line:
    """Figures of one surface for one way of making its height."""

    by_size: tuple[float, ...]
    height: float
    normal_deg: float
    occlusion: float
    spread: float


def height_of(surface: Surface, **settings: Any) -> Image:
    """The height that the step reads from the photo."""
    step, s = Height(), HeightSettings(**settings)
    photo = surface.photo
    geometry = Geometry(photo.size_mm, photo.wraps)
    decision = step.decide(s, {"base": photo}, geometry, IDLE)
    return step.run(s, {"base": photo}, decision, Sheet(geometry, geometry, (photo.width, photo.height), None), IDLE)["height"]  # type: ignore[arg-type]


def plain_height(surface: Surface) -> Image:
    """Blurred luminance as height over the same depth: the recipe that needs nothing but a picture program."""
    grey = gaussian_filter(encode(luminance(surface.photo.pixels)), 1.0, mode="wrap")
    low, high = np.percentile(grey, [0.02, 99.98])
    return data(((grey - (low + high) / 2) * (9.2 / max(high - low, 1e-6))).astype(np.float32), surface.photo)


def plain_normals(height: Image) -> Floats:
    """By Sobel, as that recipe has it."""
    plane, (tx, ty) = height.plane(), height.texel_mm
    gx, gy = sobel(plane, 1, mode="wrap") / (8 * tx), sobel(plane, 0, mode="wrap") / (8 * ty)
    n = np.stack([-gx, gy, np.ones_like(gx)], -1)
    return (n / np.linalg.norm(n, axis=-1, keepdims=True)).astype(np.float32)


def angle(a: Floats, b: Floats) -> float:
    """Mean angle between two fields of unit vectors, in degrees."""
    return float(np.degrees(np.arccos(np.clip((a * b).sum(-1), -1, 1))).mean())


def alike(a: Floats, b: Floats) -> float:
    return float(np.corrcoef(a.ravel(), b.ravel())[0, 1]) if min(a.std(), b.std()) > 1e-9 else 0.0


def band(image: Image, middle_mm: float) -> Floats:
    sigma = middle_mm / 4 / image.texel_mm[0]
    fine = gaussian_filter(image.plane(), sigma / 1.8, mode="wrap")
    made: Floats = fine - gaussian_filter(image.plane(), sigma * 1.8, mode="wrap")
    return made


def occluded(height: Image, normals: Floats) -> Floats:
    return sky_of(height.plane(), normals, height.texel_mm, RADIUS_MM, fine=True).seen


def compared(surface: Surface, height: Image, normals: Floats | None = None) -> Line:
    """A height, and the normals and the occlusion that follow from it, against the truth."""
    made = from_height(height).pixels if normals is None else normals
    truth = from_height(surface.height).pixels
    off = occluded(height, made) - occluded(surface.height, truth)
    by_size = tuple(alike(band(height, mm), band(surface.height, mm)) for mm in SIZES_MM)
    return Line(
        by_size,
        alike(height.plane(), surface.height.plane()),
        angle(made, truth),
        float(np.sqrt(np.square(off).mean())),
        float(np.ptp(np.percentile(height.plane(), [1, 99]))),
    )


def flat_error(surface: Surface) -> tuple[float, float]:
    """Error of a flat normal map in degrees, and of an occlusion of 1."""
    truth = from_height(surface.height).pixels
    up = np.zeros_like(truth)
    up[..., 2] = 1
    return angle(up, truth), float(np.sqrt(np.square(1 - occluded(surface.height, truth)).mean()))


def rand_index(a: np.ndarray[Any, Any], b: np.ndarray[Any, Any]) -> float:
    """Adjusted Rand index of two labellings (Hubert & Arabie 1985)."""
    a, b = (np.unique(v, return_inverse=True)[1].ravel() for v in (a, b))
    table = np.zeros((a.max() + 1, b.max() + 1))
    np.add.at(table, (a, b), 1)

    def pairs(v: np.ndarray[Any, Any]) -> float:
        return float((v * (v - 1) / 2).sum())

    both, one, other = pairs(table), pairs(table.sum(1)), pairs(table.sum(0))
    chance = one * other / pairs(np.array([a.size]))
    return (both - chance) / ((one + other) / 2 - chance)


def element_index(surface: Surface) -> float:
    """How well elements are told from true height and the photo."""
    assert surface.ids is not None
    size = usual_size(surface.height, surface.photo, 1.0, 0.3) * surface.height.width
    labels, _ = parted(surface.height, surface.photo, size, 0.5, 1.0, 0.3)
    return rand_index(labels, surface.ids)


def row(name: str, line: Line) -> str:
    sizes = " | ".join(f"{v:.2f}" for v in line.by_size)
    return f"| {name} | {sizes} | {line.height:.2f} | {line.normal_deg:.2f} | {line.occlusion:.3f} |"


def main() -> int:
    tables: dict[str, list[str]] = {"Default settings": [], "With the light told": [], "The plain recipe": []}
    lines: dict[str, list[Line]] = {k: [] for k in tables}
    flats, elements = [], []
    for s in surfaces():
        flats.append(flat_error(s))
        plain = plain_height(s)
        ways = {"Default settings": compared(s, height_of(s)), "The plain recipe": compared(s, plain, plain_normals(plain))}
        if s.light_deg is not None:
            ways["With the light told"] = compared(s, height_of(s, light_deg=s.light_deg))
        for k, line in ways.items():
            lines[k].append(line)
            tables[k].append(row(s.name, line))
        if s.ids is not None and s.name.split(",")[0] in ("bricks", "slates", "pebbles"):
            elements.append((s.name, element_index(s)))
        told = {k: (round(v.height, 2), round(v.normal_deg, 2), round(v.spread, 1)) for k, v in ways.items()}
        print(s.name, f"flat {flats[-1][0]:.2f}", told, flush=True)
    out = [_INTRO]
    for k, table in tables.items():
        own = k == "Default settings"
        more = " flat normal, ° | flat occlusion |" if own else ""
        if own:
            table = [f"{t} {f[0]:.2f} | {f[1]:.3f} |" for t, f in zip(table, flats, strict=True)]
        columns = [f"{mm} mm" for mm in SIZES_MM]
        head = "| surface | " + " | ".join(columns) + " | all | normal, ° | occlusion |" + more
        found = lines[k]
        medians = [float(np.median([x.by_size[i] for x in found])) for i in range(len(SIZES_MM))]
        middle = [float(np.median([getattr(x, name) for x in found])) for name in ("height", "normal_deg", "occlusion")]
        told = ", ".join(f"{c} {v:.2f}" for c, v in zip(columns, medians, strict=True))
        out += [f"## {k}\n", head, "|---" * (head.count("|") - 1) + "|", *table, ""]
        out.append(f"Median: {told}, all {middle[0]:.2f}; normals {middle[1]:.2f}°, occlusion {middle[2]:.3f}.\n")
    worse = [
        s.name for s, line, flat in zip(surfaces(), lines["Default settings"], flats, strict=True) if line.normal_deg > flat[0]
    ]
    out.append(f"Worse than a flat normal map: {', '.join(worse) or 'none'}.\n")
    out += ["## Elements\n", "| surface | adjusted Rand index |\n|---|---|", *(f"| {n} | {v:.3f} |" for n, v in elements), ""]
    (Path(__file__).parents[1] / "docs/quality.md").write_text("\n".join(out), "utf-8")
    return 0


_INTRO = """# Quality: default maps against known truth

Written by `python -m bench.truth`. Twenty-five surfaces made by code (`bench/surfaces.py`), one metre wide, each with known height, albedo and
normals, are photographed by code: under an overcast sky, under a sun 40° above them, and with an albedo that contradicts the depth (pale
joints, dark tops, paint, stains). What the steps make of the photos with their default settings is held against the truth: correlation of
the height in bands around some feature sizes and as a whole, mean angle between normals, RMSE of occlusion (radius 30 mm). The plain recipe is
blurred luminance as height over the same depth, and Sobel.
"""


if __name__ == "__main__":
    sys.exit(main())
