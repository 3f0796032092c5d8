"""Break-up: every thread through the same cells, heights whole, normals turned, contrast kept."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.parallel import IDLE
from silent_loom.core.look.meters.seam_meter import seams
from silent_loom.core.moving.gauss import learn
from silent_loom.core.moving.resample import blur, reduce_area
from silent_loom.core.steps.maps.normal import from_height
from silent_loom.core.steps.tiling.breakup import BreakUp, BreakUpSettings, broken_up, layout, outlines
from silent_loom.core.tiling.pieces.chart import chart
from silent_loom.core.tiling.pieces.follow import kept_to, motif_of
from silent_loom.core.weave.step import Geometry, Sheet
from tests.conftest import as_colour, spectrum

STEP = BreakUp()


def tile(n: int = 128, beta: float = 1.2, seed: int = 1, keep: float = 0.5) -> Image:
    return Image((0.5 + 0.2 * spectrum(n, beta, seed, keep)).astype(np.float32)[..., None], Kind.DATA, (100.0, 100.0), True)


def through(image: Image, s: BreakUpSettings, scale: float = 1.0) -> Image:
    cells = layout(s, image.size_mm)
    size = image.size_mm[0] * s.repeat_x, image.size_mm[1] * s.repeat_y
    w, h = round(image.width * s.repeat_x * scale), round(image.height * s.repeat_y * scale)
    return Image(broken_up(image, cells, w, h, size, s.join, s.cells, IDLE), image.kind, size, True)


@pytest.mark.parametrize("cells", ["irregular", "hexagons"])
@pytest.mark.parametrize("turn", [0.0, 180.0])
def test_the_larger_sheet_wraps_and_keeps_its_contrast(cells: Any, turn: float) -> None:
    image = tile()
    made = through(image, BreakUpSettings(repeat_x=3, repeat_y=2, cells=cells, turn_deg=turn))
    assert made.pixels.shape == (256, 384, 1)
    assert np.isfinite(made.pixels).all()
    assert made.pixels.std() == pytest.approx(image.pixels.std(), rel=0.08)
    assert made.pixels.mean() == pytest.approx(image.pixels.mean(), abs=0.02)
    fine, was = (i.pixels[..., 0] - blur(np.ascontiguousarray(i.pixels[..., 0]), 2.0, True) for i in (made, image))
    assert fine.std() > 0.85 * was.std()
    assert max(s.figure for s in seams(made, search=False)) <= 1.0


def test_without_turns_most_samples_are_copied_exactly() -> None:
    image = tile()
    made = through(image, BreakUpSettings(repeat_x=2, repeat_y=2, join=0.05))
    values = np.unique(image.pixels)
    copied = np.isin(made.pixels, values).mean()
    assert copied > 0.7


def test_repetition_is_broken() -> None:
    image = as_colour(spectrum(96, 2.0, 3))
    image = Image(image.pixels, Kind.COLOUR, (100.0, 100.0), True)
    made = through(image, BreakUpSettings(repeat_x=4, repeat_y=4))
    plane = made.pixels.mean(2)
    shifted = np.roll(plane, 96, 1)
    assert np.corrcoef(plane.ravel(), shifted.ravel())[0, 1] < 0.4
    again = np.tile(image.pixels.mean(2), (4, 4))
    assert np.corrcoef(again.ravel(), np.roll(again, 96, 1).ravel())[0, 1] > 0.999


@pytest.mark.parametrize("turn", [0.0, 120.0])
def test_normals_turn_with_their_cell(turn: float) -> None:
    plane = 2.0 * spectrum(256, 2.4, 6, keep=0.06)
    height = Image(np.ascontiguousarray(plane, np.float32)[..., None], Kind.DATA, (100.0, 100.0), True)
    s = BreakUpSettings(repeat_x=2, repeat_y=2, turn_deg=turn, join=0.06, cell_mm=60)
    first = from_height(through(height, s)).pixels
    second = through(from_height(height), s).pixels
    angle = np.degrees(np.arccos(np.clip((first * second).sum(2), -1, 1)))
    # Away from the borders: where one cell shows alone
    cells = outlines(s, height.size_mm, 512, 512, IDLE).pixels
    edge = (np.abs(np.diff(cells, axis=0, append=cells[:1])) + np.abs(np.diff(cells, axis=1, append=cells[:, :1]))).sum(2) > 0
    away = blur(edge.astype(np.float32), 14.0, True) < 0.004
    assert away.mean() > 0.2
    assert angle[away].mean() < 2.0
    assert np.linalg.norm(second, axis=2) == pytest.approx(1.0, abs=1e-4)


def test_heights_have_no_step_where_cells_meet() -> None:
    plane = spectrum(256, 2.4, 6, keep=0.06)
    height = Image(np.ascontiguousarray(plane, np.float32)[..., None], Kind.DATA, (100.0, 100.0), True)
    s = BreakUpSettings(repeat_x=2, repeat_y=2, turn_deg=90)
    # What is steep gets flatter with finer texels; what is a step does not
    coarse, fine = (np.abs(np.diff(through(height, s, scale).pixels[..., 0], axis=1)).max() for scale in (1.0, 4.0))
    assert fine < 0.4 * coarse


def test_labels_are_never_blended() -> None:
    labels = np.random.default_rng(0).integers(0, 7, (64, 64, 1)).astype(np.float32)
    made = through(Image(labels, Kind.ID, (50.0, 50.0), True), BreakUpSettings(repeat_x=3, repeat_y=3, turn_deg=40))
    assert set(np.unique(made.pixels)) <= set(range(7))


@given(st.integers(0, 1000), st.integers(1, 5), st.integers(1, 5), st.floats(10, 200))
@settings(max_examples=20, deadline=None)
def test_cells_are_the_same_for_a_seed_and_lie_on_the_sheet(seed: int, n: int, m: int, cell: float) -> None:
    s = BreakUpSettings(repeat_x=n, repeat_y=m, seed=seed, cell_mm=cell)
    first, second = layout(s, (100.0, 80.0)), layout(s, (100.0, 80.0))
    assert np.array_equal(first, second)
    assert first.shape[0] % 2 == 0
    assert (np.abs(first[..., 2]) <= 50.0).all()
    assert (first[..., 4] == 0).all()
    other = layout(s.model_copy(update={"seed": seed + 1}), (100.0, 80.0))
    assert not np.array_equal(first, other)


def test_small_answers_look_like_the_large_one() -> None:
    image = tile(256, 1.6, 2, keep=0.12)
    small = Image(reduce_area(image.pixels, 128, 128), Kind.DATA, image.size_mm, True)
    s = BreakUpSettings(repeat_x=2, repeat_y=2, turn_deg=30)
    large, little = through(image, s).pixels, through(small, s).pixels
    error = reduce_area(large, 256, 256).reshape(little.shape) - little
    assert 20 * np.log10(np.ptp(large) / np.sqrt(np.square(error).mean())) > 30


def test_it_needs_a_sheet_that_wraps() -> None:
    with pytest.raises(WeaveError, match="edges meet"):
        STEP.geometry(BreakUpSettings(), Geometry((10.0, 10.0), False), None)  # type: ignore[arg-type]
    assert STEP.geometry(BreakUpSettings(repeat_x=2, repeat_y=5), Geometry((10.0, 10.0), True), None).size_mm == (20.0, 50.0)  # type: ignore[arg-type]
    with pytest.raises(WeaveError, match="too small"):
        layout(BreakUpSettings(repeat_x=64, repeat_y=64, cell_mm=0.001), (100.0, 100.0))


def test_cells_and_chart_can_be_looked_at() -> None:
    s = BreakUpSettings(repeat_x=2, repeat_y=2)
    cells = outlines(s, (100.0, 100.0), 128, 128, IDLE)
    colours = np.unique(cells.pixels.reshape(-1, 3), axis=0)
    assert 4 <= len(colours) <= layout(s, (100.0, 100.0))[..., 0].size
    picture = chart(64, 64, (100.0, 100.0))
    assert picture.wraps
    assert np.ptp(through(picture, s).pixels) > 0.5


@given(st.integers(0, 1000), st.floats(0.2, 3))
@settings(max_examples=15, deadline=None)
def test_gaussian_tables_go_there_and_back(seed: int, skew: float) -> None:
    rng = np.random.default_rng(seed)
    samples = np.exp(skew * rng.normal(0, 1, (5000, 1))).astype(np.float32)
    tables = learn(samples, Kind.DATA)
    scores = np.interp(
        samples[:, 0], np.linspace(samples.min(), samples.max(), tables.to_gauss.shape[1] - 2), tables.to_gauss[0, 2:]
    )
    back = np.interp(scores, np.linspace(-4, 4, tables.to_value.shape[1]), tables.to_value[0])
    inner = (samples[:, 0] > np.percentile(samples, 5)) & (samples[:, 0] < np.percentile(samples, 95))
    assert np.abs(back - samples[:, 0])[inner].max() < 0.05 * np.ptp(samples)


def test_pieces_keep_to_a_grid_of_tiles() -> None:
    """Moved by whole tiles, joints lie where they did: the sheet of one tile over and over comes out as it went in."""
    n, tile = 240, 40
    plane = np.full((n, n), 0.6, np.float32)
    plane[::tile], plane[:, ::tile] = 0.1, 0.1
    plane[1::tile], plane[:, 1::tile] = 0.1, 0.1
    y, x = np.mgrid[0:n, 0:n] % tile
    plane += np.where((x - 24) ** 2 + (y - 14) ** 2 < 60, 0.25, 0).astype(np.float32)
    image = Image(np.repeat(plane[..., None], 3, 2), Kind.COLOUR, (600.0, 600.0), True)
    for follow, least, most in (("automatic", 0.0, 0.02), ("freely", 0.03, 1.0)):
        s = BreakUpSettings(repeat_x=2, repeat_y=2, follow=follow)  # type: ignore[arg-type]
        before = Geometry(image.size_mm, True)
        decision = BreakUp().decide(s, {"base": image}, before, IDLE)
        after = BreakUp().geometry(s, before, None)  # type: ignore[arg-type]
        made = BreakUp().carry(s, image, decision, Sheet(before, after, (480.0, 480.0), None), IDLE)  # type: ignore[arg-type]
        off = np.abs(made.pixels - np.tile(image.pixels, (2, 2, 1))).mean()
        assert least <= off <= most, (follow, off)
        if follow == "automatic":
            assert "36" in decision.figures["keeps_to"]


def test_pieces_keep_to_courses_and_where_nothing_is_regular_that_is_said() -> None:
    rng = np.random.default_rng(2)
    rows = np.full((256, 256), 0.55, np.float32)
    for y in range(0, 256, 32):
        rows[y : y + 3] = 0.12
        for x in rng.choice(256, 5, replace=False):
            rows[y : y + 32, x : x + 3] = 0.12
    rows += rng.normal(0, 0.02, rows.shape).astype(np.float32)
    sheet = Image(np.repeat(rows[..., None], 3, 2), Kind.COLOUR, (512.0, 512.0), True)
    motif = motif_of(sheet)
    assert motif is not None
    assert motif.words == "its 8 courses"
    cells = layout(BreakUpSettings(), sheet.size_mm)
    moved = kept_to(cells, motif, sheet.size_mm)
    assert np.abs(moved[..., 3] / 64 - np.rint(moved[..., 3] / 64)).max() < 1e-9, "whole courses"
    assert np.array_equal(moved[..., 2], cells[..., 2]), "along a course any step will do"
    grain = Image(np.clip(0.4 + 0.1 * np.repeat(spectrum(256, 0.4, 3)[..., None], 3, 2), 0, 1), Kind.COLOUR, (512.0, 512.0), True)
    assert motif_of(grain) is None
    decision = BreakUp().decide(BreakUpSettings(), {"base": grain}, Geometry((512.0, 512.0), True), IDLE)
    assert decision.figures["keeps_to"] == ""


def test_cells_stray_apart_across_and_down_and_turn_by_quarters() -> None:
    even = layout(BreakUpSettings(stray=0.0, stray_y=0.8, roam=0.0, roam_y=1.0), (100.0, 100.0))
    assert np.ptp(even[0, :, 0] - np.arange(even.shape[1]) * 300 / even.shape[1]) < 1e-9
    assert np.ptp(even[0, :, 1]) > 1
    assert np.abs(even[..., 2]).max() == 0
    assert np.abs(even[..., 3]).max() > 10
    turned = layout(BreakUpSettings(turns="quarters"), (100.0, 100.0))[..., 4] / (np.pi / 2)
    assert set(np.rint(turned).astype(int).ravel()) == {0, 1, 2, 3}
    assert np.allclose(turned, np.rint(turned))
