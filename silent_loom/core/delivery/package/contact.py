"""A contact sheet: every file at a glance, with the surface under light."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from io import BytesIO
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image as Pillow
from PIL import ImageDraw, ImageFont

from silent_loom.core.base.images import Floats
from silent_loom.core.base.srgb import encode_srgb
from silent_loom.core.delivery.package.readme import slots_of

TILE = 256
"""Pixels of one small picture."""
ACROSS = 4
_GAP, _LINE = 16, 18
_PAPER, _INK, _QUIET = (244, 241, 234), (34, 36, 40), (104, 104, 104)


def contact_sheet(
    title: str, facts: Sequence[str], surface: NDArray[np.uint8], files: Sequence[tuple[Mapping[str, Any], Floats]]
) -> bytes:
    """A PNG.

    Parameters
    ----------
    title : str
    facts : sequence of str
        Lines below it.
    surface : uint8 array, shape (H, W, 3)
        The surface under light, sRGB.
    files : sequence
        What the manifest says of each, and its samples as packed, 0…1, shape (h, w, C): small ones will do.

    >>> contact_sheet("Slate", ["1 m wide"], np.zeros((64, 64, 3), np.uint8), [])[1:4]
    b'PNG'
    """
    tiles: list[tuple[str, str, NDArray[np.uint8]]] = [("The surface under light", "", surface)]
    for entry, samples in files:
        tiles.append((entry["file"], slots_of(entry), _seen(entry, samples)))
    rows = -(-len(tiles) // ACROSS)
    width = _GAP + ACROSS * (TILE + _GAP)
    top = _GAP + 34 + _LINE * len(facts) + _GAP
    tall = max(max(1, round(TILE * min(1, p.shape[0] / p.shape[1]))) for _, _, p in tiles)
    each = tall + 3 * _LINE + _GAP
    page = Pillow.new("RGB", (width, top + rows * each), _PAPER)
    draw = ImageDraw.Draw(page)
    large, small = ImageFont.load_default(26), ImageFont.load_default(13)
    draw.text((_GAP, _GAP), title, _INK, large)
    for i, fact in enumerate(facts):
        draw.text((_GAP, _GAP + 36 + i * _LINE), fact, _QUIET, small)
    for i, (name, slots, picture) in enumerate(tiles):
        x, y = _GAP + i % ACROSS * (TILE + _GAP), top + i // ACROSS * each
        tile = Pillow.fromarray(picture)
        tile.thumbnail((TILE, TILE), Pillow.Resampling.LANCZOS)
        page.paste(tile, (x, y))
        draw.text((x, y + tall + 2), _short(name, small), _INK, small)
        for k, line in enumerate(_lines(slots, small)[:2]):
            draw.text((x, y + tall + 2 + (k + 1) * _LINE), line, _QUIET, small)
    out = BytesIO()
    page.save(out, "PNG")
    return out.getvalue()


def _seen(entry: Mapping[str, Any], samples: Floats) -> NDArray[np.uint8]:
    values = np.clip(samples, 0, 1)
    if values.shape[2] <= 2:
        values = np.repeat(values[..., :1], 3, 2)
    values = values[..., :3]
    if entry["colour"] != "data":
        values = encode_srgb(values)
    return np.rint(values * 255).astype(np.uint8)


def _short(text: str, font: Any) -> str:
    while font.getlength(text) > TILE and len(text) > 4:
        text = f"{text[: len(text) // 2 - 1]}…{text[len(text) // 2 + 1 :]}" if "…" not in text else _less(text)
    return text


def _less(text: str) -> str:
    left, _, right = text.partition("…")
    return f"{left[:-1]}…{right}" if len(left) > len(right) else f"{left}…{right[1:]}"


def _lines(text: str, font: Any) -> list[str]:
    out, line = [], ""
    for word in text.split():
        longer = f"{line} {word}".strip()
        if font.getlength(longer) > TILE and line:
            out.append(line)
            line = word
        else:
            line = longer
    return [*out, line] if line else out
