"""Detail carried over, against surfaces that are known exactly."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from numpy.typing import NDArray

from silent_loom.core.base.errors import Cancelled, LoomError
from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.parallel import Task
from silent_loom.core.files import read
from silent_loom.core.form.bake.bake import Baked, Order, bake, sources
from silent_loom.core.form.bake.cage import fitted
from silent_loom.core.form.bake.checklist import checklist, insist
from silent_loom.core.form.bake.dense import between, mean_curvature
from silent_loom.core.form.bake.files import bake_files
from silent_loom.core.form.bake.fill import padded
from silent_loom.core.form.bake.matching import matched
from silent_loom.core.form.bake.surface import Pair, Surface
from silent_loom.core.form.model import Model, Table, plate
from silent_loom.core.form.normals import unit
from silent_loom.core.form.rays.gather import openness, thickness
from silent_loom.core.form.rays.scene import Scene

Points = NDArray[np.float64]
RADIUS = 500.0


def sphere(n: int, dents: Callable[[Points], Points] | None = None, mirrored: bool = False, smooth: bool = True) -> Model:
    """A sphere of half a metre made of six faces of a cube, each an island of its own, some of them mirrored if wished."""
    g = np.linspace(-1, 1, n + 1)
    a, b = np.meshgrid(g, g, indexing="ij")
    places, uvs, faces = [], [], []
    for face in range(6):
        axis, side = face // 2, 1 if face % 2 == 0 else -1
        v = np.zeros((*a.shape, 3))
        v[..., axis] = side
        v[..., (axis + 1) % 3] = np.tan(a * np.pi / 4) * side
        v[..., (axis + 2) % 3] = np.tan(b * np.pi / 4)
        places.append((v / np.linalg.norm(v, axis=-1, keepdims=True)).reshape(-1, 3).round(12) + 0.0)
        left, low, room = face % 3 / 3, face // 3 / 2, 0.02
        along = -a if mirrored and face % 2 else a
        u = left + (room + (1 - 2 * room) * (along + 1) / 2) / 3
        w = low + (room + (1 - 2 * room) * (b + 1) / 2) / 2
        uvs.append(np.stack([u, w], -1).reshape(-1, 2))
        i = np.arange(n * (n + 1)).reshape(n, n + 1)[:, :n].ravel() + face * (n + 1) ** 2
        quad = np.stack([i, i + n + 1, i + n + 2, i + 1], 1)
        faces += [quad[:, [0, 1, 2]], quad[:, [0, 2, 3]]]
    at, index = np.concatenate(places), np.concatenate(faces).astype(np.int32)
    out = 1 + (dents(at) if dents else 0.0)
    zero = np.zeros(len(index), np.int32)
    normals = Table(at.astype(np.float32), index) if smooth else None
    radius = np.asarray(out).reshape(-1, 1)
    return Model(
        Table(at * radius, index), zero, zero, uvs={"UV": Table(np.concatenate(uvs), index)}, normals=normals, unit_mm=RADIUS
    )


def ripples(p: Points) -> Points:
    return 0.02 * np.sin(9 * p[:, 0]) * np.sin(8 * p[:, 1] + 1) * np.sin(10 * p[:, 2] + 2)


def bump(p: Points) -> Points:
    return 0.06 * np.exp(-((p[:, 2] - 1) ** 2 + p[:, 0] ** 2 + p[:, 1] ** 2) / 0.05)


def rings(p: Points) -> Points:
    return 0.008 * np.cos(40 * p[:, 1])


def groove(p: Points) -> Points:
    return -0.03 * np.exp(-((p[:, 1] / 0.05) ** 2))


def truth(place: Points, dents: Callable[[Points], Points]) -> Points:
    """Normals of the dented sphere at places on it, by the gradient of how far a place lies outside."""

    def outside(x: Points) -> Points:
        r = np.linalg.norm(x, axis=1)
        return r - (1 + dents(x / r[:, None]))

    e = np.eye(3) * 1e-5
    return unit(np.stack([outside(place + e[k]) - outside(place - e[k]) for k in range(3)], 1))


def baked(model: Model, dense: Model | None, order: Order) -> tuple[dict[str, Image], Baked]:
    found: dict[str, Image] = {}
    made = bake(model, sources([dense]) if dense is not None else None, order, lambda t, i: found.__setitem__(t.name, i))
    return found, made


def decoded(surface: Surface, picture: Image) -> tuple[Points, Points]:
    """Directions that a receiver of a normal map finds, and the places on the sphere that it shows them at."""
    tangents, signs = surface.tangents
    width = surface.size[0]
    ways, places = [], []
    for band in surface.bands():
        n = surface.normal(band)
        t = unit(between(tangents, band.triangle, band.weights))
        b = unit(np.cross(n, t)) * np.sign(between(signs, band.triangle, band.weights))
        c = picture.pixels[band.rows[0] + band.sample // width, band.sample % width].astype(np.float64)
        ways.append(unit(c[:, :1] * t + c[:, 1:2] * b + c[:, 2:3] * n))
        places.append(surface.pairs[0].source.place(band.met, band.met_weights) / RADIUS)
    return np.concatenate(ways), np.concatenate(places)


@pytest.mark.parametrize("dents", [ripples, bump, rings, groove])
@pytest.mark.parametrize("mirrored", [False, True])
def test_normals_are_those_of_the_dense_surface(dents: Callable[[Points], Points], mirrored: bool) -> None:
    light, dense = sphere(10, mirrored=mirrored), sphere(120, dents, smooth=False)
    order = Order(("normal", "normal_object", "height"), (256, 256))
    found, made = baked(light, dense, order)
    assert made.missed.sum() == 0, "the cage that is found by itself holds everything"
    source = sources([dense])
    assert source is not None
    pair = Pair(np.ones(len(light), bool), source, fitted(light, source.scene))
    ways, places = decoded(Surface(light, "", (256, 256), 1, [pair]), found["normal"])
    degrees = np.degrees(np.arccos(np.clip((ways * truth(places, dents)).sum(1), -1, 1)))
    assert degrees.mean() < 1.0
    assert np.quantile(degrees, 0.99) < 3.0


def test_heights_are_millimetres_outside_the_light_surface() -> None:
    light, dense = sphere(48), sphere(96, lambda p: np.full(len(p), 0.03), smooth=False)
    found, _ = baked(light, dense, Order(("height",), (128, 128)))
    assert float(np.median(found["height"].pixels)) == pytest.approx(15.0, abs=0.3)


def test_padding_leaves_no_dark_line_at_the_fourth_mip() -> None:
    light, dense = sphere(10), sphere(60, ripples, smooth=False)
    order = Order(("occlusion", "normal"), (256, 256), rays=8)
    found, _ = baked(light, dense, order)
    small = found["occlusion"].pixels.reshape(16, 16, 16, 16).mean((1, 3))
    assert small.min() > 0.9, "an open sphere is light everywhere, between its islands as well"
    away = found["normal"].pixels.reshape(16, 16, 16, 16, 3).mean((1, 3))
    assert away[..., 2].min() > 0.5


def test_padding_reaches_as_far_as_it_is_told() -> None:
    samples = np.zeros((9, 9, 1), np.float32)
    samples[4, 4] = 7
    covered = samples[..., 0] > 0
    near = padded(samples, covered, 2.0)
    assert near[4, 2, 0] == 7
    assert near[4, 1, 0] == 0
    assert (padded(samples, covered) == 7).all()


def test_more_samples_are_the_mean_of_a_finer_bake() -> None:
    light, dense = sphere(8), sphere(60, ripples, smooth=False)
    two, _ = baked(light, dense, Order(("height",), (64, 64), samples=2))
    fine, _ = baked(light, dense, Order(("height",), (128, 128)))
    mean = fine["height"].pixels.reshape(64, 2, 64, 2).mean((1, 3))
    inside = np.abs(two["height"].pixels[..., 0] - mean) < 0.3
    assert inside.mean() > 0.9


def test_a_place_in_a_corner_sees_half_of_its_sky() -> None:
    floor = np.array([[[-900, 0, -900], [900, 0, 900], [900, 0, -900]], [[-900, 0, -900], [-900, 0, 900], [900, 0, 900.0]]])
    wall = np.array([[[0, 0, -9000], [0, 9000, -9000], [0, 9000, 9000]], [[0, 0, -9000], [0, 9000, 9000], [0, 0, 9000.0]]])
    scene = Scene(np.concatenate([floor, wall]))
    at = np.array([[1.0, 0.0, 0.0], [800.0, 0.0, 0.0]])
    up = np.tile([0.0, 1.0, 0.0], (2, 1))
    found = openness(scene, at, up, rays=1024)
    assert found.share[0] == pytest.approx(0.5, abs=0.02)
    assert found.share[1] > found.share[0]
    assert found.direction[0, 0] > 0.2, "what is open lies away from the wall"
    near = openness(scene, at, up, rays=256, most_mm=100.0)
    assert near.share[1] == 1.0, "what lies farther than is counted hides nothing"


def test_the_thickness_of_a_slab_is_that_of_its_rays() -> None:
    side = np.array([[[-3e3, 0, -3e3], [3e3, 0, 3e3], [3e3, 0, -3e3]], [[-3e3, 0, -3e3], [-3e3, 0, 3e3], [3e3, 0, 3e3]]])
    scene = Scene(np.concatenate([side, side[:, ::-1] - np.array([0, 20.0, 0])]))
    found = thickness(scene, np.zeros((1, 3)), np.array([[0, 1.0, 0]]), rays=4096, most_mm=1000.0)
    # The mean of 20 / cos over rays spread by cosine is twice as much, less what the limit cuts off
    assert found[0] == pytest.approx(2 * 20 - 20**2 / 1000, rel=0.05)


def test_curvature_of_a_sphere_is_one_over_its_radius() -> None:
    assert float(np.median(mean_curvature(sphere(32)))) == pytest.approx(1 / RADIUS, rel=0.01)


def test_colours_ids_and_places_come_over() -> None:
    dense = sphere(24)
    slot = np.where(dense.corners[:, :, 1].mean(1) > 0, 1, 0).astype(np.int32)
    from dataclasses import replace

    from silent_loom.core.form.model import Slot

    paint = np.array([[0.1, 0.2, 0.3, 1.0]], np.float32)
    dense = replace(
        dense,
        triangle_slot=slot,
        slots=(Slot("hull", colour=(0.8, 0.1, 0.1)), Slot("deck", colour=(0.1, 0.1, 0.8))),
        colours=Table(paint, np.zeros_like(dense.positions.index)),
    )
    found, made = baked(sphere(8), dense, Order(("colour", "vertex_colour", "material_id", "mesh_id", "position"), (64, 64)))
    assert made.names["material_id"] == ["hull", "deck"]
    numbers = found["material_id"].pixels[..., 0]
    assert set(np.unique(numbers)) == {0.0, 1.0}, "numbers never mix"
    assert np.allclose(found["colour"].pixels[numbers == 1], (0.1, 0.1, 0.8))
    assert np.allclose(found["vertex_colour"].pixels, paint[0, :3], atol=1e-6)
    up = found["position"].pixels[..., 1]
    assert ((up > 0.5) == (numbers == 1)).mean() > 0.97
    assert found["position"].kind is Kind.CHANNELS


def test_meshes_take_the_dense_mesh_of_their_name() -> None:
    def two(names: tuple[str, str], moved: float) -> Model:
        at = np.concatenate([plate().positions.values, plate().positions.values + np.array([3.0, 0, 0])])
        at[:4, 2] += moved
        at[4:, 2] -= moved
        index = np.concatenate([plate().positions.index, plate().positions.index + 4]).astype(np.int32)
        uv = np.concatenate([plate().uv().values * 0.4, plate().uv().values * 0.4 + 0.5])
        of = np.array([0, 0, 1, 1], np.int32)
        return Model(Table(at, index), of, of * 0, names, uvs={"UV": Table(uv, index)})

    light, dense = two(("lid_low", "rim_low"), 0.0), two(("rim_high", "lid_high"), 0.05)
    source = sources([dense])
    assert source is not None
    assert [int(t.sum()) for t, _ in matched(light, source)] == [2, 2]
    near, _ = baked(light, dense, Order(("height",), (64, 64), distance_mm=200.0))
    assert np.allclose(near["height"].pixels[40:60, 4:20], 50, atol=0.01), "what lies over it counts, whatever it is called"
    _, made = baked(light, dense, Order(("height",), (64, 64), by_name=True, distance_mm=200.0))
    assert made.missed_share == 1.0, "what is called the same lies elsewhere here"
    with pytest.raises(LoomError, match="no dense mesh belongs to lid_low"):
        matched(light, sources([two(("keel", "mast"), 0.0)]))  # type: ignore[arg-type]


def test_misses_are_a_picture_to_wear(tmp_path: Path) -> None:
    light, dense = sphere(6), sources([sphere(24, ripples, smooth=False)])
    told = bake_files(light, dense, Order(("normal",), (64, 64), distance_mm=0.5), tmp_path, "ball")
    assert told["missed"] > 0.1
    seen = read(tmp_path / told["misses"]).samples
    red = (seen[..., 0] > 200) & (seen[..., 1] < 80)
    assert red.mean() / told["covered"] == pytest.approx(told["missed"], rel=0.02)
    whole = bake_files(light, dense, Order(("normal",), (64, 64)), tmp_path, "ball")
    assert "misses" not in whole
    assert whole["name"] == "ball_2", "nothing is overwritten"


def test_a_list_is_gone_through_in_order_and_stops_a_bake() -> None:
    assert [p.name for p in checklist(None, None, Order())] == ["mesh"]
    from dataclasses import replace

    light, dense = sphere(6), sources([sphere(24, ripples, smooth=False)])
    points = checklist(light, dense, Order(("normal",), (128, 128)))
    assert [p.name for p in points] == ["mesh", "uvs", "targets", "settings", "distance"]
    assert all(p.good for p in points)
    insist(points)
    bare = checklist(replace(light, uvs={}), dense, Order())
    with pytest.raises(LoomError, match="no UVs"):
        insist(bare)
    assert not next(p for p in checklist(light, dense, Order(("shadow",))) if p.name == "targets").good
    far = checklist(light, dense, Order(("normal",), (128, 128), distance_mm=0.001))
    assert far[-1].name == "distance"
    assert not far[-1].good
    assert "miss" in far[-1].words


def test_a_bake_is_cancelled_and_tells_how_far_it_is() -> None:
    told: list[tuple[float, str]] = []
    task = Task(lambda f, words: told.append((f, words)))
    bake(sphere(4), None, Order(("occlusion", "normal_object"), (64, 64), rays=4), lambda t, i: None, task)
    fractions = [f for f, _ in told]
    assert fractions == sorted(fractions)
    assert fractions[-1] == pytest.approx(1.0)
    assert {"Occlusion", "Normal, object"} <= {w for _, w in told}
    task.cancel()
    with pytest.raises(Cancelled):
        bake(sphere(4), None, Order(("normal",), (64, 64)), lambda t, i: None, task)


def test_what_cannot_be_baked_is_said() -> None:
    with pytest.raises(LoomError, match="no map 'shine'"):
        baked(plate(), None, Order(("shine",)))
    with pytest.raises(LoomError, match="no UV set"):
        baked(plate(), None, Order(("normal",), uv="second"))
