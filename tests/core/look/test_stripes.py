"""What repeats one way only: courses of bricks whose upright joints fall anywhere."""

from __future__ import annotations

import numpy as np
import pytest
from numpy.typing import NDArray
from scipy.ndimage import maximum_filter1d

from silent_loom.core.look.motif.grid import ACROSS_STRIPES, fit_grid
from silent_loom.core.look.motif.lattice import find_lattice
from silent_loom.core.report.suggest import suggest, tried
from silent_loom.core.steps.tiling.seamless import SeamlessSettings
from tests.support.walls import bricks, sheet

BRICK, MORTAR = 0.28, 0.6


def uprights(tone: NDArray[np.float32]) -> NDArray[np.float64]:
    """How much of each upright joint is there, from course to course: 1 all of it."""
    there = (tone - BRICK) / (MORTAR - BRICK)
    bed = there.mean(1) > 0.6
    first = int(np.argmax(bed))
    there, bed = np.roll(there, -first, 0), np.roll(bed, -first)
    borders = np.flatnonzero(np.diff(np.r_[True, bed, True]))
    found = []
    for top, bottom in zip(borders[::2], borders[1::2], strict=True):
        if bottom - top > 20:
            off = (bottom - top) // 5
            part = there[top + off : bottom - off].mean(0)
            part = part - np.median(part)
            found += list(part[(maximum_filter1d(part, 15, mode="wrap") == part) & (part > 0.35)])
    return np.array(found)


@pytest.mark.parametrize("seed", [0, 2, 5, 6])
def test_an_upright_joint_is_there_from_bed_to_bed_or_not_at_all(seed: int) -> None:
    photo = sheet(bricks(seed))
    assert (uprights(photo.pixels[..., 0]) > 0.75).all(), "or they could not be told from stubs"
    told = suggest(photo)
    assert told.settings["method"] == "motif"
    assert told.why.startswith("Stripes repeat every 5")
    made, figure = tried(photo, SeamlessSettings(**told.settings), size=600)
    joints = uprights(made.pixels[..., 0])
    assert len(joints) >= 24, "they are not simply gone"
    assert (joints > 0.75).all(), "stubs above or below a bed, or joints that show through the next brick"
    assert figure <= 1.0


def test_a_bed_lies_well_inside_what_stripes_leave_for_the_cut() -> None:
    photo = sheet(bricks(1))
    lattice = find_lattice(photo)
    assert lattice is not None
    assert lattice.free == 0
    grid = fit_grid(photo, lattice)
    assert grid is not None
    assert grid.room[1] * grid.repeats[1] >= 0.95 * ACROSS_STRIPES
    few = sheet(bricks(1, height=230))
    lattice = find_lattice(few)
    assert lattice is not None
    grid = fit_grid(few, lattice)
    assert grid is not None
    over = grid.settings()["overlap_y"]
    assert over == pytest.approx(ACROSS_STRIPES / grid.repeats[1], rel=1e-6)
    assert over > grid.settings()["overlap_x"] == 0.3
