"""A sheet read at several scales: bands that follow on each other, sizes that agree."""

from __future__ import annotations

import cv2
import numpy as np

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.reading.network import BANDS, OUTPUTS
from silent_loom.core.reading.sheet import LARGEST, read_sheet
from silent_loom.core.reading.windows import SIDE
from tests.core.reading.test_windows import photo


def bands_of_lightness(window: Floats) -> Floats:
    """Stands in for a network: what lies between Gaussians of lightness, taken for height in texels, as small as the window."""
    out = np.zeros((len(OUTPUTS), SIDE, SIDE), np.float32)
    for k, (a, b) in enumerate(BANDS):
        soft = [cv2.GaussianBlur(window[0], (0, 0), s, borderType=cv2.BORDER_REFLECT) for s in (a, b)]
        out[OUTPUTS.index("fine") + k] = (soft[0] - soft[1]) / b
    return out


def sheet(h: int, w: int) -> Image:
    return Image(photo(h, w), Kind.COLOUR, (float(w), float(h)), True)


def test_every_copy_goes_on_where_the_last_one_ends() -> None:
    found = read_sheet(bands_of_lightness, sheet(512, 512))
    assert len(found.bands) == len(found.edges) - 1 == 4, "three of the sheet, one of a copy"
    assert np.allclose(found.edges[:4], [0.8, 2.5, 8.0, 26.0])
    assert np.isclose(found.edges[4], 26.0 * 3.2, rtol=0.01)


def test_the_sum_of_the_bands_is_the_height_and_the_artist_weighs_them() -> None:
    found = read_sheet(bands_of_lightness, sheet(256, 256))
    assert np.array_equal(found.height(), sum(found.bands[1:], found.bands[0].copy()))
    assert np.array_equal(found.height(lambda sigma: float(sigma < 2)), found.bands[0])


def test_a_large_sheet_is_read_small_and_every_map_has_its_size() -> None:
    found = read_sheet(bands_of_lightness, sheet(LARGEST + 276, (LARGEST + 276) // 2))
    assert found.right.shape == (LARGEST, LARGEST // 2)
    assert all(b.shape == found.right.shape for b in found.bands)
    assert (found.border == 0.5).all(), "even odds where nothing is said"
