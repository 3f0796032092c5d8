"""Ends of an overlap moved along each other: lines meet at the cut, and every kind of map goes the same way."""

from __future__ import annotations

from itertools import product

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import IDLE
from silent_loom.core.moving.resample import blur
from silent_loom.core.moving.slide import slid
from silent_loom.core.moving.slopes import slopes_of
from silent_loom.core.steps.maps.normal import from_height
from silent_loom.core.steps.tiling.seamless import SEAMLESS, SeamlessSettings
from silent_loom.core.tiling.cutting import meet
from silent_loom.core.tiling.cutting.by_lines import MARGIN
from silent_loom.core.tiling.cutting.cost import Cost, cost_of
from silent_loom.core.tiling.cutting.cut import Prices, lowest_cut, roughness
from silent_loom.core.weave.step import Geometry
from tests.conftest import spectrum


def boards(height: int, width: int, lean: float, seed: int) -> Image:
    """Boards of uneven width with dark joints between, which sink by ``lean`` of the height from the left edge to the right."""
    rng = np.random.default_rng(seed)
    joints = np.cumsum(rng.uniform(0.05, 0.12, 40)) * height - height * 0.5
    y, x = np.mgrid[0:height, 0:width].astype(np.float32)
    at = y - lean * height * x / width
    board = np.searchsorted(joints, at)
    away = np.abs(at[..., None] - joints).min(2)
    tone = 0.35 + 0.02 * spectrum(max(height, width), 0.5, seed)[:height, :width] + 0.02 * (board % 3)
    tone = np.where(away < 2.0, 0.03, tone)
    return Image(np.repeat(np.clip(tone, 0.01, 1)[..., None], 3, 2).astype(np.float32), Kind.COLOUR)


def found(image: Image, keep: int, closed: bool = False) -> tuple[Cost, Floats | None]:
    cost = cost_of({"base": image}, {})
    return cost, meet.meeting(cost.planes, cost.sides(keep), keep, cost.scale, cost.toned, MARGIN, closed)


def cheapest(cost: Cost, keep: int) -> float:
    prices = cost.prices(keep, False)
    return roughness(prices, lowest_cut(prices, margin=int(MARGIN * (cost.planes.shape[1] - keep)), closed=False))


