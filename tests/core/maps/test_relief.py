"""Height by feature size, from shading, without stains; places of it moulded by hand."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bench.surfaces import bricks, painted_flat, photographed, plaster, surfaces
from bench.truth import alike, compared, flat_error, height_of, plain_height, plain_normals
from silent_loom.core.base.images import Image, Kind
from silent_loom.core.maps import shading, sizes
from silent_loom.core.maps.distance import inside
from silent_loom.core.steps.maps.height import Height, HeightSettings
from silent_loom.core.steps.maps.mould import Mould, MouldSettings
from silent_loom.core.steps.maps.normal import Normal, NormalSettings
from silent_loom.core.weave import registry
from tests.conftest import spectrum
from tests.core.maps.test_maps import run


def grey(plane: np.ndarray, wraps: bool = True) -> Image:
    return Image(plane[..., None].astype(np.float32), Kind.DATA, (1000.0, 1000.0), wraps)


@given(st.lists(st.tuples(st.floats(0.004, 1), st.floats(-2, 2)), min_size=1, max_size=6, unique_by=lambda p: round(p[0], 2)))
@settings(max_examples=25, deadline=None)
def test_weights_of_one_are_the_plane_itself(points: list[tuple[float, float]]) -> None:
    plane = spectrum(64, 1.4, 3)
    same = sizes.weighed(plane, (1.0, 1.0), 64.0, True, lambda _: 1.0)
    assert np.allclose(same, plane, atol=1e-4)
    handles = tuple((s, w, 0.0) for s, w in points)
    try:
        handles = sizes.checked(handles)
    except ValueError:
        return  # two of them at nearly one place
    twice = sizes.weighed(plane, (1.0, 1.0), 64.0, True, lambda size: 2 * sizes.along(handles, size)[0])
    once = sizes.weighed(plane, (1.0, 1.0), 64.0, True, lambda size: sizes.along(handles, size)[0])
    mean = plane.mean()
    assert np.allclose(twice - mean, 2 * (once - mean), atol=1e-3)


def test_dark_can_be_high_at_one_size_and_bright_at_another() -> None:
    x = np.arange(256)
    broad, fine = np.sin(2 * np.pi * x / 128), np.sin(2 * np.pi * x / 6)
    image = grey(np.repeat((0.5 + 0.2 * broad + 0.1 * fine)[None], 256, 0))
    s = HeightSettings(reads_from="height", sizes=((0.05, -1.0, 0.0), (0.2, 1.0, 0.0)))
    f = np.fft.rfft(run(Height(), s, height=image)["height"].plane()[9])
    g = np.fft.rfft(image.plane()[9])
    assert (f[2] / g[2]).real > 0
    assert (f[43] / g[43]).real < 0


@pytest.mark.parametrize("toward", [0.0, 90.0, 217.0])
def test_shading_gives_the_height_that_threw_it_back(toward: float) -> None:
    n = 128
    height = spectrum(n, 2.0, 4)
    gy, gx = (np.roll(height, -1, k) - np.roll(height, 1, k) for k in (0, 1))
    a = np.deg2rad(toward)
    light = -(gx * np.cos(a) - gy * np.sin(a)) / 2
    made = shading.integrated(light.astype(np.float32), (1.0, 1.0), toward, True)
    assert alike(made, height) > 0.7
    other = shading.integrated(light.astype(np.float32), (1.0, 1.0), toward + 180, True)
    assert alike(other, height) == pytest.approx(-alike(made, height), abs=1e-3)
    axis, sure = shading.light_axis(light.astype(np.float32), (1.0, 1.0))
    assert sure > 0.2
    assert abs((axis - toward + 90) % 180 - 90) < 12


def test_paint_on_a_flat_wall_is_no_depth_and_an_even_picture_is_no_relief() -> None:
    wall = photographed("wall", painted_flat(192, 5, True), 60.0, True, 5)
    guarded, open_ = (np.ptp(np.percentile(height_of(wall, guard=g).plane(), [2, 98])) for g in (1.0, 0.0))
    assert guarded < 0.35 * open_
    assert guarded < 2.0, "of a depth of 10 mm"
    even = photographed("even", plaster(192, 3, False), None, False, 1)
    assert np.ptp(np.percentile(height_of(even).plane(), [1, 99])) < 1.0


def test_default_heights_against_truth_are_nearer_than_the_plain_recipe() -> None:
    ours, plain, flat = [], [], []
    for name, make, pale in (("bricks", bricks, False), ("bricks", bricks, True), ("plaster", plaster, True)):
        s = photographed(name, make(192, 7, pale), 40.0, pale, 3)
        ours.append(compared(s, height_of(s)).normal_deg)
        p = plain_height(s)
        plain.append(compared(s, p, plain_normals(p)).normal_deg)
        flat.append(flat_error(s)[0])
    assert np.mean(ours) < np.mean(plain)
    assert np.mean(ours) < 1.08 * np.mean(flat)


def test_there_are_at_least_twenty_surfaces_a_third_of_which_contradict() -> None:
    made = surfaces(96)
    assert len(made) >= 20
    assert sum(s.contradicts for s in made) >= len(made) / 3
    assert {s.light_deg is None for s in made} == {True, False}


def test_an_older_height_keeps_its_weights_and_has_no_guard() -> None:
    old = {"depth_mm": 4.0, "broad": 0.1, "fine": 0.25}
    new = registry.settings_of("height", Height().upgrade(old, 1))
    assert (new.guard, new.fill, new.depth_mm) == (0.0, "whole depth", 4.0)  # type: ignore[attr-defined]
    weights = [h[1] for h in new.sizes]  # type: ignore[attr-defined]
    assert (weights[0], weights[-1]) == (0.25, 0.1)


def test_height_takes_a_curve_softening_and_sharpening() -> None:
    image = grey(0.5 + 0.1 * spectrum(96, 1.2, 2))
    plain = run(Height(), HeightSettings(reads_from="height", fill="whole depth"), height=image)["height"].plane()
    soft = run(Height(), HeightSettings(reads_from="height", fill="whole depth", soften_mm=20), height=image)["height"].plane()
    sharp = run(Height(), HeightSettings(reads_from="height", fill="whole depth", fine=2), height=image)["height"].plane()
    step = ((0.0, 0.0), (0.49, 0.0), (0.51, 1.0), (1.0, 1.0))
    steps = run(Height(), HeightSettings(reads_from="height", fill="whole depth", curve=step), height=image)["height"].plane()
    assert soft.std() < plain.std() < sharp.std()
    assert np.mean(np.abs(steps) > 4.5) > 0.8


OUTLINE = {"kind": "outline", "points": [[0.25, 0.25], [0.75, 0.25], [0.75, 0.75], [0.25, 0.75]]}


def mould(height: np.ndarray, **values: object) -> np.ndarray:
    s = registry.settings_of("mould", {"regions": [OUTLINE], "feather_mm": 0, **values})
    return run(Mould(), s, height=grey(height))["height"].plane()


def test_what_is_moulded_changes_within_its_places_only() -> None:
    h = spectrum(100, 1.5, 8)
    for action in ("raise", "lower", "flatten", "fill", "soften", "dome", "curve"):
        made = mould(h, action=action, amount_mm=3.0, radius_mm=40.0, profile=[[0, 0.2], [1, 0.9]])
        assert np.array_equal(made[:20], h[:20]), action
        assert not np.allclose(made[40:60, 40:60], h[40:60, 40:60]), action
    assert np.allclose(mould(h, action="raise", amount_mm=2.5)[50, 50] - h[50, 50], 2.5, atol=1e-5)
    assert np.ptp(mould(h, action="flatten")[40:60, 40:60]) < 1e-4
    assert (mould(h, action="fill", radius_mm=60.0) >= h - 1e-5).all()
    assert MouldSettings().regions == ()
    assert Mould().idle(MouldSettings())


def test_a_dome_is_as_high_as_it_says_in_the_middle_and_nothing_at_its_border() -> None:
    made = mould(np.zeros((200, 200)), action="dome", amount_mm=6.0)
    assert made.max() == pytest.approx(6.0, abs=0.05)
    assert made[100, 50] < 2.2
    assert made[20, 20] == 0
    hollow = mould(np.zeros((200, 200)), action="dome", amount_mm=-6.0, reach_mm=100.0, profile=[[0, 0], [1, 1]])
    assert hollow[100, 100] == pytest.approx(-6.0, abs=0.05)


def test_distances_go_round_the_edges() -> None:
    mask = np.zeros((40, 40), bool)
    mask[:, 35:] = mask[:, :5] = True
    assert inside(mask, True)[20, 39] == 5
    assert inside(mask, False)[20, 39] == 5
    assert inside(mask, False)[20, 0] == 5
    assert inside(mask, True)[20, 0] == 5
    assert inside(~mask, True)[20, 20] == 15


def test_a_normal_takes_detail_by_size_and_a_picture_directly() -> None:
    h = grey(spectrum(96, 1.2, 3) * 3)
    plain = run(Normal(), NormalSettings(), height=h)["normal"].pixels
    calm = run(Normal(), NormalSettings(sizes=((0.02, 0.0, 0.0), (0.2, 1.0, 0.0))), height=h)["normal"].pixels
    sharp = run(Normal(), NormalSettings(sharpen=1.0), height=h)["normal"].pixels
    lean = [float(np.hypot(n[..., 0], n[..., 1]).mean()) for n in (calm, plain, sharp)]
    assert lean == sorted(lean)
    assert lean[0] < 0.6 * lean[1]
    picture = Image(np.repeat(np.float32(0.5) + 0.1 * h.pixels / 3, 3, 2), Kind.COLOUR, h.size_mm, True)
    made = run(Normal(), NormalSettings(reads_from="base", depth_mm=20), base=picture)["normal"].pixels
    assert alike(made[..., 0], plain[..., 0]) > 0.9
    assert np.allclose(np.linalg.norm(made, axis=2), 1, atol=1e-5)
