"""A beat that is chopped at a join counts, whatever the blend hides."""

from __future__ import annotations

import numpy as np
import pytest

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.look.meters.broken import SEEN, beat_broken, with_beat
from silent_loom.core.look.meters.seam_meter import seams
from tests.conftest import spectrum


def sheet(plane: Floats) -> Image:
    return Image(np.repeat(np.clip(plane, 0.02, 1)[..., None], 3, 2).astype(np.float32), Kind.COLOUR, (900.0, 700.0), True)


def ribs(width: int, period: float, height: int = 300, blend: int = 12) -> Floats:
    """Ribs on a sheet of a width; both ends are faded into each other over a few texels, so that no step is left."""
    grain = np.kron(spectrum(256, 0.6, 3), np.ones((2, 2)))[:height, : width + blend].astype(np.float32)
    x = np.arange(width + blend)
    long = 0.4 + 0.2 * np.sin(2 * np.pi * x / period)[None, :] + 0.02 * grain
    t = np.linspace(0, 1, blend)[None, :]
    out = long[:, :width].copy()
    out[:, :blend] = long[:, width:] * (1 - t) + long[:, :blend] * t
    return out.astype(np.float32)


def test_ribs_that_fit_are_even_and_chopped_ones_are_seen() -> None:
    whole, half = sheet(ribs(400, 40.0)), sheet(ribs(420, 40.0))
    assert beat_broken(whole, 0) < 1.1
    assert beat_broken(half, 0) > 1.5
    assert beat_broken(half, 1) == 0.0, "nothing repeats down"
    plain = seams(half, search=False)[0].figure
    assert with_beat(plain, half, 0) > 1 > with_beat(0.5, whole, 0)


@pytest.mark.parametrize("turned", [False, True])
def test_a_join_inside_the_sheet_is_found_where_it_lies(turned: bool) -> None:
    plane = np.roll(ribs(420, 40.0), 130, 1)
    image = sheet(np.ascontiguousarray(plane.T) if turned else plane)
    at = np.full(plane.shape[0], 130.0)
    axis = 1 if turned else 0
    there, elsewhere = beat_broken(image, axis, at), beat_broken(image, axis)
    assert there > SEEN > elsewhere


def test_grain_and_one_single_stone_have_no_beat() -> None:
    for beta in (0.3, 1.0):
        assert beat_broken(sheet(0.4 + 0.1 * spectrum(256, beta, 5)), 0) == 0.0
    assert beat_broken(sheet(np.full((64, 64), 0.4, np.float32)), 0) == 0.0
    assert beat_broken(sheet(np.full((8, 9), 0.4, np.float32)), 0) == 0.0