@pytest.mark.parametrize("seed", [1, 2, 3])
@pytest.mark.parametrize("lean", [0.02, -0.025])
def test_boards_that_lean_are_brought_together(seed: int, lean: float) -> None:
    image = boards(700, 700, lean, seed)
    keep = 500
    cost, shift = found(image, keep)
    assert shift is not None
    middle = shift[len(shift) // 4 : -len(shift) // 4] * 700
    # The far end shows what the near end does, 500 texels to the right
    assert np.abs(middle - lean * keep).mean() < 1.5
    assert cheapest(cost.slid(keep, shift, False), keep) < 0.5 * cheapest(cost, keep)


def test_where_nothing_can_meet_nothing_moves() -> None:
    level = boards(600, 600, 0.0, 4)  # meets already
    assert found(level, 450)[1] is None
    grain = np.stack([spectrum(400, 0.5, k) for k in range(3)], 2)
    even = Image((0.3 + 0.03 * grain).astype(np.float32), Kind.COLOUR)
    assert found(even, 300)[1] is None  # has no lines
    assert found(Image(np.full((200, 200, 3), 0.4, np.float32), Kind.COLOUR), 160)[1] is None
    assert found(boards(60, 60, 0.02, 1), 48)[1] is None  # is too small


def test_a_sheet_without_tone_is_asked_in_vain() -> None:
    cost = cost_of({"normal": from_height(Image(spectrum(300, 1.0, 2)[..., None] * 0.5, Kind.DATA, (300.0, 300.0)))}, {})
    assert cost.toned == 0
    assert meet.meeting(cost.planes, cost.sides(240), 240, cost.scale, 0, MARGIN, False) is None


@pytest.mark.parametrize("changed", [{}, {"bend": False}, {"cut_by": "difference"}, {"method": "gradient"}])
def test_only_a_cut_by_lines_moves_its_ends(changed: dict[str, object]) -> None:
    image = boards(700, 700, 0.02, 1)
    s = SeamlessSettings(**{"method": "cut", "overlap_x": 0.28, "overlap_y": 0.28} | changed)  # type: ignore[arg-type]
    decision = SEAMLESS.decide(s, {"base": image}, Geometry((700.0, 700.0)), IDLE)
    assert ("shift_x" in decision.arrays) == (changed == {})


@given(st.integers(0, 10_000), st.booleans())
@settings(max_examples=25, deadline=None)
def test_the_way_through_all_shifts_is_the_cheapest(seed: int, tied: bool) -> None:
    rng = np.random.default_rng(seed)
    layers, rows, n, step = 2, 4, 3, 0.4
    prices = Prices(*(rng.random((layers, rows, n)).astype(np.float32) for _ in range(3)))
    start = (1, 2) if tied else None
    ends = (1, 2)

    def cost(path: tuple[int, ...], layer: tuple[int, ...]) -> float:
        total = sum(float(prices.across[layer[y], y, path[y]]) for y in range(rows))
        for y in range(rows - 1):
            a, b, k = path[y], path[y + 1], layer[y]
            total += float(prices.rightward[k, y, a:b].sum()) + float(prices.leftward[k, y, b:a].sum())
            total += step * abs(layer[y + 1] - k)
        return total

    ways = [
        (cost(path, layer), path, layer)
        for path in product(range(n), repeat=rows)
        for layer in product(range(layers), repeat=rows)
        if start is None or ((layer[0], path[0]) == ends and (layer[-1], path[-1]) == ends)
    ]
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(meet, "EVERY", 1)
        path, layer = meet.way(prices, step, start)
    assert cost(tuple(int(c) for c in path), tuple(int(k) for k in layer)) == pytest.approx(min(ways)[0], abs=1e-5)


def gentle(rows: int, n: int, seed: int, closed: bool) -> tuple[Floats, Floats]:
    """A smooth field of shifts, coarse, and what it is at every texel, in texels."""
    rng = np.random.default_rng(seed)
    a, b = rng.uniform(0.5, 1, 2)
    y, x = (np.arange(rows)[:, None] + 0.5) / rows, (np.arange(n)[None] + 0.5) / n
    size = (rows // 8, n // 8)
    v, u = (np.arange(size[0])[:, None] + 0.5) / size[0], (np.arange(size[1])[None] + 0.5) / size[1]
    turns = 1 if closed else 0.5

    def at(y: Floats, x: Floats) -> Floats:
        out: Floats = 0.02 * a * np.sin(2 * np.pi * turns * y) * (1 + 0.5 * b * np.sin(3 * x))
        return out

    return at(v, u).astype(np.float32), at(y, x) * rows


@pytest.mark.parametrize("axis", [0, 1])
@pytest.mark.parametrize("channels", [1, 2, 3, 4])
@pytest.mark.parametrize("closed", [False, True])
def test_both_ends_go_to_where_the_field_says(axis: int, channels: int, closed: bool) -> None:
    rows, n = 320, 96
    coarse, shift = gentle(rows, n, channels, closed)
    y, x = np.mgrid[0:rows, 0:n].astype(np.float32)

    def look(y: Floats) -> Floats:  # goes on beyond both ends, and comes back round
        waves = [np.sin(2 * np.pi * (k + 3) * (y + 0.5) / rows + 0.05 * x + k) for k in range(channels)]
        return np.stack(waves, 2).astype(np.float32)

    t = (x + 0.5) / n
    share = t * t * (3 - 2 * t)
    side = look(y) if axis == 1 else np.ascontiguousarray(look(y).transpose(1, 0, 2))
    ends = slid(side, side, Kind.DATA, axis, coarse, closed)
    inner = (slice(None) if closed else slice(8, -8), slice(4, -4))  # half a cell from a border the field is not known
    for end, weight in zip(ends, (share - 1, share), strict=True):
        got = end if axis == 1 else end.transpose(1, 0, 2)
        assert np.abs(got - look(y + weight * shift))[inner].max() < 0.01
    near, far = (e if axis == 1 else e.transpose(1, 0, 2) for e in ends)
    assert np.abs(near[:, -1] - look(y)[:, -1]).max() < 0.01
    assert np.abs(far[:, 0] - look(y)[:, 0]).max() < 0.01


@pytest.mark.parametrize("axis", [0, 1])
def test_ids_are_never_mixed(axis: int) -> None:
    coarse, _ = gentle(160, 64, 3, True)
    ids = np.random.default_rng(0).integers(0, 5, (160, 64, 1)).astype(np.float32) * 40
    side = ids if axis == 1 else np.ascontiguousarray(ids.transpose(1, 0, 2))
    for end in slid(side, side, Kind.ID, axis, coarse, True):
        assert set(np.unique(end)) <= set(np.unique(ids))
        assert not np.array_equal(end, side)


@pytest.mark.parametrize("axis", [0, 1])
def test_normals_turn_with_what_is_moved(axis: int) -> None:
    rows, n = 240, 96
    coarse, _ = gentle(rows, n, 5, True)
    tone = blur(spectrum(rows, 1.0, 3)[:, :n], 3.0, False)
    height = np.ascontiguousarray((tone if axis == 1 else tone.T)[..., None] * 4)
    size = (float(height.shape[1]), float(height.shape[0]))

    def slopes(h: Floats) -> Floats:
        return slopes_of(from_height(Image(np.ascontiguousarray(h), Kind.DATA, size, False)).pixels, IDLE)

    moved = slid(height, height, Kind.DATA, axis, coarse, True)
    turned = slid(slopes(height), slopes(height), Kind.NORMAL, axis, coarse, True)
    still = slid(slopes(height), slopes(height), None, axis, coarse, True)
    inner = (slice(6, -6), slice(6, -6))
    for h, s, plain in zip(moved, turned, still, strict=True):
        want = slopes(h)
        off, unturned = (float(np.abs(v - want)[inner].mean()) for v in (s, plain))
        assert off < 0.25 * unturned
        assert off < 0.02 * float(np.abs(want).mean()) + 1e-3


@given(st.integers(1, 159))
@settings(max_examples=10, deadline=None)
def test_a_closed_strip_may_begin_anywhere(start: int) -> None:
    start = start // 8 * 8 or 8  # whole cells of the field
    coarse, _ = gentle(160, 64, 7, True)
    side = np.random.default_rng(1).random((160, 64, 2), np.float32)
    plain = slid(side, side, Kind.DATA, 1, coarse, True)
    rolled_side = np.roll(side, start, 0)
    rolled = slid(rolled_side, rolled_side, Kind.DATA, 1, np.roll(coarse, start // 8, 0), True)
    for one, other in zip(plain, rolled, strict=True):
        assert np.abs(np.roll(one, start, 0) - other).max() < 1e-4
