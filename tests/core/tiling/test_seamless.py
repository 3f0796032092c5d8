"""Cuts, joins, and the two meters."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from silent_loom.core.base.images import Image, Kind, data
from silent_loom.core.base.parallel import IDLE
from silent_loom.core.look.meters.repetition_meter import repetition
from silent_loom.core.look.meters.seam_meter import SCALES, _kinds, _worst, seam, seams
from silent_loom.core.steps.maps.normal import from_height
from silent_loom.core.steps.tiling.seamless import Seamless, SeamlessSettings, joins
from silent_loom.core.tiling.cutting.cut import Prices, edge_prices, lowest_cut
from silent_loom.core.tiling.joining.strip import join_strip
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.step import Geometry, Sheet
from silent_loom.demo.all_surfaces import SURFACES
from silent_loom.demo.surfaces import noise
from tests.conftest import as_colour, spectrum

TEXEL = {"sailcloth": 0.27}
"""Millimetres; yarn needs more texels than slate."""


ANYWHERE = sorted(set(SURFACES) - {"rope"})
"""Surfaces that close at any overlap. A rope repeats strand by strand: cut at any place it shows, at a fitted overlap it closes."""


def sideways(prices: Prices, y: int, start: int, end: int) -> float:
    """Price of going from one column to another between row y and the next."""
    return float(prices.rightward[y, start:end].sum() if end > start else prices.leftward[y, end:start].sum())


def brute_cut(prices: Prices, low: int, high: int) -> float:
    """Price of the cheapest open path, by trying every start and every move."""
    rows, _ = prices.across.shape
    reach = range(low, high + 1)
    total = {c: float(prices.across[0, c]) for c in reach}
    for y in range(1, rows):
        total = {c: min(total[k] + sideways(prices, y - 1, k, c) for k in reach) + float(prices.across[y, c]) for c in reach}
    return min(total.values())


def cost_of_path(path: np.ndarray, prices: Prices, closed: bool) -> float:
    total = sum(float(prices.across[y, path[y]]) for y in range(len(path)))
    for y in range(len(path) - (0 if closed else 1)):
        total += sideways(prices, y, int(path[y]), int(path[(y + 1) % len(path)]))
    return total


@given(st.integers(0, 5000))
@settings(max_examples=25, deadline=None)
def test_the_cut_is_the_cheapest_there_is(seed: int) -> None:
    rng = np.random.default_rng(seed)
    one_way = Prices(*(rng.random((9, 8)).astype(np.float32) for _ in range(3)))
    for prices in (one_way, edge_prices(rng.random((9, 7)).astype(np.float32), rng.random((9, 7)).astype(np.float32))):
        path = lowest_cut(prices, margin=1, closed=False)
        assert cost_of_path(path, prices, False) == pytest.approx(brute_cut(prices, 1, 6), rel=1e-4)


@given(st.integers(0, 5000))
@settings(max_examples=25, deadline=None)
def test_a_closed_cut_ends_where_it_began(seed: int) -> None:
    rng = np.random.default_rng(seed)
    difference = np.abs(noise((60, 20), 12, seed, 3)) + 0.05 * rng.random((60, 20)).astype(np.float32)
    prices = edge_prices(difference.astype(np.float32), np.ones((60, 20), np.float32))
    path = lowest_cut(prices, margin=1, closed=True)
    assert len(path) == 60
    jump = abs(int(path[0]) - int(path[-1]))
    assert jump <= max(6, int(np.abs(np.diff(path)).max()))
    straight = min(cost_of_path(np.full(60, c), prices, True) for c in range(1, 20))
    assert cost_of_path(path, prices, True) <= straight * 1.001


def test_the_cut_goes_where_the_pictures_agree() -> None:
    difference = np.ones((50, 30), np.float32)
    way = (15 + 8 * np.sin(np.arange(50) / 8)).astype(int)
    for y, x in enumerate(way):
        difference[y, x - 1 : x + 2] = 0
    path = lowest_cut(edge_prices(difference, np.ones((50, 30), np.float32)), margin=2, closed=False)
    assert np.abs(path - way).max() <= 2


def test_equal_pictures_are_joined_without_a_trace() -> None:
    strip = np.repeat(spectrum(64, 1, 1)[:, :40, None], 3, 2).copy()
    done = join_strip(strip, strip, np.full(64, 20.0), 1.0, False, IDLE)
    assert np.abs(done - strip).max() < 1e-4


def test_each_side_is_exact_at_the_borders_and_contrast_is_kept() -> None:
    a = np.ascontiguousarray(spectrum(256, 0.8, 1)[:, :80, None])
    b = np.ascontiguousarray(spectrum(256, 0.8, 2)[:, :80, None])
    done = join_strip(a, b, np.full(256, 40.0), 1.0, True, IDLE)
    assert np.abs(done[:, 0] - b[:, 0]).max() < 1e-4
    assert np.abs(done[:, -1] - a[:, -1]).max() < 1e-4
    # Local contrast in the blended band: at least 95 % of the sources', detail and all
    inside, outside = done[:, 30:50].std(), (a[:, 30:50].std() + b[:, 30:50].std()) / 2
    assert inside > 0.95 * outside
    fine = [np.abs(np.diff(p[:, 30:50, 0], axis=0)).mean() for p in (a, b, done)]
    assert fine[2] > 0.95 * (fine[0] + fine[1]) / 2


def _carried(images: dict[str, Image], s: SeamlessSettings) -> tuple[dict[str, Image], Decision]:
    step = Seamless()
    first = next(iter(images.values()))
    before = Geometry(first.size_mm)
    after = step.geometry(s, before, None)  # type: ignore[arg-type]
    decision = step.decide(s, images, before, IDLE)
    texels = (round(first.width * (1 - s.overlap_x)), round(first.height * (1 - s.overlap_y)))
    assert step.demand(s, before, after, texels) == pytest.approx((first.width, first.height))
    return {k: step.carry(s, v, decision, Sheet(before, after, texels, None), IDLE) for k, v in images.items()}, decision  # type: ignore[arg-type]


@pytest.mark.parametrize("name", ANYWHERE)
def test_every_surface_closes_with_a_figure_of_at_most_1(name: str) -> None:
    surface = SURFACES[name]((640, 800), TEXEL.get(name, 1.0))
    sheet = Image(surface.colour, Kind.COLOUR, surface.size_mm)
    before = seams(Image(surface.colour, Kind.COLOUR, surface.size_mm, True), search=False)
    made, decision = _carried({"base": sheet}, SeamlessSettings())
    base = made["base"]
    assert base.wraps
    assert (base.width, base.height) == (640, 512)
    after = seams(base, joins(SeamlessSettings(), decision, base.width, base.height))
    # A straight motif cut at a whole number of its periods may close by chance; nothing here may get worse
    assert max(s.figure for s in after) <= 1.0, [s.figure for s in after]
    assert max(s.figure for s in before) > 3.0


def test_all_threads_move_by_one_field() -> None:
    surface = SURFACES["slate"]((640, 800), 1.0)
    height = Image(surface.height[..., None], Kind.DATA, surface.size_mm)
    ids = Image(np.arange(640 * 800, dtype=np.float32).reshape(640, 800, 1), Kind.ID, surface.size_mm)
    made, _ = _carried(
        {
            "base": Image(surface.colour, Kind.COLOUR, surface.size_mm),
            "height": height,
            "normal": from_height(height),
            "ids": ids,
        },
        SeamlessSettings(),
    )
    angle = np.degrees(np.arccos(np.clip((from_height(made["height"]).pixels * made["normal"].pixels).sum(-1), -1, 1)))
    at = made["ids"].plane().astype(int)
    y, x = at // 800, at % 800
    # Away from both joins, and from the breaks that the open sheet's own border has
    inner = (np.abs(np.diff(at, axis=1, append=at[:, :1])) == 1) & (x > 2) & (x < 797) & (y > 2) & (y < 637)
    assert np.median(angle[inner]) < 0.05
    assert angle[inner].mean() < 2
    far = np.s_[140:500, 180:620]  # outside the overlaps every thread is the source itself
    for name, source in (("base", surface.colour), ("height", surface.height[..., None])):
        assert np.array_equal(made[name].pixels[far], source[y[far], x[far]])


# --- meters -------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("beta", [0.0, 0.5, 1.0, 1.5, 2.0])
@pytest.mark.parametrize("size", [384, 800])
def test_an_untouched_repeat_is_not_accused(beta: float, size: int) -> None:
    for seed in (1, 2, 3):
        for s in seams(as_colour(spectrum(size, beta, seed))):
            assert s.figure <= 1.0, (seed, s.figure)


@pytest.mark.parametrize("name", ANYWHERE)
def test_a_sheet_shifted_by_half_and_unmended_is_found(name: str) -> None:
    from silent_loom.core.moving.resample import blur

    colour = blur(SURFACES[name]((512, 640), TEXEL.get(name, 1.3)).colour, 0.8, False)  # as any lens would
    for sheet in (colour, np.roll(colour, (256, 320), (0, 1))):
        x, y = seams(Image(np.ascontiguousarray(sheet), Kind.COLOUR, wraps=True))
        assert x.figure > 3, (x.figure, y.figure)
        assert y.figure > 3, (x.figure, y.figure)
    assert abs(x.line - 320) <= 1
    assert x.searched > 3


def test_periodic_bricks_are_not_accused() -> None:
    y, x = np.mgrid[0:512, 0:512]
    row = y // 64
    joint = ((y % 64) < 5) | (((x + row % 2 * 64) % 128) < 5)
    plane = np.where(joint, -2.0, spectrum(512, 1.2, 4) * 0.4).astype(np.float32)
    from silent_loom.core.moving.resample import blur

    for s in seams(as_colour(blur(plane, 1.0, True))):
        assert s.figure <= 1.0


def test_a_data_map_and_a_tiny_one_can_be_measured() -> None:
    plane = spectrum(128, 1.5, 1)
    sheet = data(plane, Image(np.zeros((128, 128, 1), np.float32), Kind.DATA, wraps=True))
    assert seam(sheet, "x").figure <= 1
    assert np.isfinite(seam(Image(np.random.default_rng(0).random((20, 24, 1)).astype(np.float32), Kind.DATA), "y").figure)


def test_repetition_sees_the_odd_spot_and_not_the_motif() -> None:
    y, x = np.mgrid[0:512, 0:512]
    motif = np.sin(x * 2 * np.pi / 64) * np.sin(y * 2 * np.pi / 64)
    plain = repetition(as_colour(motif.astype(np.float32)))
    spot = motif + 6 * np.exp(-((x - 200) ** 2 + (y - 300) ** 2) / (2 * 22**2))
    odd = repetition(as_colour(spot.astype(np.float32)))
    assert plain < 0.3
    assert odd > 0.5
    assert repetition(as_colour(spectrum(512, 0.5, 1))) < 0.5


@given(st.integers(0, 1000), st.integers(20, 90))
@settings(max_examples=20, deadline=None)
def test_steps_along_a_line_are_averaged_in_windows_that_wrap(seed: int, h: int) -> None:
    steps = np.random.default_rng(seed).normal(size=(3, len(SCALES), h, 5)).astype(np.float32)
    kinds = _kinds(steps, np.array(SCALES), IDLE)
    for i, scale in enumerate(SCALES):
        # A window as long as the strips are wide, its middle on the row or right above it
        rows = (np.arange(h)[:, None] + np.arange(scale) + scale // 2 + 1 - scale) % h
        mean = steps[:, i, rows, :-1].mean(2)
        np.testing.assert_allclose(kinds[i], np.sqrt(np.square(mean).sum(-1)), atol=2e-5)
    np.testing.assert_array_equal(kinds[len(SCALES)], steps[:, 0, :, -1])
    for length in (8, h, 3 * h):
        worst, running = _worst(kinds[0], length, IDLE)
        n = min(length, h)
        means = kinds[0][:, (np.arange(h)[:, None] + np.arange(n)) % h].mean(-1)
        np.testing.assert_allclose(worst, means.max(-1), rtol=1e-5)
        np.testing.assert_allclose(running, means[0], rtol=1e-5)
