"""Repeats found one by one: a motif seen askew."""

from __future__ import annotations

import cv2
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from silent_loom.core.look.motif.cells import ROOM, apply, found_repeats, largest_area
from silent_loom.core.look.motif.grid import fit_grid
from silent_loom.core.look.motif.lattice import find_lattice
from silent_loom.core.report.suggest import tried
from silent_loom.core.steps.tiling.seamless import SeamlessSettings
from tests.support import varied


def seen(light: np.ndarray, corners: list[tuple[float, float]]) -> tuple[np.ndarray, np.ndarray]:
    """The picture with its corners moved by parts of its size, and the map from the level one to it."""
    h, w = light.shape[:2]
    level = np.float32([[0, 0], [w, 0], [w, h], [0, h]])
    moved = level + np.float32(corners) * (w, h)
    m = cv2.getPerspectiveTransform(level, moved.astype(np.float32))
    return cv2.warpPerspective(light, m, (w, h), flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT), m


# Outwards, so that the motif fills the picture
ASKEW = [
    [(-0.05, -0.01), (0.01, -0.06), (0.05, 0.02), (-0.01, 0.01)],
    [(-0.01, -0.05), (0.04, -0.01), (0.0, 0.01), (-0.06, 0.03)],
]


@pytest.mark.parametrize("corners", ASKEW)
@pytest.mark.parametrize(
    ("name", "sides"), [("tiles", (97.3, 97.3)), ("hexes", (78.0, 135.0)), ("dots", (61.7, 106.4)), ("bond", (131.0, 95.2))]
)
def test_a_grid_on_a_motif_seen_askew_is_level_behind_it(
    name: str, sides: tuple[float, float], corners: list[tuple[float, float]]
) -> None:
    rng = np.random.default_rng(11)
    light, m = seen(getattr(varied, name)(rng), corners)
    photo = varied.as_shot(light, rng)
    lattice = find_lattice(photo)
    assert lattice is not None
    assert lattice.free is None
    grid = fit_grid(photo, lattice)
    assert grid is not None
    behind = apply(np.linalg.inv(m), np.array(grid.quad) * photo.size_mm)
    across, down = behind[1] - behind[0], behind[3] - behind[0]
    # Nothing of the perspective is left: a rectangle of whole repeats
    assert np.hypot(*(behind[0] + behind[2] - behind[1] - behind[3])) < 0.02 * min(sides)
    assert across[1] == pytest.approx(0, abs=0.005 * across[0])
    assert down[0] == pytest.approx(0, abs=0.005 * down[1])
    assert across[0] == pytest.approx(grid.repeats[0] * sides[0], rel=0.005)
    assert down[1] == pytest.approx(grid.repeats[1] * sides[1], rel=0.005)
    assert min(grid.room) > 0.05, "room for a join on both sides"
    _, figure = tried(photo, SeamlessSettings(**grid.settings()), size=700)
    assert figure <= 1.1


@pytest.mark.parametrize("name", ["gravel", "grass", "plaster", "rust"])
def test_no_repeats_are_found_where_there_are_none(name: str) -> None:
    tone = getattr(varied, name)(np.random.default_rng(3)).astype(np.float32)
    planes = tone - cv2.GaussianBlur(tone, (0, 0), 60)
    assert found_repeats(planes, np.array([80.0, 0.0]), np.array([0.0, 70.0])) is None
    assert found_repeats(planes, np.array([900.0, 0.0]), np.array([0.0, 900.0])) is None, "larger than the sheet"


@settings(max_examples=60, deadline=None)
@given(st.floats(30, 90), st.floats(30, 90), st.floats(-0.06, 0.06), st.floats(-2e-4, 2e-4), st.sampled_from([0.0, 0.06, 0.2]))
def test_the_largest_area_lies_on_the_sheet_with_its_room(px: float, py: float, turn: float, near: float, room: float) -> None:
    w, h = 640, 480
    c, s = np.cos(turn), np.sin(turn)
    homography = np.array([[px * c, -py * s, w / 2], [px * s, py * c, h / 2], [near * px, 0.0, 1.0]])
    found = largest_area(homography, w, h, room)
    assert found is not None
    corners, (n, m) = found
    box = apply(np.linalg.inv(homography), corners)
    assert box[2] - box[0] == pytest.approx([n, m])
    more = np.array([max(n * (1 + room), n + ROOM * (room > 0)), max(m * (1 + room), m + ROOM * (room > 0))])
    whole = apply(homography, box[0] + more * np.array([[0, 0], [1, 0], [1, 1], [0, 1]]))
    assert whole.min() > -1e-6
    assert (whole <= np.array([w, h]) + 1e-6).all()
    if turn == 0 and near == 0:
        assert n >= int(w / px / (1 + room) - ROOM)
