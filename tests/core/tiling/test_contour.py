"""What the cut keeps whole: joints and cracks go on, fork or are left alone, and stones meet at joints only."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray
from scipy import ndimage

from silent_loom.core.base.images import Floats
from silent_loom.core.tiling.cutting.contour import END, NEAR, SKIP, THINNEST, contour_prices, lines_of
from silent_loom.core.tiling.cutting.cost import Cost
from silent_loom.core.tiling.cutting.cut import Prices, lowest_cut, price_by_row
from silent_loom.core.tiling.cutting.layers import Layers, layers_of
from tests.conftest import spectrum
from tests.support.plates import plates


def strips(seed: int, rows: int = 40, columns: int = 26) -> tuple[Layers, Layers]:
    tones = [spectrum(64, 1.0, seed + i)[:rows, :columns] for i in (0, 1)]
    first, second = (np.ascontiguousarray(np.stack([t, 0.5 * t * t], -1), np.float32) for t in tones)
    return layers_of(first, 0.4), layers_of(second, 0.4)


def changed(layers: Layers, how: object) -> Layers:
    return Layers(*(np.ascontiguousarray(how(a)) for a in (layers.base, layers.detail, layers.line)))  # type: ignore[operator]


@given(st.integers(0, 10_000), st.booleans())
@settings(max_examples=15, deadline=None)
def test_a_mirrored_strip_has_mirrored_prices(seed: int, closed: bool) -> None:
    first, second = strips(seed)
    plain = contour_prices(first, second, 0.4, closed)
    flip = contour_prices(changed(second, np.fliplr), changed(first, np.fliplr), 0.4, closed)
    assert np.allclose(flip.across, plain.across[:, ::-1], rtol=1e-3, atol=1e-6)
    assert np.allclose(flip.rightward[:, :-1], plain.leftward[:, -2::-1], rtol=1e-3, atol=1e-6)
    down = contour_prices(changed(first, np.flipud), changed(second, np.flipud), 0.4, False)
    upright = contour_prices(first, second, 0.4, False)
    assert np.allclose(down.across, upright.across[::-1], rtol=1e-3, atol=1e-6)
    assert np.allclose(down.rightward[:-1], upright.leftward[-2::-1], rtol=1e-3, atol=1e-6)


@given(st.integers(0, 10_000), st.integers(1, 39))
@settings(max_examples=10, deadline=None)
def test_a_closed_strip_may_begin_anywhere(seed: int, shift: int) -> None:
    first, second = strips(seed)
    plain = contour_prices(first, second, 0.4, True)
    rolled = contour_prices(*(changed(p, lambda a: np.roll(a, shift, 0)) for p in (first, second)), 0.4, True)
    for was, now in zip(plain, rolled, strict=True):
        assert np.allclose(now, np.roll(was, shift, 0), rtol=0.02, atol=0.002 * float(was.max()))


def test_the_layers_add_up_and_only_lines_are_lines() -> None:
    tone, crack = plates(300, 400, 90, 2)
    layers = layers_of(np.ascontiguousarray(tone[..., None]), 0.5)
    assert np.allclose(layers.base + layers.detail, tone[..., None], atol=1e-6)
    assert layers.line[crack].mean() > 0.9
    away = ~crack & (np.abs(layers.detail[..., 0]) < 0.05)
    assert layers.line[away].mean() < 0.05
    # Plates keep their own tone up to the crack
    beside = away & (np.abs(np.roll(crack, 8, 1).astype(int) - crack) > 0)
    assert np.abs(layers.base[..., 0] - tone)[beside].mean() < 0.02


@pytest.mark.parametrize("radius", [20, 40])
def test_what_is_round_keeps_its_tone_up_to_its_border(radius: int) -> None:
    y, x = np.mgrid[0:240, 0:240]
    away = np.hypot(y - 120, x - 120) - radius
    tone = np.where(away < 0, 0.7, 0.2).astype(np.float32)
    tone += 0.01 * np.random.default_rng(radius).standard_normal(tone.shape).astype(np.float32)
    layers = layers_of(tone[..., None], 0.8)
    rim = (away < 0) & (away > -3)
    assert np.abs(layers.base[..., 0] - 0.7)[rim].mean() < 0.1
    assert layers.line[rim].mean() < 0.15, "no crescent is a line"
    ring = np.where(np.abs(away) < 2, 0.05, tone).astype(np.float32)
    assert layers_of(ring[..., None], 0.8).line[np.abs(away) < 1.5].mean() > 0.9, "a dark outline still is"


def test_equal_pictures_may_be_parted_anywhere() -> None:
    layers, _ = strips(3)
    prices = contour_prices(layers, layers, 0.4, False)
    assert max(float(p.max()) for p in prices) <= 2e-6


def test_a_joint_is_kept_beside_another_stone() -> None:
    rng = np.random.default_rng(1)
    rows, columns = 400, 160
    second = np.full((rows, columns), 0.35, np.float32)
    way = (80 + 25 * np.sin(np.arange(rows) / 60)).astype(int)
    for y, x in enumerate(way):
        second[y, x + 3 :] = 0.55
        second[y, x - 3 : x + 3] = 0.1
    first = np.full((rows, columns), 0.8, np.float32)
    first, second = (p + 0.01 * rng.standard_normal(p.shape).astype(np.float32) for p in (first, second))
    prices = contour_prices(*(layers_of(np.ascontiguousarray(p[..., None]), 1.0) for p in (first, second)), 1.0, False)
    path = lowest_cut(prices, margin=10, closed=False)
    beyond = path - (way + 3)  # the second picture ends there: with its joint, and with none of what lies beyond
    assert np.quantile(beyond, 0.02) >= -1
    assert np.quantile(beyond, 0.98) <= SKIP + NEAR


def price_of_ending(width: float, slope: float) -> float:
    """What the cheapest cut costs through a line that only one side shows, from border to border of the strip."""
    rng = np.random.default_rng(4)
    y, x = np.mgrid[0:200, 0:120].astype(np.float64)
    away = np.abs(y - 100 - slope * (x - 60)) / np.hypot(1, slope)
    cover = np.clip(width / 2 + 0.5 - away, 0, min(1.0, width))
    second = 0.6 - 0.45 * cover
    strips = (p + 0.01 * rng.standard_normal(p.shape) for p in (np.full_like(second, 0.6), second))
    sides = [layers_of(np.ascontiguousarray(p[..., None], np.float32), 1.0) for p in strips]
    prices = contour_prices(*sides, 1.0, False)
    return float(price_by_row(prices, lowest_cut(prices, margin=12, closed=False)).sum())


@pytest.mark.parametrize("slope", [0.0, 0.5, 1.0, 2.0])
def test_a_hairline_ends_at_a_price(slope: float) -> None:
    level = price_of_ending(7.0, 0.0)
    # A path of sides of texels has corners, through which a line askew must not slip
    assert 0.4 * level < price_of_ending(1.5, slope) < 1.2 * level


def test_lines_are_priced_by_how_wide_they_are() -> None:
    line = np.zeros((60, 60), np.float32)
    line[:, 20] = 1
    layers = Layers(np.zeros((60, 60, 1), np.float32), -0.4 * line[..., None], line)
    hair = lines_of(layers, 1.0, False)
    assert np.allclose(hair.price[:, 20], END * THINNEST)
    assert (hair.line[:, 19:22] == 1).all()
    assert hair.line.sum() == 3 * 60
    assert np.allclose(hair.detail[:, 19:22], -0.4)
    line[:, 16:26] = 1
    assert np.allclose(lines_of(layers, 1.0, False).price[30, 20], END)


def cut_off(path: NDArray[np.int32], first: NDArray[np.bool_], second: NDArray[np.bool_]) -> int:
    """Texels in which the middle of a crack reaches the cut, goes on in its own picture, and meets none of the other's."""
    shows_second = np.arange(first.shape[1])[None, :] < path[:, None]
    middle = [ndimage.binary_erosion(c, iterations=2, border_value=1) for c in (first, second)]
    seen = np.where(shows_second, middle[1], middle[0])
    about = np.where(shows_second, *(ndimage.binary_dilation(c, iterations=3) for c in (second, first)))
    found = 0
    for axis in (0, 1):
        for a, b in ((0, 1), (1, 0)):
            side = [np.s_[:-1, :], np.s_[1:, :]] if axis == 0 else [np.s_[:, :-1], np.s_[:, 1:]]
            p, q = side[a], side[b]
            goes_on = np.where(shows_second[p], middle[1][q], middle[0][q])
            found += int(((shows_second[p] != shows_second[q]) & seen[p] & goes_on & ~about[q]).sum())
    return found


