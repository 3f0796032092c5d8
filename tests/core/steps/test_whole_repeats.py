"""Cropping to whole repeats of a motif: against grids that are known."""

from __future__ import annotations

import cv2
import numpy as np
import pytest

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.srgb import encode_srgb
from silent_loom.core.files.picture import Picture
from silent_loom.core.files.profile import SRGB
from silent_loom.core.look.motif.lattice import find_lattice
from silent_loom.core.report.whole_repeats import follow_grid, whole_repeats
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.model import StepEntry, Weave
from tests.conftest import OnePicture
from tests.support.varied import Made, photos

SIDE = (800.0, 600.0)


def made(name: str) -> Made:
    return next(p for p in photos() if p.name == name)


def weave_on(light: np.ndarray, **straighten: object) -> tuple[Evaluator, Weave]:
    """A weave of photo and straighten on made-up light, a millimetre a pixel."""
    codes = np.rint(encode_srgb(np.clip(light, 0, 1)) * 255).astype(np.uint8)
    rows = (
        StepEntry(step="photo", settings={"source": "a" * 64, "width_mm": SIDE[0]}),
        StepEntry(step="straighten", settings=straighten),  # type: ignore[arg-type]
        StepEntry(step="seamless", settings={"method": "cut"}),
    )
    return Evaluator(OnePicture(Picture(codes, None, SRGB, 8, "png"))), Weave(steps=rows)


def corners_of(weave: Weave) -> np.ndarray:
    return np.array(weave.entry(weave.steps[1].id).settings["corners"])


@pytest.mark.parametrize("name", ["tiles", "wallpaper", "dots"])
def test_the_crop_holds_whole_periods_and_as_many_as_fit(name: str) -> None:
    photo = made(name)
    assert photo.period is not None
    evaluator, weave = weave_on(photo.image.pixels)
    done = whole_repeats(evaluator, weave)
    corners = corners_of(done.weave) * SIDE
    period = np.array(photo.period)
    n = np.array(done.repeats)
    assert np.all(n == np.floor(0.995 * np.array(SIDE) / period))
    for a, b, axis in ((0, 1, 0), (3, 2, 0), (0, 3, 1), (1, 2, 1)):
        side = corners[b] - corners[a]
        assert side[axis] == pytest.approx(n[axis] * period[axis], rel=0.005)
        assert abs(side[1 - axis]) < 0.15 * period[1 - axis]
    sheet = evaluator.plan(done.weave).rows[1].after.size_mm
    assert sheet == pytest.approx(tuple(n * period), rel=0.006)
    over = done.weave.steps[2].settings
    for name, count in zip(("overlap_x", "overlap_y"), n, strict=True):
        assert over.get(name) == (pytest.approx(1 / count, abs=1e-5) if count > 1 else None)


def test_a_slight_perspective_goes_with_it_and_a_turn_too() -> None:
    photo = made("tiles")
    assert photo.period is not None
    source = np.array([[0, 0], [800, 0], [800, 600], [0, 600]], np.float32)
    seen = np.array([[-20, -12], [806, -18], [826, 612], [-14, 620]], np.float32)
    m = cv2.getPerspectiveTransform(source, seen)
    light = cv2.warpPerspective(photo.image.pixels, m, (800, 600), flags=cv2.INTER_CUBIC)
    evaluator, weave = weave_on(light)
    done = whole_repeats(evaluator, weave)
    on_photo = (corners_of(done.weave) * SIDE).astype(np.float32)
    flat = cv2.perspectiveTransform(on_photo[None], np.linalg.inv(m))[0]
    n = np.array(done.repeats)
    steps = np.array([flat[1] - flat[0], flat[2] - flat[3], flat[3] - flat[0], flat[2] - flat[1]]) / np.array(photo.period)
    wanted = np.array([[n[0], 0], [n[0], 0], [0, n[1]], [0, n[1]]])
    assert np.abs(steps - wanted).max() < 0.06, "of a repeat, at every corner"


def test_with_corners_square_crop_and_bulge_it_stays_inside_what_was_shown() -> None:
    photo = made("wallpaper")
    box = ((0.1, 0.1), (0.9, 0.1), (0.9, 0.95), (0.1, 0.95))
    evaluator, weave = weave_on(photo.image.pixels, corners=box, crop="square", width_mm=640.0)
    done = whole_repeats(evaluator, weave)
    corners = corners_of(done.weave)
    assert (corners.min(0) >= 0.09).all()
    assert (corners.max(0) <= (0.91, 0.96)).all()
    assert done.weave.steps[1].settings["crop"] == "free"
    bulged, weave = weave_on(photo.image.pixels, bulge=0.03)
    done = whole_repeats(bulged, weave)
    # What is straightened with the new corners shows what was looked at: the motif goes on over the edges
    sheet = bulged.ask(done.weave, "base", 512, below=done.weave.steps[1].id)
    assert sheet.width / sheet.height == pytest.approx(sheet.size_mm[0] / sheet.size_mm[1], rel=0.01)


@pytest.mark.parametrize("name", ["tiles", "hexes", "dots"])
def test_closed_after_it_the_sheet_still_holds_whole_repeats(name: str) -> None:
    evaluator, weave = weave_on(made(name).image.pixels)
    done = whole_repeats(evaluator, weave)
    sheet = evaluator.ask(done.weave, "base", 640)
    lattice = find_lattice(sheet)
    assert lattice is not None
    for step in (lattice.across[0], lattice.down[1]):
        assert 1 / step == pytest.approx(round(1 / step), abs=0.04)


def test_without_a_motif_it_says_so() -> None:
    evaluator, weave = weave_on(made("gravel").image.pixels)
    with pytest.raises(WeaveError, match="no regular motif"):
        whole_repeats(evaluator, weave)
    with pytest.raises(WeaveError, match="Straighten"):
        whole_repeats(evaluator, Weave(steps=weave.steps[:1]))


def test_a_grid_stays_on_its_motif_when_the_corners_move(evaluator: Evaluator, weave: Weave) -> None:
    """The same four places of the photo, whatever rectangle is straightened."""
    straight, closed = weave.first("straighten"), weave.first("seamless")
    assert straight is not None
    assert closed is not None
    grid = [[0.3, 0.3], [0.7, 0.3], [0.7, 0.7], [0.3, 0.7]]
    before = weave.with_settings(closed.id, {"method": "motif", "grid": grid})
    after = before.with_settings(straight.id, {"corners": [[0.05, 0.1], [0.93, 0.06], [0.96, 0.95], [0.02, 0.9]]})
    moved = follow_grid(evaluator, before, after)

    def on_photo(w: Weave) -> np.ndarray:
        row = next(r for r in evaluator.plan(w).rows if r.step.name == "straighten")
        placed = np.array(w.entry(closed.id).settings["grid"]) * row.after.size_mm
        mm = np.concatenate([placed, np.ones((4, 1))], 1) @ row.step.to_photo(row.settings, row.before, row.after).T  # type: ignore[attr-defined]
        return mm[:, :2] / mm[:, 2:]

    assert np.abs(np.array(moved.entry(closed.id).settings["grid"]) - grid).max() > 0.02
    assert np.allclose(on_photo(moved), on_photo(before), atol=1e-4)
    far = before.with_settings(straight.id, {"corners": [[0.9, 0.9], [0.99, 0.9], [0.99, 0.99], [0.9, 0.99]]})
    assert follow_grid(evaluator, before, far) == far, "what lies outside the new sheet stays as it was"
