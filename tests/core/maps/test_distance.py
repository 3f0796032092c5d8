"""Distances against the plain definition, over edges that meet and edges that do not."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from silent_loom.core.maps.distance import inside, signed


def by_definition(mask: np.ndarray, wraps: bool, texel: tuple[float, float]) -> np.ndarray:
    """For every place the nearest of all places outside, one by one."""
    h, w = mask.shape
    out = np.zeros(mask.shape)
    ys, xs = np.nonzero(~mask)
    for y in range(h):
        for x in range(w):
            dy, dx = np.abs(ys - y), np.abs(xs - x)
            if wraps:
                dy, dx = np.minimum(dy, h - dy), np.minimum(dx, w - dx)
            out[y, x] = np.hypot(dx * texel[0], dy * texel[1]).min()
    return out


@given(
    shape=st.tuples(st.integers(1, 12), st.integers(1, 12)),
    share=st.sampled_from([0.05, 0.5, 0.95]),
    seed=st.integers(0, 99),
    wraps=st.booleans(),
    texel=st.sampled_from([(1.0, 1.0), (0.25, 0.25), (0.5, 0.75)]),
)
@settings(max_examples=60, deadline=None)
def test_inside_is_the_distance_to_the_nearest_place_outside(
    shape: tuple[int, int], share: float, seed: int, wraps: bool, texel: tuple[float, float]
) -> None:
    mask = np.random.default_rng(seed).random(shape) < share
    mask[0, 0] = False
    assert inside(mask, wraps, texel) == pytest.approx(by_definition(mask, wraps, texel), abs=1e-5)


def test_what_lies_far_from_every_border_is_found_beyond_the_edges() -> None:
    mask = np.ones((300, 300), bool)
    mask[10, 20] = False
    far = inside(mask, True, (2.0, 2.0))
    assert far[160, 170] == pytest.approx(2 * np.hypot(150, 150), rel=1e-5)
    assert far[290, 290] == pytest.approx(2 * np.hypot(20, 30), rel=1e-5)
    assert far[10, 20] == 0


def test_signed_distances_turn_their_sign_at_the_border() -> None:
    mask = np.zeros((16, 16), bool)
    mask[4:12, 4:12] = True
    found = signed(mask, True)
    assert found[8, 4:12].tolist() == [1, 2, 3, 4, 4, 3, 2, 1]
    assert found[8, 3] == -1
    assert np.array_equal(found > 0, mask)
