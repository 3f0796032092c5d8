"""Pictures for docs/seamless.md: every method on every sort of surface, and what is suggested on all made-up photos.

Run as ``PYTHONPATH=. .venv/bin/python tools/contact_sheets.py``. Every picture is a half shift: its edges meet in the middle.
"""

from __future__ import annotations

import sys
from dataclasses import replace
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import IDLE
from silent_loom.core.base.srgb import encode_srgb
from silent_loom.core.moving.resample import reduce_area
from silent_loom.core.report.suggest import suggest, tried
from silent_loom.core.steps.tiling.breakup import BreakUp, BreakUpSettings
from silent_loom.core.steps.tiling.quilt import Quilt, QuiltSettings
from silent_loom.core.steps.tiling.seamless import SEAMLESS, SeamlessSettings
from silent_loom.core.ways.sets import motif_settings
from silent_loom.core.weave.step import Geometry, Sheet
from tests.support import varied
from tests.support.plates import plates

OUT = Path(__file__).parent.parent / "docs" / "pictures"
METHODS = ("cut", "fade", "gradient", "motif", "mirror")
SURFACES = {"cobbles": "cut", "sand": "fade", "plaster": "gradient", "tiles": "motif", "grain": "mirror"}


def closed(image: Image, settings: dict[str, Any]) -> tuple[Image, float]:
    """An image made seamless at its own size, and the larger of its seam figures."""
    s = SeamlessSettings(**settings)
    return tried(image, s, size=round(max(SEAMLESS.geometry(s, Geometry(image.size_mm), None).size_mm)))  # type: ignore[arg-type]


def shown(pixels: Floats, width: int, height: int, shift: bool = True) -> Floats:
    """A picture of a size, cut to its proportions, half-shifted."""
    h, w = pixels.shape[:2]
    if shift:
        pixels = np.roll(pixels, (h // 2, w // 2), (0, 1))
    cw, ch = min(w, round(h * width / height)), min(h, round(w * height / width))
    x, y = (w - cw) // 2, (h - ch) // 2
    return reduce_area(np.ascontiguousarray(encode_srgb(np.clip(pixels[y : y + ch, x : x + cw], 0, 1))), width, height)


def labelled(picture: Floats, words: str, strong: bool = False) -> NDArray[np.uint8]:
    """A picture with a line of words above it, 8 bits."""
    h, w = picture.shape[:2]
    out = np.full((h + 24, w + 8, 3), 240, np.uint8)
    out[20 : 20 + h, 4 : 4 + w] = np.rint(picture * 255)
    if strong:
        cv2.rectangle(out, (1, 17), (w + 6, h + 22), (38, 36, 36), 3)
    cv2.putText(out, words, (5, 14), cv2.FONT_HERSHEY_SIMPLEX, 0.4, (38, 36, 36), 1, cv2.LINE_AA)
    return out


def written(name: str, rows: list[list[NDArray[np.uint8]]]) -> None:
    sheet = np.concatenate([np.concatenate(r, 1) for r in rows], 0)
    OUT.mkdir(exist_ok=True)
    cv2.imwrite(str(OUT / name), np.ascontiguousarray(sheet[..., ::-1]), [cv2.IMWRITE_JPEG_QUALITY, 86])


def five_ways() -> None:
    rows = []
    for i, (name, wanted) in enumerate(SURFACES.items()):
        light = getattr(varied, name)(np.random.default_rng(30 + i))
        if name == "plaster":  # what the gradient domain is for: broad tone that differs from edge to edge
            light = light * np.exp(0.5 * (np.mgrid[0:600, 0:800][1] / 400 - 1))[..., None].astype(np.float32)
        image = varied.as_shot(light.astype(np.float32), np.random.default_rng(i))
        row = []
        for method in METHODS:
            settings: dict[str, Any] = {"method": method, "overlap_x": 0.2, "overlap_y": 0.2}
            if method == "motif":
                try:
                    settings = motif_settings(image)
                except Exception:
                    row.append(labelled(np.full((180, 240, 3), 0.85, np.float32), "motif: none found"))
                    continue
            made, figure = closed(image, settings)
            row.append(labelled(shown(made.pixels, 240, 180), f"{name}, {method}: seam {figure:.2f}", method == wanted))
        rows.append(row)
    written("five-ways.jpg", rows)


def suggested() -> None:
    pictures = []
    for made in varied.photos():
        told = suggest(made.image)
        done, figure = closed(made.image, told.settings)
        pictures.append(labelled(shown(done.pixels, 200, 150), f"{made.name}: {told.settings['method']}, {figure:.2f}"))
    while len(pictures) % 6:
        pictures.append(np.full_like(pictures[0], 240))
    written("suggested.jpg", [pictures[i : i + 6] for i in range(0, len(pictures), 6)])


def repetition() -> None:
    """One tile repeated, broken up, and grown from its photo: the same area each."""
    light = varied.lichen(np.random.default_rng(7))
    image = Image(np.ascontiguousarray(light, np.float32), Kind.COLOUR, (800.0, 600.0))
    tile, _ = closed(image, {"method": "cut", "overlap_x": 0.2, "overlap_y": 0.2})
    repeated = np.tile(tile.pixels, (3, 3, 1))
    breaking = BreakUp()
    b = BreakUpSettings(repeat_x=3, repeat_y=3)
    before = Geometry(tile.size_mm, True)
    after = breaking.geometry(b, before, None)  # type: ignore[arg-type]
    sheet = Sheet(before, after, (3.0 * tile.width, 3.0 * tile.height), None)  # type: ignore[arg-type]
    broken = breaking.carry(b, replace(tile, wraps=True), breaking.decide(b, {}, before, IDLE), sheet, IDLE)
    growing, g = Quilt(), QuiltSettings(times_x=2.4, times_y=2.4)
    before = Geometry(image.size_mm)
    after = growing.geometry(g, before, None)  # type: ignore[arg-type]
    decision = growing.decide(g, {"base": image}, before, IDLE)
    grown = growing.carry(g, image, decision, Sheet(before, after, (1920.0, 1440.0), None), IDLE)  # type: ignore[arg-type]
    row = [
        labelled(shown(p, 400, 300, False), words)
        for p, words in ((repeated, "3 x 3 repeats"), (broken.pixels, "broken up"), (grown.pixels, "grown from the photo"))
    ]
    written("repetition.jpg", [row])


def what_a_cut_goes_by() -> None:
    """Plates as large as the overlap: cut where both sides look most alike, and cut so that lines stay whole."""
    rows = []
    for size, seed in ((120, 5), (170, 11)):
        tone, _ = plates(600, 800, size, seed)
        light = np.stack([0.72 * tone**1.1, 0.58 * tone**1.2, 0.42 * tone**1.3], -1).astype(np.float32)
        image = Image(np.ascontiguousarray(light), Kind.COLOUR, (800.0, 600.0))
        row = []
        for by in ("difference", "lines"):
            made, figure = closed(image, {"method": "cut", "cut_by": by, "overlap_x": 0.24, "overlap_y": 0.24})
            row.append(labelled(shown(made.pixels, 480, 360), f"cut by {by}: seam {figure:.2f}"))
        rows.append(row)
    written("cut-by.jpg", rows)


if __name__ == "__main__":
    for make in (five_ways, repetition, suggested, what_a_cut_goes_by):
        if len(sys.argv) < 2 or make.__name__ in sys.argv:
            make()
