"""A sheet read in windows: the same as read whole, at any turn, with no border of a window to be seen."""

from __future__ import annotations

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from silent_loom.core.base.errors import Cancelled
from silent_loom.core.base.images import Floats
from silent_loom.core.base.parallel import WORKERS, Task
from silent_loom.core.reading.inputs import integral, logarithms, shown
from silent_loom.core.reading.windows import SIDE, Turn, read


def photo(h: int, w: int, seed: int = 1) -> Floats:
    """A soft repeating picture."""
    rng = np.random.default_rng(seed)
    waves = np.zeros((h, w, 3))
    y, x = np.mgrid[:h, :w]
    for _ in range(12):
        a, b = rng.integers(-6, 7, 2)
        waves += np.sin(2 * np.pi * (a * x / w + b * y / h) + rng.uniform(0, 6))[..., None] * rng.uniform(0.1, 0.4, 3)
    return (0.3 * np.exp(0.4 * waves)).astype(np.float32)


def soft(window: Floats) -> Floats:
    """Stands in for a network: lightness, blurred, as it only sees what is near."""
    flat = np.zeros((SIDE, SIDE), np.float32)
    return np.stack([flat, flat, cv2.GaussianBlur(window[0], (0, 0), 3.0)])


def test_windows_agree_with_the_whole_and_wrap() -> None:
    picture = photo(400, 600)
    found = read(soft, 3, picture, None, True)[2]
    light = logarithms(picture)[..., 0]
    whole = cv2.GaussianBlur(np.pad(light, 32, mode="wrap"), (0, 0), 3.0)[32:-32, 32:-32]
    assert np.abs(found - whole).max() < 1e-4


@settings(deadline=None, max_examples=20)
@given(st.integers(40, 400), st.integers(40, 400), st.floats(-360, 360))
def test_a_turned_sheet_comes_back_in_its_place(h: int, w: int, toward: float) -> None:
    picture = photo(h, w)
    found = read(soft, 3, picture, toward, True)[2]
    light = logarithms(picture)[..., 0]
    whole = cv2.GaussianBlur(np.pad(light, 32, mode="wrap"), (0, 0), 3.0)[32:-32, 32:-32]
    assert np.abs(found - whole)[4:-4, 4:-4].max() < 0.02 * max(1.0, float(np.ptp(whole)))


@pytest.mark.parametrize(("toward", "way"), [(0, (1, 0)), (90, (0, -1)), (180, (-1, 0)), (270, (0, 1)), (45, (0.707, -0.707))])
def test_directions_are_turned_back(toward: float, way: tuple[float, float]) -> None:
    def to_the_light(window: Floats) -> Floats:
        one = np.ones((SIDE, SIDE), np.float32)
        return np.stack([one, 0 * one])

    found = read(to_the_light, 2, photo(80, 120), toward, True)
    assert np.allclose(found.mean((1, 2)), way, atol=1e-3), "x to the right, y down"


def test_the_integral_follows_the_light() -> None:
    """Where light comes from the top, a wave that runs down is read as it is where light comes from the right, turned."""
    wave = np.cos(np.arange(64) * 2 * np.pi / 16).astype(np.float32)
    across = integral(np.broadcast_to(wave, (64, 64)).copy(), 0.0, True)
    down = integral(np.broadcast_to(wave[::-1, None], (64, 64)).copy(), 90.0, True)
    assert np.allclose(np.roll(down[::-1].T, 0, 1), across, atol=1e-4)
    assert across.std() > 0.1


def test_exposure_and_the_colour_of_the_lamp_drop_out() -> None:
    picture = photo(48, 48) + 1.0
    one, other = (shown(p, 0.0, True) for p in (picture, picture * np.array([4.0, 5.0, 3.0], np.float32)))
    assert np.abs(one - other).max() < 0.03


def test_what_is_turned_lies_on_its_canvas() -> None:
    turn = Turn((100, 60), 30.0)
    y, x = np.mgrid[0:100, 0:60].astype(np.float32)
    u, v = turn.to_canvas(x, y)
    assert (u > -0.5).all()
    assert (u < turn.canvas[1] - 0.5).all()
    assert (v > -0.5).all()
    assert (v < turn.canvas[0] - 0.5).all()
    back = turn.to_sheet(u, v)
    assert np.abs(back[0] - x).max() < 1e-3
    assert np.abs(back[1] - y).max() < 1e-3


def test_a_reading_is_cancelled_between_windows() -> None:
    task, seen = Task(), []

    def network(window: Floats) -> Floats:
        seen.append(1)
        task.cancel()
        return soft(window)

    with pytest.raises(Cancelled):
        read(network, 3, photo(600, 600), None, True, task)
    assert 1 <= len(seen) <= WORKERS


def test_a_window_is_shown_what_the_training_showed() -> None:
    """Under a light from the right the middle of a window holds the same channels as a sheet in training."""
    picture, seen = photo(200, 200), []

    def network(window: Floats) -> Floats:
        seen.append(window)
        return soft(window)

    for toward in (0.0, None):
        seen.clear()
        read(network, 3, picture, toward, False)
        assert 1 <= len(seen) <= WORKERS
        middle = slice((SIDE - 200) // 2, (SIDE + 200) // 2)
        assert np.abs(seen[0][:, middle, middle] - shown(picture, toward, False).transpose(2, 0, 1)).max() < 1e-5
