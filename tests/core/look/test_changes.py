"""Blocks that differ between two pictures."""

from __future__ import annotations

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from silent_loom.core.base.images import Image, Kind
from silent_loom.core.screen.changes import changed_blocks


def image_of(pixels: np.ndarray, kind: Kind = Kind.COLOUR) -> Image:
    return Image(pixels, kind, (100.0, 100.0), True)


@given(
    st.integers(1, 70),
    st.integers(1, 70),
    st.sampled_from([8, 16, 128]),
    st.lists(st.tuples(st.floats(0, 0.999), st.floats(0, 0.999), st.integers(0, 2)), max_size=6),
)
@settings(max_examples=60, deadline=None)
def test_every_changed_sample_marks_its_block_and_no_other(
    h: int, w: int, side: int, places: list[tuple[float, float, int]]
) -> None:
    before = np.random.default_rng(h * w).random((h, w, 3), np.float32)
    after = before.copy()
    wanted = np.zeros((-(-h // side), -(-w // side)), bool)
    for v, u, k in places:
        y, x = int(v * h), int(u * w)
        after[y, x, k] = np.nextafter(after[y, x, k], np.float32(2))  # the smallest change there is
        wanted[y // side, x // side] = True
    found = changed_blocks(image_of(before), image_of(after), side)
    assert found is not None
    assert np.array_equal(found, wanted)


def test_pictures_of_other_shapes_or_kinds_have_no_blocks_in_common() -> None:
    plane = np.zeros((16, 16, 3), np.float32)
    assert changed_blocks(image_of(plane), image_of(np.zeros((16, 17, 3), np.float32))) is None
    assert changed_blocks(image_of(plane), image_of(plane, Kind.NORMAL)) is None
    assert changed_blocks(image_of(plane), Image(plane, Kind.COLOUR, (100.0, 50.0))) is None
