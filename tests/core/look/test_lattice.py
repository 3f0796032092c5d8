"""Motifs that lean, that hold smaller repeats, that repeat one way only or in their joints alone; and unevenly lit ones."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import cv2
import numpy as np
import pytest

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import IDLE
from silent_loom.core.base.srgb import decode_srgb
from silent_loom.core.files import write
from silent_loom.core.look.motif.grid import fit_grid, room_of
from silent_loom.core.look.motif.lattice import find_lattice
from silent_loom.core.look.motif.level import levelled
from silent_loom.core.report.suggest import suggest
from silent_loom.core.ways.sets import seamless_files
from tests.support.varied import _noise

H, W = 660, 860


def places(turn: float) -> tuple[np.ndarray, np.ndarray]:
    y, x = np.mgrid[0:H, 0:W].astype(np.float64)
    x, y = x - W / 2, y - H / 2
    c, s = np.cos(np.radians(turn)), np.sin(np.radians(turn))
    return c * x + s * y, -s * x + c * y


def soft(distance: np.ndarray) -> np.ndarray:
    return np.clip(distance / 1.4 + 0.5, 0, 1)


def as_photo(tone: np.ndarray, seed: int, uneven: float = 0.0) -> Image:
    """Tone (H, W) or light (H, W, 3) with grain, lit more from the right by ``uneven``."""
    light = tone[..., None] * np.array([0.8, 0.7, 0.55]) if tone.ndim == 2 else tone
    grain = 1 + 0.04 * _noise(np.random.default_rng(seed), 3, H, W) + 0.03 * _noise(np.random.default_rng(seed + 1), 30, H, W)
    ramp = 1 + uneven * (np.mgrid[0:H, 0:W][1] / W - 0.5)
    pixels = np.clip(light * (grain * ramp)[..., None], 0.01, 1)
    return Image(np.ascontiguousarray(pixels, np.float32), Kind.COLOUR, (float(W), float(H)))


def basket(turn: float = 3.0) -> Floats:
    """Blocks of three strips, across and down by turns: the strips repeat inside the motif."""
    x, y = places(turn)
    i, j = np.floor(x / 36), np.floor(y / 36)
    u, v = x - 36 * i, y - 36 * j
    strip = np.abs(((np.where((i + j) % 2 == 0, v, u) / 12) % 1) - 0.5) * 2
    border = np.minimum(np.minimum(u, 36 - u), np.minimum(v, 36 - v))
    return np.asarray(0.7 - 0.45 * strip**4 - 0.2 * (border < 2), np.float32)


def pierced(turn: float = 7.0) -> Floats:
    x, y = places(turn)
    tone = np.full((H, W), 0.7)
    for row in (0, 1):
        u, v = (x - 21 * row + 21) % 42 - 21, (y - 36.4 * row + 36.4) % 72.8 - 36.4
        tone = np.minimum(tone, 0.08 + 0.62 * soft(np.hypot(u, v) - 11))
    return np.asarray(tone, np.float32)


def mosaic(turn: float = 1.5) -> Floats:
    """Small tiles of any colour: only the joints repeat."""
    x, y = places(turn)
    i, j = np.floor(x / 33).astype(int) + 40, np.floor(y / 33).astype(int) + 40
    u, v = x % 33, y % 33
    colours = np.random.default_rng(5).uniform(0.15, 0.75, (90, 90, 3))
    inside = soft(np.minimum(np.minimum(u, 33 - u), np.minimum(v, 33 - v)) - 2)[..., None]
    return np.asarray(colours[j, i] * inside + 0.75 * (1 - inside), np.float32)


def ribs(turn: float = 0.6) -> Floats:
    x, _ = places(turn)
    return np.asarray(0.5 + 0.3 * np.sin(2 * np.pi * x / 41.3) + 0.08 * np.sin(4 * np.pi * x / 41.3 + 1), np.float32)


def boards(turn: float = 0.4) -> Floats:
    """Boards of one width, each of another tone, with grain along them: only the joints repeat, and one way."""
    x, _ = places(turn)
    k = np.floor(x / 61).astype(int) + 20
    tones = np.random.default_rng(6).uniform(0.3, 0.65, 60)
    grain = cv2.resize(_noise(np.random.default_rng(7), 4, H, W), None, fx=1, fy=14)[:H, :W]
    inside = soft(np.minimum(x % 61, 61 - x % 61) - 2)
    return np.asarray((tones[k] + 0.08 * grain) * inside + 0.1 * (1 - inside), np.float32)


@pytest.mark.parametrize(
    ("made", "sides"),
    [(boards, (61.0,)), (basket, (72.0, 72.0)), (pierced, (42.0, 72.8)), (mosaic, (33.0, 33.0)), (ribs, (41.3,))],
)
def test_the_smallest_repeat_is_found_however_it_leans(made: Callable[[], Floats], sides: tuple[float, ...]) -> None:
    image = as_photo(made(), 3)
    lattice = find_lattice(image)
    assert lattice is not None
    assert lattice.repeats(*image.size_mm) == pytest.approx(sides, rel=0.005)
    grid = fit_grid(image, lattice)
    assert grid is not None
    quad = np.array(grid.quad) * image.size_mm
    for n, (a, b), side in zip(grid.repeats, ((0, 1), (0, 3)), sides, strict=False):
        assert np.hypot(*(quad[b] - quad[a])) == pytest.approx(n * side, rel=0.005)
    assert min(grid.room) > 0.04


@pytest.mark.parametrize("made", [basket, pierced, mosaic, ribs, boards])
def test_it_closes_though_one_side_is_lit_more(made: Callable[[], Floats]) -> None:
    told = suggest(as_photo(made(), 3, uneven=0.25))
    assert told.settings["method"] == "motif"
    assert told.figures["motif"] <= 1.0
    assert told.why.startswith("Stripes repeat" if made in (ribs, boards) else "A motif repeats")


def test_ribs_across_are_stripes_down() -> None:
    tone = np.broadcast_to(0.5 + 0.3 * np.sin(2 * np.pi * np.arange(H) / 29.7)[:, None], (H, W))
    image = as_photo(np.ascontiguousarray(tone, np.float32), 4)
    lattice = find_lattice(image)
    assert lattice is not None
    assert lattice.free == 0
    assert lattice.repeats(*image.size_mm) == pytest.approx([29.7], rel=0.005)


def test_room_is_told_along_the_sides_of_a_turned_grid() -> None:
    level = np.array([[0.0, 0.0], [0.8, 0.0], [0.8, 0.9], [0.0, 0.9]])
    assert room_of(level) == pytest.approx((0.25, 0.1 / 0.9))
    turned = np.array([[0.15, 0.0], [0.9, 0.1], [0.8, 0.9], [0.05, 0.8]])
    right, below = room_of(turned)
    corner = turned[2] + right * (turned[2] - turned[3]) + below * (turned[2] - turned[1])
    assert (corner <= 1 + 1e-9).all()
    assert right > 0
    assert below > 0


@pytest.mark.parametrize("axis", [0, 1])
def test_levelling_takes_a_ramp_of_light_out_and_nothing_else(axis: int) -> None:
    rng = np.random.default_rng(2)
    tile = rng.uniform(0.2, 0.8, (60, 50, 3)).astype(np.float32)
    sheet = np.tile(tile, (3, 3, 1))
    keep = sheet.shape[axis] * 2 // 3
    assert np.abs(levelled(sheet, axis, keep, False, IDLE) - sheet).max() < 1e-5
    place = (np.arange(sheet.shape[axis]) + 0.5) / keep - 0.5
    ramp = np.exp(0.3 * place).astype(np.float32)
    lit = sheet * (ramp[:, None, None] if axis == 0 else ramp[None, :, None])
    assert np.abs(levelled(lit, axis, keep, False, IDLE) / sheet - 1).max() < 0.01


def hide(rng: np.random.Generator, h: int, w: int) -> np.ndarray:
    t = 0.45 + 0.2 * _noise(rng, 5, h, w) + 0.06 * _noise(rng, 40, h, w) + 0.03 * _noise(rng, 2, h, w)
    t = np.clip(t, 0, 1)[..., None]
    return np.array([0.12, 0.05, 0.03]) * (1 - t) + np.array([0.5, 0.28, 0.16]) * t


def granite(rng: np.random.Generator, h: int, w: int) -> np.ndarray:
    codes = np.array([0.6, 0.57, 0.55]) + 0.08 * _noise(rng, 9, h, w)[..., None]
    codes[_noise(rng, 6, h, w) > 1.1] = [0.15, 0.15, 0.16]
    codes[_noise(rng, 8, h, w) > 1.4] = [0.75, 0.55, 0.48]
    return codes


@pytest.mark.parametrize(("made", "seed"), [(hide, 2), (granite, 1)])
def test_fine_grain_is_cut_without_a_line_at_full_size(tmp_path: Path, made: Callable[..., np.ndarray], seed: int) -> None:
    # Where the transition is wide enough to be made on a coarse grid, its blocks must not show along the cut
    rng = np.random.default_rng(seed)
    codes = made(rng, 1100, 1400)
    codes = cv2.GaussianBlur(codes, (0, 0), 1.0) + rng.normal(0, 0.006, codes.shape)
    path = tmp_path / "quay.png"
    write(path, decode_srgb(np.clip(codes, 0, 1)).astype(np.float32), colour=True)
    done = seamless_files([path], tmp_path / "out", method="cut", overlap=0.2)
    assert max(done["seam_x_after"], done["seam_y_after"]) <= 1.0
