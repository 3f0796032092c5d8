"""Maps as pictures for a screen."""

from __future__ import annotations

import numpy as np
import pytest

from silent_loom.core.base.images import Image, Kind
from silent_loom.core.files.codes import quantise
from silent_loom.core.screen.display import rgba, rgba_blocks, shown
from silent_loom.core.weave.threads import ThreadSpec, spec

MAPS = [("base", Kind.COLOUR, 3), ("normal", Kind.NORMAL, 3), ("roughness", Kind.DATA, 1), ("height", Kind.DATA, 1)]


def meaning(thread: str) -> ThreadSpec:
    told = spec(thread)
    return told.over(2.0) if told.unit else told


def a_map(kind: Kind, channels: int, shape: tuple[int, int] = (75, 140)) -> Image:
    pixels = np.random.default_rng(channels).uniform(-0.3, 1.4, (*shape, channels)).astype(np.float32)
    pixels[0, 0] = np.nan
    return Image(pixels, kind, (100.0, 100.0), True)


@pytest.mark.parametrize(("thread", "kind", "channels"), MAPS)
def test_the_screen_shows_the_codes_that_a_file_gets(thread: str, kind: Kind, channels: int) -> None:
    image = a_map(kind, channels)
    codes, _ = quantise(shown(image, meaning(thread)), "8", colour=kind is Kind.COLOUR)
    seen = rgba(image, meaning(thread))
    assert (seen[..., 3] == 255).all()
    off = np.abs(seen[..., :3].astype(int) - codes)
    assert off.max() <= (1 if thread == "height" else 0)  # its scale and offset are rounded once, not twice
    assert (off > 0).mean() < 1e-3


@pytest.mark.parametrize(("thread", "kind", "channels"), MAPS)
def test_blocks_are_cut_from_the_whole_picture(thread: str, kind: Kind, channels: int) -> None:
    image, side = a_map(kind, channels), 32
    marked = np.zeros((3, 5), bool)
    marked[[0, 1, 2, 2], [4, 1, 0, 4]] = True  # the last row and column are smaller
    whole = rgba(image, meaning(thread))
    parts = [whole[j * side : (j + 1) * side, i * side : (i + 1) * side].tobytes() for j, i in np.argwhere(marked)]
    assert rgba_blocks(image, meaning(thread), marked, side) == b"".join(parts)