def paths(tone: Floats, keep: int) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    cost = Cost(np.ascontiguousarray(tone[..., None]), max(tone.shape) / 1024, 1)
    margin = int(0.12 * (tone.shape[1] - keep))
    return tuple(  # type: ignore[return-value]
        lowest_cut(prices, margin=margin, closed=False) for prices in (cost.prices(keep, False), cost.prices_of_difference(keep))
    )


def test_fewer_cracks_end_at_the_cut() -> None:
    kept, plain = 0, 0
    for seed in range(12):
        tone, crack = plates(620, 800, 80 + 10 * seed, seed)
        keep = 600
        first, second = crack[:, : 800 - keep], crack[:, keep:]
        by_contour, by_difference = paths(tone, keep)
        kept += cut_off(by_contour, first, second)
        plain += cut_off(by_difference, first, second)
    assert kept < 0.7 * plain


def test_both_ends_of_a_sheet_are_priced_as_the_whole_sheet_is() -> None:
    tone, _ = plates(300, 700, 80, 5)
    planes = np.ascontiguousarray(tone[..., None])
    alone = Cost(planes, 0.7, 1).prices(600, False)
    whole = Cost(planes, 0.7, 1)
    assert whole.layers.line.shape == tone.shape  # taken apart once, for many overlaps
    for ends, all_of_it in zip(alone, whole.prices(600, False), strict=True):
        # The two ends alone have a usual strength of detail of their own
        assert np.corrcoef(ends.ravel(), all_of_it.ravel())[0, 1] > 0.98
    assert isinstance(alone, Prices)
