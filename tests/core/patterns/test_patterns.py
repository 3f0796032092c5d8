"""Noise, cells, shapes that are laid, cloth and what is made of them: exact numbers, and what every one of them promises."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from bench.patterns import evaluator
from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.patterns import bonds, cellular, cloth, edges, flow, hashing, laying, noise, outlines, scatter, spots, waves
from silent_loom.core.patterns.ground import Ground, whole
from silent_loom.core.steps.patterns.cloth.cloth import ClothSettings
from silent_loom.core.steps.patterns.laid.bonds import Bonds, BondsSettings
from silent_loom.core.steps.tone.ramp import Grade, GradeSettings, Ramp, RampSettings
from silent_loom.core.weave import registry
from silent_loom.core.weave.rows.model import StepEntry, Weave
from tests.core.maps.test_maps import run


def square(n: int, mm: float = 100.0) -> Ground:
    return Ground.of(n, n, (mm, mm))


def woven(*rows: StepEntry, mm: float = 400.0) -> Weave:
    sheet = StepEntry(step="blank", settings={"width_mm": mm, "height_mm": mm})
    return Weave(steps=(sheet, *rows))


# --- chance ----------------------------------------------------------------------------------------------------------


def plain_noise(n: int, cells: int, seed: int) -> Floats:
    """One octave of gradient noise, written down as it is defined."""
    angle = hashing.grid(cells, cells, hashing.of(seed, 0)) * np.float32(2 * np.pi)
    off = hashing.numbers(2, hashing.of(seed, 900))
    at = (np.arange(n) + 0.5) / n
    u, v = np.meshgrid((at + off[0]) % 1 * cells, (at + off[1]) % 1 * cells)
    i, j = np.floor(u).astype(int), np.floor(v).astype(int)
    fx, fy = u - i, v - j

    def corner(a: int, b: int) -> Any:
        turn = angle[(j + b) % cells, (i + a) % cells]
        return 1.5 * (np.cos(turn) * (fx - a) + np.sin(turn) * (fy - b))

    def soft(t: Any) -> Any:
        return t**3 * (t * (t * 6 - 15) + 10)

    top = corner(0, 0) + (corner(1, 0) - corner(0, 0)) * soft(fx)
    low = corner(0, 1) + (corner(1, 1) - corner(0, 1)) * soft(fx)
    return np.asarray(top + (low - top) * soft(fy), np.float32)


@pytest.mark.parametrize("cells", [1, 5, 16])
def test_noise_is_what_it_is_defined_as(cells: int) -> None:
    found = noise.noise(square(96), (cells, cells), octaves=1, seed=7)
    assert np.abs(found - plain_noise(96, cells, 7)).max() < 2e-5


@settings(max_examples=12, deadline=None)
@given(
    st.integers(1, 9), st.integers(1, 9), st.sampled_from(["plain", "ridged", "billowed"]), st.booleans(), st.integers(0, 10**6)
)
def test_noise_without_a_warp_is_that_with_none(nx: int, ny: int, how: noise.Sum, valued: bool, seed: int) -> None:
    ground = Ground.of(48, 40, (120.0, 100.0))
    even = noise.noise(ground, (nx, ny), octaves=4, how=how, valued=valued, seed=seed)
    warped = noise.noise(ground, (nx, ny), octaves=4, how=how, valued=valued, seed=seed, warp=np.zeros((2, 40, 48), np.float32))
    assert np.abs(even - warped).max() < 2e-4
    assert np.abs(even).max() <= 1.61


def test_all_of_it_goes_on_at_the_other_side() -> None:
    """An array wider than a repeat shows its beginning once more."""
    wide = Ground(96, 64, (100.0, 100.0), (64.0, 64.0))
    cells = cellular.cellular(wide, (5, 4), seed=3)
    brick = bonds.laid(wide, "flemish", 30, 12).table(2, 1, 1)
    for plane in (
        noise.noise(wide, (4, 4), seed=3),
        cells.border,
        cells.near,
        laying.beside(wide, brick, 3).depth,
        cloth.woven(wide, cloth.DRAFTS["twill"], 6, 6).height,
    ):
        assert np.abs(plane[:, 64:] - plane[:, :32]).max() < 1e-3


def test_cells_know_their_distances() -> None:
    found = cellular.cellular(square(64), (4, 4), jitter=0.0)
    at = (np.arange(64) + 0.5) / 64 * 4 % 1 - 0.5
    away = 25.0 * np.hypot(*np.meshgrid(at, at))
    assert np.abs(found.near - away).max() < 1e-3
    border = 25.0 * (0.5 - np.maximum(*np.abs(np.meshgrid(at, at))))
    assert np.abs(found.border - border).max() < 1e-3
    assert len(np.unique(found.which)) == found.count == 16
    assert (found.which != found.other).all()


@settings(max_examples=8, deadline=None)
@given(st.integers(5, 8), st.integers(5, 8), st.booleans(), st.integers(0, 99))
def test_the_nearest_point_is_the_nearest_of_all(nx: int, ny: int, stagger: bool, seed: int) -> None:
    ground = Ground.of(24, 24, (90.0, 100.0))
    found = cellular.cellular(ground, (nx, ny), stagger=stagger, seed=seed)
    ny = ny + ny % 2 if stagger else ny
    j, i = np.mgrid[0:ny, 0:nx]
    stray = [0.5 + hashing.grid(nx, ny, hashing.of(seed, k)) - 0.5 for k in range(2)]
    px, py = (i + (0.5 * (j % 2) if stagger else 0) + stray[0]) * 90 / nx, (j + stray[1]) * 100 / ny
    dx = (ground.across()[..., None] - px.ravel() + 45) % 90 - 45
    dy = (ground.down()[..., None] - py.ravel() + 50) % 100 - 50
    every = np.sort(np.hypot(dx, dy), axis=2)
    assert np.abs(found.near - every[..., 0]).max() < 1e-3
    assert np.abs(found.next - every[..., 1]).max() < 1e-3


def test_waves_have_the_length_and_direction_that_they_are_asked_for() -> None:
    plane = waves.gabor(square(256, 200.0), 20.0, spread=0.1, turn=0.0, fan=0.15, seed=2)
    assert plane.std() == pytest.approx(1.0, abs=0.02)
    power = np.abs(np.fft.rfft2(plane)) ** 2
    y, x = np.unravel_index(power.argmax(), power.shape)
    assert abs(x - 10) <= 2
    assert min(y, 256 - y) <= 3
    half = waves.gabor(square(128, 200.0), 20.0, spread=0.1, turn=0.0, fan=0.15, seed=2)
    assert np.abs(plane.reshape(128, 2, 128, 2).mean((1, 3)) - half).max() < 0.1


def test_streaks_run_along_their_field() -> None:
    ground = square(128)
    grain = noise.noise(ground, (64, 64), octaves=1)
    way = np.zeros((2, 128, 128), np.float32)
    way[0] = 1
    drawn = flow.streaks(grain, way, 20, 1.0, ground)
    along, across = np.abs(np.diff(drawn, axis=1)).mean(), np.abs(np.diff(drawn, axis=0)).mean()
    assert across > 5 * along
    field = flow.swirl(noise.noise(ground, (3, 3), octaves=1), ground)
    assert np.abs(np.hypot(*field) - 1).max() < 1e-3


@pytest.mark.parametrize("form", ["spots", "stripes", "holes", "maze"])
def test_spots_grow_and_repeat(form: spots.Form) -> None:
    plane = spots.grown(Ground.of(1, 1, (200.0, 200.0)), form, 25.0, 1.0, 3)
    assert plane.min() == 0.0
    assert plane.max() == 1.0
    covered = (plane > 0.5).mean()
    assert (0.1 < covered < 0.45) if form == "spots" else (0.25 < covered < 0.95)
    power = np.abs(np.fft.rfft2(plane - plane.mean())) ** 2
    k = np.hypot(np.fft.fftfreq(len(plane), 1 / len(plane))[:, None], np.fft.rfftfreq(plane.shape[1], 1 / plane.shape[1]))
    assert 200.0 / float((power * k).sum() / power.sum()) == pytest.approx(25.0, rel=0.45)


def test_stripes_run_the_way_they_are_asked_to() -> None:
    plane = spots.grown(Ground.of(1, 1, (200.0, 200.0)), "maze", 25.0, 4.0, 3)
    assert np.abs(np.diff(plane, axis=0)).mean() > 1.4 * np.abs(np.diff(plane, axis=1)).mean()


# --- what is laid ----------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("bond", [b for b in bonds._BONDS if b != "hexagon"])
@pytest.mark.parametrize("seed", [1, 5])
def test_a_bond_fills_the_sheet_without_a_gap(bond: bonds.Bond, seed: int) -> None:
    side = 400 * 2**0.5  # on which a diagonal bond has room for whole repeats
    ground = Ground.of(200, 160, (1000.0, 800.0)) if bond != "diagonal herringbone" else Ground.of(200, 160, (2 * side, side))
    area = ground.size_mm[0] * ground.size_mm[1]
    places = bonds.laid(ground, bond, 200, 100, seed=seed)
    assert (4 * places.hx * places.hy).sum() == pytest.approx(area)
    found = laying.beside(ground, places.table(0, 0, seed), 1.0)
    assert found.depth.min() > -0.01, "a place that lies in none"
    inside = sum(float((found.which == k).sum()) for k in range(len(places.cx)))
    assert inside == 200 * 160
    own = np.bincount(found.which.ravel(), minlength=len(places.cx)) * area / (200 * 160)
    assert np.abs(own - 4 * places.hx * places.hy).max() < 70 * area / (200 * 160)


def test_hexagons_meet() -> None:
    ground = Ground.of(240, 208, (1200.0, 1040.0))
    places = bonds.laid(ground, "hexagon", 120, 0)
    found = laying.beside(ground, places.table(0, 0, 1), 1.0)
    assert found.depth.min() > -0.01
    assert found.depth.max() == pytest.approx(60.0, abs=4.0)


def test_joints_are_as_wide_as_they_are_asked_to_be() -> None:
    ground = Ground.of(800, 800, (800.0, 800.0))
    table = bonds.laid(ground, "stack", 200, 200).table(20, 0, 1)
    found = laying.beside(ground, table, 20)
    assert (found.depth > 0).mean() == pytest.approx((180 / 200) ** 2, abs=0.004)
    assert laying.covered(found.depth, ground).mean() == pytest.approx((180 / 200) ** 2, abs=0.004)


def test_what_is_known_of_elements_belongs_to_them() -> None:
    asked = evaluator()
    weave = woven(StepEntry(step="bonds", settings={"across_mm": 100, "down_mm": 50, "worn": 0.0, "joint_mm": 8}))
    ids, joint, border, chance = (asked.ask(weave, t, 200) for t in ("id", "joint", "border", "random"))
    labels = ids.plane().astype(int)
    assert ids.kind is Kind.ID
    assert set(np.unique(labels)) == set(range(0 if (labels == 0).any() else 1, 33))
    for label in (1, 7, 20):
        assert np.ptp(chance.pixels[labels == label], axis=0).max() == 0
    assert border.plane()[joint.plane() > 0.99].max() == 0
    assert asked.meaning(weave, "border").high == 25
    named = woven(StepEntry(step="bonds", settings={"into": "stones"}))
    assert {"stones", "stones_id", "stones_joint"} <= set(asked.plan(named).threads)
    assert "height" not in asked.plan(named).threads


def test_the_higher_one_is_seen() -> None:
    ground = square(100)
    table = laying.items([50, 50], [50, 50], [40, 10], [40, 10], shape=laying.Shape.ELLIPSE, z=[0, 2], bevel=[10, 10])
    found = laying.stacked(ground, table)
    assert found.which[50, 50] == 1
    assert found.which[50, 20] == 0
    assert found.which[2, 2] == -1
    assert found.depth[50, 50] == pytest.approx(3.0, abs=0.01)


def test_distances_to_an_edge_go_round_the_sheet() -> None:
    mask = np.ones((20, 20), bool)
    mask[:, 0] = False
    far = edges.away(mask, Ground.of(20, 20, (40.0, 40.0)), 30)
    assert far[5, 19] == far[5, 1] == 2.0
    assert far[5, 10] == 20.0
    on = np.zeros((20, 20), np.float32)
    on[5:15, 5:15] = 1
    on[5:15, 15] = 0.25
    depth = edges.signed(on, Ground.of(20, 20, (20.0, 20.0)), 8)
    assert depth[10, 15] == pytest.approx(-0.25)
    assert depth[10, 5] == pytest.approx(0.5)
    assert depth[10, 4] == pytest.approx(-0.5)


def test_branches_go_round_the_sheet_and_become_thin() -> None:
    x, y, half, turn, r0, r1 = scatter.branches(square(10), 3, 80, 4, 1)
    assert len(x) > 40
    assert (r0 >= r1).all()
    assert r1.min() < 0.5
    again = scatter.branches(square(10), 3, 80, 4, 1)
    assert np.array_equal(x, again[0])
    assert half.max() < 3
    assert np.ptp(turn) > 1
    assert (y != 0).any()


# --- cloth -----------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("draft", cloth.DRAFTS)
def test_a_draft_says_which_thread_is_seen(draft: str) -> None:
    marks = cloth.DRAFTS[draft]
    rows, columns = len(marks), len(marks[0])
    ground = Ground.of(16 * columns, 16 * rows, (float(columns), float(rows)))
    found = cloth.woven(ground, marks, 1.0, 1.0, thick=(0.9, 0.9), crimp=0.6)
    seen = found.warp[8::16, 8::16]
    assert seen.tolist() == [[c == "1" for c in row] for row in marks]
    assert 0 <= found.height.min() < found.height.max() <= 1


def test_thin_threads_let_one_see_through() -> None:
    ground = square(512, 8.0)
    found = cloth.woven(ground, cloth.DRAFTS["plain"], 1.0, 1.0, thick=(0.5, 0.5))
    assert (found.which == 0).mean() == pytest.approx(0.25, abs=0.03)


def test_an_own_draft_is_checked() -> None:
    assert ClothSettings(own=("10", "01")).own == ("10", "01")
    for wrong in ((), ("10", "1"), ("12",), ("1" * 33,), ("",)):
        with pytest.raises(ValidationError, match="draft"):
            ClothSettings(own=wrong)


# --- outlines --------------------------------------------------------------------------------------------------------


def test_a_path_covers_what_it_encloses() -> None:
    middle = np.array([[50.0, 50.0]])
    on = outlines.drawn("M 0 0 H 10 V 10 H 0 Z", 100, 100, middle, (20.0, 20.0), np.zeros(1))
    assert on.sum() == pytest.approx(1600, rel=0.02)
    disc = outlines.drawn("M 10 0 A 10 10 0 1 1 -10 0 A 10 10 0 1 1 10 0 Z", 100, 100, middle, (20.0, 20.0), np.zeros(1))
    assert disc.sum() == pytest.approx(np.pi * 400, rel=0.02)
    corner = outlines.drawn("M 0 0 H 10 V 10 H 0 Z", 100, 100, np.array([[0.0, 0.0]]), (20.0, 20.0), np.zeros(1))
    assert corner.sum() == pytest.approx(1600, rel=0.02)
    assert corner[0, 0] == corner[99, 99] == corner[0, 99] == 1
    ring = outlines.drawn("M 0 0 H 10 V 10 H 0 Z M 3 3 H 7 V 7 H 3 Z", 100, 100, middle, (20.0, 20.0), np.zeros(1))
    assert ring[50, 50] == 0


@pytest.mark.parametrize("path", ["", "hello", "M 1 1", "M 0 0 L 1 1", "M 0 0 L 0 0 L 0 0 Z", "M 0 0 L nan 3 Z", "M 0 0 " * 9000])
def test_what_is_no_path_is_told(path: str) -> None:
    with pytest.raises(WeaveError, match="path"):
        outlines.outlines(path)
    weave = woven(StepEntry(step="stencil", settings={"form": "own", "path": path}))
    assert evaluator().plan(weave).error() is not None


def test_too_many_copies_are_refused() -> None:
    error = evaluator().plan(woven(StepEntry(step="stencil", settings={"apart_mm": 0.5}))).error()
    assert error is not None
    assert "further apart" in str(error)


# --- what patterns make of a weave -----------------------------------------------------------------------------------


def test_reliefs_are_added_and_helpers_are_not() -> None:
    asked = evaluator()
    first = StepEntry(step="ribs", settings={"depth_mm": 10.0, "pitch_mm": 100.0})
    second = StepEntry(step="studs", settings={"depth_mm": 4.0}, mix="add", amount=0.5)
    both = woven(first, second)
    assert asked.meaning(both, "height").depth == pytest.approx(12.0)
    a, b, c = (
        asked.ask(woven(*rows), "height", 128).plane()
        for rows in ((first,), (second.model_copy(update={"mix": "replace", "amount": 1.0}),), (first, second))
    )
    assert np.abs(a + 0.5 * b - c).max() < 1e-4
    again = woven(StepEntry(step="bonds"), StepEntry(step="cells", mix="add", amount=0.2))
    assert np.array_equal(asked.ask(again, "id", 128).pixels, asked.ask(woven(StepEntry(step="cells")), "id", 128).pixels)


def test_a_mask_limits_the_relief_alone() -> None:
    asked = evaluator()
    rows = (
        StepEntry(step="bonds"),
        StepEntry.model_validate({"step": "pits", "mix": "add", "mask": {"thread": "joint", "inverted": True}}),
    )
    joint = asked.ask(woven(*rows), "joint", 128).plane()
    off = asked.ask(woven(*rows), "height", 128).plane() - asked.ask(woven(rows[0]), "height", 128).plane()
    assert np.abs(off[joint > 0.999]).max() < 0.005
    assert np.abs(off[joint < 0.5]).max() > 0.5
    pit = asked.ask(woven(*rows), "pit", 128).plane()
    assert np.array_equal(pit, asked.ask(woven(StepEntry(step="pits")), "pit", 128).plane())


def test_ramps_are_exact() -> None:
    plane = np.linspace(-5, 5, 64, dtype=np.float32).reshape(8, 8, 1)
    height = Image(plane, Kind.DATA, (10.0, 10.0), True)
    grey = run(Ramp(), RampSettings(ramp=((0.0, 0.0, 0.0, 0.0), (1.0, 1.0, 1.0, 1.0))), height=height)["base"]
    from silent_loom.core.base.srgb import encode_srgb

    assert np.abs(encode_srgb(grey.pixels[..., 1]) - (plane[..., 0] + 5) / 10).max() < 2e-4
    rough = run(Grade(), GradeSettings(start=0.9, end=0.1, low=0.5, high=1.0), height=height)["roughness"].plane()
    assert np.abs(rough - (0.9 - 0.8 * np.clip(plane[..., 0] / 5, 0, 1))).max() < 1e-5
    one = run(Ramp(), RampSettings(ramp=((0.3, 1.0, 0.0, 0.0),)), height=height)["base"]
    assert one.pixels.reshape(-1, 3).tolist()[0] == [1.0, 0.0, 0.0]
    with pytest.raises(ValidationError, match="1 to 16"):
        RampSettings(ramp=())
    error = evaluator().plan(woven(StepEntry(step="ribs"), StepEntry(step="grade", settings={"low": 0.3, "high": 0.3}))).error()
    assert error is not None
    assert "same value" in str(error)


@pytest.mark.parametrize("name", sorted(n for n in registry.steps() if registry.can(n, "pattern")))
def test_every_pattern_stands_its_extremes(name: str) -> None:
    """The ends of every setting, and sheets of odd shapes: no fault, nothing that is no number, nothing outside its range."""
    asked = evaluator()
    for end in ("low", "high"):
        values: dict[str, Any] = {}
        for field, info in registry.fields(name).items():
            extra = info.json_schema_extra if isinstance(info.json_schema_extra, dict) else {}
            soft = extra.get("soft")
            if isinstance(soft, list) and info.annotation in (int, float):
                values[field] = info.annotation(soft[0 if end == "low" else 1])  # type: ignore[call-arg, operator]
            elif info.annotation is float and any(getattr(m, "ge", None) == 0 for m in info.metadata) and not extra.get("unit"):
                values[field] = 0.0 if end == "low" else 1.0
        values = {k: v for k, v in values.items() if k not in ("seed", "depth_mm")}
        if name == "stencil":
            values["apart_mm"] = 20.0
        for width, height in ((400.0, 400.0), (90.0, 700.0)):
            sheet = StepEntry(step="blank", settings={"width_mm": width, "height_mm": height})
            weave = Weave(steps=(sheet, StepEntry(step=name, settings=values)))
            plan = asked.plan(weave)
            assert plan.error() is None, values
            plane = asked.ask(weave, "height", 40).plane()
            depth = plan.spec("height").depth
            assert np.isfinite(plane).all()
            assert np.abs(plane).max() <= depth / 2 + 1e-3
            for helper in set(plan.threads) - {"height", "base"}:
                assert np.isfinite(asked.ask(weave, helper, 40).pixels).all(), helper


def test_counts_are_whole() -> None:
    assert whole(7.4, 2) == 8
    assert whole(0.0) == 1
    assert Bonds().words(BondsSettings()) == "running, 240 × 80 mm"
