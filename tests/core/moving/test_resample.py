"""Filters done in bands, and photos that stay in codes: the same numbers as in one piece."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import ndimage

from silent_loom.core.base.errors import FileError
from silent_loom.core.base.images import CodedImage, Image, Kind
from silent_loom.core.files import read, read_ahead, write
from silent_loom.core.files.picture import Picture
from silent_loom.core.files.profile import SRGB, Transfer
from silent_loom.core.look.perspective import homography
from silent_loom.core.moving.carry import warp_homography
from silent_loom.core.moving.resample import _WORTH_BANDS, _direct_blur, reduce_area
from silent_loom.core.weave.answers.cache import Cache


@settings(max_examples=15, deadline=None)
@given(
    st.integers(340, 520),
    st.floats(0.0, 5.0),
    st.floats(0.0, 5.0),
    st.booleans(),
    st.integers(0, 3),
)
def test_a_blur_in_bands_is_the_blur(side: int, across: float, down: float, wraps: bool, channels: int) -> None:
    shape = (side + 60, side) if channels == 0 else (side + 60, side, channels)
    pixels = np.random.default_rng(side).random(shape).astype(np.float32)
    assert side * (side + 60) >= _WORTH_BANDS, "large enough for bands"
    got = _direct_blur(pixels, across, down, wraps)
    sigma, radius = [max(down, 1e-3), max(across, 1e-3)], [int(np.ceil(3.5 * down)), int(np.ceil(3.5 * across))]
    more = [0] * (pixels.ndim - 2)
    want = ndimage.gaussian_filter(
        pixels.astype(np.float64), sigma + [1e-3] * len(more), mode="wrap" if wraps else "reflect", radius=radius + more
    )
    assert np.abs(got - want).max() < 1e-5


@pytest.mark.parametrize("each", [2, 3, 5])
def test_averages_in_bands_are_means_of_blocks(each: int) -> None:
    h, w = 130, 220
    pixels = np.random.default_rng(each).random((h * each, w * each, 3)).astype(np.float32)
    got = reduce_area(pixels, w, h)
    assert np.abs(got - pixels.reshape(h, each, w, each, 3).mean((1, 3))).max() < 1e-5


def photo(levels: int, transfer: Transfer = SRGB) -> Picture:
    rng = np.random.default_rng(levels)
    samples = rng.integers(0, levels, (240, 300, 3)).astype(np.uint8 if levels == 256 else np.uint16)
    return Picture(samples, None, transfer, 8 if levels == 256 else 16, "png")


@pytest.mark.parametrize("levels", [256, 65536])
@pytest.mark.parametrize("bulge", [0.0, 0.1])
def test_a_photo_in_codes_is_straightened_like_its_light(levels: int, bulge: float) -> None:
    picture = photo(levels)
    coded = picture.coded((300.0, 240.0))
    assert isinstance(coded, CodedImage)
    assert (coded.width, coded.height, coded.nbytes) == (300, 240, 0)
    corners = np.array([[20.0, 30.0], [270.0, 12.0], [290.0, 220.0], [8.0, 200.0]])
    for w, h in ((90, 70), (310, 260)):
        m = homography(np.array([[0.0, 0.0], [w, 0.0], [w, h], [0.0, h]]), corners)
        got = warp_homography(coded, m, w, h, (9.0, 7.0), bulge=bulge)
        want = warp_homography(Image(picture.colour(), Kind.COLOUR, (300.0, 240.0)), m, w, h, (9.0, 7.0), bulge=bulge)
        assert coded.nbytes == 0, "nobody looked at its light"
        assert np.abs(got.pixels - want.pixels).max() < 1e-6
    assert np.array_equal(coded.pixels, picture.colour())
    assert coded.nbytes == coded.pixels.nbytes
    assert type(coded.with_pixels(coded.pixels)) is Image


def test_what_has_no_codes_of_its_own_comes_in_light() -> None:
    turned = Transfer(SRGB.curves, np.eye(3)[::-1].copy())
    assert type(photo(256, turned).coded((1.0, 1.0))) is Image
    grey = Picture(np.zeros((4, 4, 1), np.uint8), None, SRGB, 8, "png")
    assert type(grey.coded((1.0, 1.0))) is Image


def test_a_cache_counts_light_that_came_later() -> None:
    coded = photo(256).coded((300.0, 240.0))
    small = Image(np.zeros((8, 8, 3), np.float32), Kind.COLOUR)
    cache = Cache(240 * 300 * 12 + small.nbytes - 1)
    cache.put("small", small)
    cache.put("photo", coded)
    assert cache.nbytes == small.nbytes
    assert coded.pixels.shape == (240, 300, 3)
    assert cache.get("photo") is coded
    assert cache.nbytes == coded.nbytes
    assert "small" not in cache, "the oldest gave way"
    cache.put("small", small)
    assert cache.nbytes == small.nbytes
    assert "photo" not in cache


def test_reading_ahead_gives_the_picture_or_its_error(tmp_path: Path) -> None:
    path = tmp_path / "deck.png"
    write(path, np.linspace(0, 1, 48, dtype=np.float32).reshape(4, 4, 3), colour=True)
    assert np.array_equal(read_ahead(path).result().samples, read(path).samples)
    with pytest.raises(FileError, match=r"missing\.png"):
        read_ahead(tmp_path / "missing.png").result()
