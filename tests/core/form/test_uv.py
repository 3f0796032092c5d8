"""Islands, and what is wrong with them, on layouts whose faults are known."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from silent_loom.core.base.errors import LoomError
from silent_loom.core.form.model import Model, Table, plate
from silent_loom.core.form.uv.check import UvCheck, as_data, check
from silent_loom.core.form.uv.gaps import gaps
from silent_loom.core.form.uv.islands import edges, islands
from silent_loom.core.form.uv.raster import covers, rasterised
from silent_loom.core.form.uv.sewing import seams
from silent_loom.core.form.uv.stretch import stretch
from silent_loom.core.form.uv.unwrap import UnwrapSettings, unwrapped
from silent_loom.demo.models import bollard, buoy, lifebelt


def plates(*boxes: tuple[float, float, float, float], side: float = 1.0) -> Model:
    """Squares beside each other, a metre apart from middle to middle, each laid into a box (left, bottom, right, top)."""
    at, uv, index = [], [], []
    for k, (left, low, right, high) in enumerate(boxes):
        corners = np.array([[0, 0, 0], [side, 0, 0], [side, side, 0], [0, side, 0.0]])
        at.append(corners + np.array([2.0 * k, 0, 0]))
        uv.append(np.array([[left, low], [right, low], [right, high], [left, high]]))
        index.append(np.array([[0, 1, 2], [0, 2, 3]]) + 4 * k)
    rows = np.concatenate(index).astype(np.int32)
    zero = np.zeros(len(rows), np.int32)
    return Model(Table(np.concatenate(at), rows), zero, zero, uvs={"UV": Table(np.concatenate(uv), rows)})


def kinds(found: UvCheck) -> set[str]:
    return {f.kind for f in found.faults}


def test_a_plate_is_as_it_should_be() -> None:
    found = check(plates((0.1, 0.1, 0.9, 0.9)), size=1000)
    assert found.carries
    assert kinds(found) == set()
    assert found.texels_per_cm[1] == pytest.approx(8.0), "eight tenths of a thousand texels on a metre"
    assert found.stretch == pytest.approx(1.0)
    assert found.empty == pytest.approx(0.36, abs=0.005)


@pytest.mark.parametrize(
    ("boxes", "kind"),
    [
        (((0.1, 0.1, 0.5, 0.5), (0.3, 0.3, 0.7, 0.7)), "overlapping"),
        (((0.5, 0.5, 1.2, 1.2),), "outside"),
        (((0.1, 0.1, 0.9, 0.9), (1.1, 0.1, 1.9, 0.9)), "tiles"),
        (((0.9, 0.1, 0.1, 0.9),), "mirrored"),
        (((0.1, 0.1, 0.9, 0.1),), "zero"),
        (((0.05, 0.1, 0.95, 0.4),), "stretch"),
        (((0.02, 0.02, 0.62, 0.62), (0.7, 0.7, 0.8, 0.8)), "density"),
        (((0.0, 0.0, 0.5, 0.9), (0.5005, 0.0, 1.0, 0.9)), "padding"),
        (((0.1, 0.1, 0.3, 0.3),), "empty"),
    ],
)
def test_each_fault_is_found_where_it_is(boxes: tuple[tuple[float, float, float, float], ...], kind: str) -> None:
    found = check(plates(*boxes), size=1024)
    assert kind in kinds(found)
    fault = next(f for f in found.faults if f.kind == kind)
    assert fault.words.endswith(".")
    assert fault.cure.endswith(".")
    assert 0 < fault.share <= 1
    assert as_data(found, plates(*boxes))["carries"] == found.carries


def test_both_islands_of_an_overlap_are_told() -> None:
    found = check(plates((0.05, 0.05, 0.35, 0.35), (0.3, 0.3, 0.6, 0.6), (0.7, 0.7, 0.95, 0.95)), size=256)
    fault = next(f for f in found.faults if f.kind == "overlapping")
    boxes = {found.islands[k].box[:2] for k in fault.islands}
    assert boxes == {(0.05, 0.05), (0.3, 0.3)}
    assert found.overlapping == pytest.approx(0.05**2 / (2 * 0.3**2 + 0.25**2 - 0.05**2), rel=0.2)


def test_a_fold_is_no_mirrored_island() -> None:
    model = plate()
    uv = model.uv().values.copy()
    uv[3] = (0.6, 0.3)  # the fourth corner lies on the other side of the diagonal
    found = check(replace(model, uvs={"UV": Table(uv, model.uv().index)}), size=256)
    assert "flipped" in kinds(found)
    assert "mirrored" not in kinds(found)


def test_without_uvs_that_alone_is_said() -> None:
    found = check(replace(plate(), uvs={}))
    assert [f.kind for f in found.faults] == ["missing"]
    assert not found.carries
    part = plate()
    uv = part.uv().values.copy()
    uv[3] = np.nan
    lacking = check(replace(part, uvs={"UV": Table(uv, part.uv().index)}), size=64)
    assert next(f for f in lacking.faults if f.kind == "missing").share == pytest.approx(0.5)
    with pytest.raises(LoomError, match="no UV set"):
        check(part, "second")


def test_what_is_wished_is_held_against_what_is() -> None:
    found = check(plates((0.0, 0.0, 1.0, 1.0)), size=1000, wish=40.0)
    assert "4,096" in next(f for f in found.faults if f.kind == "wish").cure


@pytest.mark.parametrize(
    ("model", "there"),
    [
        (buoy(), {"overlapping", "outside"}),
        (bollard(), {"padding", "density", "stretch"}),
        (lifebelt(), {"overlapping", "density"}),
    ],
)
def test_the_models_of_the_quay_have_their_faults(model: Model, there: set[str]) -> None:
    found = check(model)
    assert there <= kinds(found)
    assert not found.carries


def test_islands_part_where_uvs_do_and_know_what_lies_beyond() -> None:
    model = plate()
    assert islands(model).count == 1
    uv = np.array([[0, 0], [0.4, 0], [0.4, 0.4], [0.5, 0.5], [0.9, 0.9], [0.5, 0.9]])
    parted = replace(model, uvs={"UV": Table(uv, np.array([[0, 1, 2], [3, 4, 5]], np.int32))})
    found = islands(parted)
    assert found.count == 2
    assert int(found.cut.sum()) == 2, "the diagonal, from both sides"
    assert int(found.border.sum()) == 6
    assert [s.needless for s in seams(parted, found)] == [True]
    assert "cut" in kinds(check(parted, size=512))


def test_edges_of_three_triangles_are_paired_once() -> None:
    mate = edges(np.array([[0, 1, 2], [1, 0, 3], [0, 1, 4]]))
    pairs = [(k, int(m)) for k, m in enumerate(mate.ravel()) if m >= 0]
    assert sorted(pairs) == [(0, 3), (3, 0)]


@settings(deadline=None)
@given(st.integers(0, 10**6), st.integers(1, 40))
def test_no_texel_between_neighbours_is_counted_twice(seed: int, cuts: int) -> None:
    rng = np.random.default_rng(seed)
    x, y = np.sort(rng.random(cuts + 2)), np.sort(rng.random(3))
    grid = np.stack(np.meshgrid(x, y, indexing="ij"), -1)
    a, b, c, d = grid[:-1, :-1], grid[1:, :-1], grid[1:, 1:], grid[:-1, 1:]
    uv = np.concatenate([np.stack([a, b, c], 2).reshape(-1, 3, 2), np.stack([a, c, d], 2).reshape(-1, 3, 2)])
    assert covers(uv, 64, 64).max() <= 1


def test_thin_islands_keep_their_texels_and_weights_are_inside() -> None:
    needle = np.array([[[0.1, 0.501], [0.9, 0.501], [0.9, 0.502]]])
    seen = rasterised(needle, 32, 32)
    assert not seen.inside.any()
    row = seen.triangle[15] >= 0
    assert row.sum() >= 24
    w = seen.weights[seen.triangle >= 0]
    assert (w >= 0).all()
    assert (w.sum(1) <= 1 + 1e-6).all()


def test_bands_of_a_raster_are_the_whole_of_it() -> None:
    uv = buoy().uv().at_corners()
    whole = rasterised(uv, 96, 96)
    parts = [rasterised(uv, 96, 96, rows=(y, y + 32)) for y in (0, 32, 64)]
    assert np.array_equal(np.concatenate([p.triangle for p in parts]), whole.triangle)
    assert np.allclose(np.concatenate([p.weights for p in parts]), whole.weights, atol=1e-6)


@settings(deadline=None)
@given(st.integers(0, 12), st.integers(0, 12))
def test_gaps_are_counted_in_empty_texels(across: int, up: int) -> None:
    sheet = np.full((40, 40), -1, np.int32)
    sheet[5:10, 5:10] = 0
    sheet[10 + up : 15 + up, 10 + across : 15 + across] = 1
    want = np.floor(np.hypot(across, up) + 0.5) if across and up else max(across, up)
    assert abs(gaps(sheet, 2).narrowest - want) <= 1


def test_stretch_is_that_of_the_map() -> None:
    corners = np.array([[[0, 0, 0], [300, 0, 0], [0, 100, 0.0]]])
    turned = corners @ np.linalg.qr(np.random.default_rng(3).normal(size=(3, 3)))[0]
    uv = np.array([[[0.2, 0.2], [0.7, 0.2], [0.2, 0.7]]])
    found = stretch(turned, uv)
    assert found.most[0] == pytest.approx(600)
    assert found.least[0] == pytest.approx(200)
    assert found.ratio()[0] == pytest.approx(3)


def test_unwrapping_cures_and_keeps_what_was_there() -> None:
    model = buoy()
    made = unwrapped(model, UnwrapSettings(size=512, padding=4))
    found = check(made, size=512)
    assert list(made.uvs) == ["unwrapped", "UV"]
    assert found.carries, found.faults
    assert all(f.share < 0.01 for f in found.faults if f.kind == "mirrored")
    assert found.gap >= 4
    assert found.stretch < 1.2
    assert np.array_equal(made.corners, model.corners)
    again = unwrapped(made, UnwrapSettings(cut=False, size=512, padding=2), name="packed")
    assert check(again, "packed", 512).overlapping == 0
    assert len(check(again, "packed", 512).islands) == len(found.islands)
    with pytest.raises(LoomError, match="no UVs"):
        unwrapped(replace(model, uvs={}), UnwrapSettings(cut=False))
