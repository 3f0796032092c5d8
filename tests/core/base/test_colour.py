from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from silent_loom.core.base import colour, srgb


@pytest.mark.parametrize(("code", "linear"), [(0, 0.0), (10, 0.0030352698), (11, 0.0033465358), (128, 0.2158605001), (255, 1.0)])
def test_srgb_codes_have_the_standards_values(code: int, linear: float) -> None:
    assert srgb.decode_table(256)[code] == pytest.approx(linear, abs=2e-8)


@given(st.floats(-2, 4))
def test_transfer_is_its_own_inverse(value: float) -> None:
    assert float(srgb.decode_srgb(srgb.encode_srgb(np.array(value)))) == pytest.approx(value, abs=1e-9)


def test_encoding_in_kernels_is_as_good_as_the_formula() -> None:
    values = np.r_[np.linspace(-0.5, 3, 200_001), np.geomspace(1e-7, 1, 5001)].astype(np.float32).reshape(-1, 2)
    off = np.abs(colour.encode(values) - srgb.encode_srgb(values.astype(np.float64)))
    assert off[np.abs(values) <= 1].max() < 2.5e-7  # rows of near values only, and rows with some beyond
    assert off[np.abs(values) <= 1.5].max() < 4e-7
    assert off.max() < 1e-6
    near = values[(np.abs(values) <= 1.5).all(1)]
    assert np.abs(colour.encode(near.reshape(1, -1)) - srgb.encode_srgb(near.reshape(1, -1).astype(np.float64))).max() < 4e-7


def test_all_8_bit_codes_survive_the_way_through_linear_light() -> None:
    codes = np.arange(256)
    again = np.rint(colour.encode(srgb.decode_table(256)[None]) * 255)[0]
    assert (again == codes).all()


def test_lab_of_known_colours() -> None:
    # White, black, and the Rec. 709 red, green and blue under D65
    rgb = np.array([[1, 1, 1], [0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1]], np.float32)
    want = [[100, 0, 0], [0, 0, 0], [53.24, 80.09, 67.20], [87.73, -86.18, 83.18], [32.30, 79.19, -107.86]]
    assert np.abs(colour.lab(rgb) - want).max() < 0.02


def test_lightness_of_mid_grey() -> None:
    assert float(colour.lightness(np.array(0.18418652))) == pytest.approx(50, abs=1e-3)
