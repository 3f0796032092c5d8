"""Elements told apart, varied, traded; joints as a region of their own."""

from __future__ import annotations

import numpy as np
import pytest

from bench.surfaces import Surface, bricks, pebbles, photographed, slates
from bench.truth import element_index
from silent_loom.core.base.images import Image, Kind, data
from silent_loom.core.base.parallel import IDLE
from silent_loom.core.maps import parting
from silent_loom.core.maps.elements import measured, random, sized
from silent_loom.core.maps.flood import connected, flooded
from silent_loom.core.steps.elements.elements import Edit, Elements, ElementsSettings, edited
from silent_loom.core.steps.elements.joints import Joints, JointsSettings
from silent_loom.core.steps.elements.trade import Trade, TradeSettings
from silent_loom.core.steps.elements.vary import Vary, VarySettings
from silent_loom.core.weave.step import Geometry, Sheet
from tests.core.maps.test_maps import run


@pytest.fixture(scope="module")
def wall() -> Surface:
    return photographed("bricks", bricks(256, 4, False), None, False, 1)


@pytest.fixture(scope="module")
def told(wall: Surface) -> dict[str, Image]:
    return run(Elements(), ElementsSettings(more=True), height=wall.height, base=wall.photo)


@pytest.mark.parametrize(("make", "seed"), [(bricks, 11), (slates, 12), (pebbles, 13)])
def test_bricks_slates_and_pebbles_are_told_apart(make: object, seed: int) -> None:
    surface = photographed("x", make(384, seed, False), 40.0, False, seed)  # type: ignore[operator]
    assert element_index(surface) >= 0.9


def test_outputs_of_elements(wall: Surface, told: dict[str, Image]) -> None:
    assert wall.ids is not None
    ids = told["id"].plane()
    assert 45 <= len(np.unique(ids)) <= 55, "there are fifty bricks"
    assert told["id"].kind is Kind.ID
    joint = told["joint"].plane()
    deep = wall.height.plane() < np.percentile(wall.height.plane(), 8)
    assert joint[deep].mean() > 0.8
    assert joint[~deep].mean() < 0.2
    assert told["border"].plane()[joint > 0.6].max() == 0
    assert 20 < told["border"].plane().max() < 80, "a brick is 100 mm high: 50 from border to middle, less the joint"
    for k in range(4):
        values = told["random"].pixels[..., k]
        assert all(np.ptp(values[ids == i]) == 0 for i in np.unique(ids)[:8])
        assert 0.15 < values.std() < 0.4
    assert told["gradient"].plane().min() < 0.1
    assert told["gradient"].plane().max() > 0.9
    assert np.abs(told["orientation"].pixels[..., 0]).mean() > 0.95, "bricks lie level"


def test_elements_wrap_and_mean_the_same_at_every_size(wall: Surface, told: dict[str, Image]) -> None:
    ids = told["id"].plane()
    assert (ids[:, 0] == ids[:, -1]).mean() > 0.4, "half the courses go on at the other side"
    step, s, geometry = Elements(), ElementsSettings(), Geometry(wall.photo.size_mm, True)
    decision = step.decide(s, {"height": wall.height, "base": wall.photo}, geometry, IDLE)
    large = photographed("bricks", bricks(512, 4, False), None, False, 1)
    sheet = Sheet(geometry, geometry, (512, 512), None)  # type: ignore[arg-type]
    again = step.run(s, {"height": large.height, "base": large.photo}, decision, sheet, IDLE)["id"].plane()
    small = decision.arrays["labels"]
    assert (again[1::2, 1::2] == small).mean() > 0.85


def test_joined_and_cut_by_hand(told: dict[str, Image]) -> None:
    labels = told["id"].plane().astype(np.int32)
    count = len(np.unique(labels))
    places = [tuple(np.argwhere(labels == i).mean(0)[::-1] / 256) for i in (3, 4)]
    both = edited(labels, (Edit(kind="join", points=tuple(places)),), True)
    assert len(np.unique(both)) == count - 1
    y, x = np.argwhere(labels == 23).mean(0)
    line = ((x / 256, y / 256 - 0.08), (x / 256, y / 256 + 0.08))
    cut = edited(labels, (Edit(kind="cut", points=line),), True)
    assert len(np.unique(cut)) >= count + 1
    assert len(np.unique(cut[labels == 23])) == 2
    assert edited(labels, (Edit(kind="join", points=()),), True).max() == count


def test_variation_is_within_its_amounts_and_spares_the_rest(wall: Surface, told: dict[str, Image]) -> None:
    rough = data(np.full((256, 256), 0.6, np.float32), wall.photo)
    s = VarySettings(share=0.5, light=0.5, hue_deg=0, chroma=0, raise_mm=2, lean_deg=0, roughness=0.1, joint="joint")
    inputs = {"id": told["id"], "joint": told["joint"], "base": wall.photo, "height": wall.height, "roughness": rough}
    made = run(Vary(), s, **inputs)
    ratio = (made["base"].pixels.sum(2) / np.maximum(wall.photo.pixels.sum(2), 1e-6))[told["joint"].plane() == 0]
    assert 2**-0.5 - 1e-3 <= ratio.min() < 0.9
    assert 1.1 < ratio.max() <= 2**0.5 + 1e-3
    ids = told["id"].plane()
    rises = [float(np.median((made["height"].plane() - wall.height.plane())[ids == i])) for i in np.unique(ids)]
    still = np.mean(np.abs(rises) < 1e-5)
    assert 0.3 < still < 0.7, "half of them"
    assert max(np.abs(rises)) <= 2
    assert np.array_equal(made["height"].pixels[told["joint"].pixels == 1], wall.height.pixels[told["joint"].pixels == 1])
    other = run(Vary(), s.model_copy(update={"seed": 2}), **inputs)
    assert not np.allclose(other["base"].pixels, made["base"].pixels)
    leaning = run(Vary(), VarySettings(light=0, hue_deg=0, chroma=0, roughness=0, lean_deg=5), **inputs)["height"].plane()
    change = [float(np.mean((leaning - wall.height.plane())[ids == i])) for i in np.unique(ids)]
    assert max(np.abs(change)) < 0.2, "a lean goes about the middle of an element"


def test_elements_trade_places_and_all_maps_go_along(wall: Surface, told: dict[str, Image]) -> None:
    step, geometry = Trade(), Geometry(wall.photo.size_mm, True)
    sheet = Sheet(geometry, geometry, (256, 256), None)  # type: ignore[arg-type]
    walls = []
    for seed in (1, 2, 3):
        s = TradeSettings(seed=seed, alike=0.5)
        decision = step.decide(s, {"id": told["id"], "base": wall.photo}, geometry, IDLE)
        assert decision.figures["traded"] > 30
        base, height = (step.carry(s, i, decision, sheet, IDLE).pixels for i in (wall.photo, wall.height))
        walls.append(base)
        assert abs(base.mean() - wall.photo.pixels.mean()) < 0.02
        assert np.sqrt(np.square(height - wall.height.pixels).mean()) < 1.5, "joints stay where they are"
        n = Image(np.repeat(np.float32([[[0, 0, 1]]]), 256, 0).repeat(256, 1), Kind.NORMAL, wall.photo.size_mm, True)
        assert np.allclose(step.carry(s, n, decision, sheet, IDLE).pixels, n.pixels, atol=1e-5)
    assert all(not np.allclose(a, b) for a, b in ((walls[0], walls[1]), (walls[1], walls[2])))


def test_only_elements_that_can_be_trusted_change_places() -> None:
    """Discs that are clear, a crescent, one that hardly stands out, and one that the edge cuts."""
    y, x = np.mgrid[0:240, 0:240]
    labels = np.ones((240, 240), np.int32)
    base = np.full((240, 240, 3), 0.1, np.float32)
    base += np.random.default_rng(1).normal(0, 0.004, base.shape).astype(np.float32)
    places = [(50, 50, 0.5), (120, 50, 0.3), (190, 50, 0.8), (50, 120, 0.6), (120, 120, 0.1), (240, 120, 0.7)]
    for i, (cx, cy, tone) in enumerate(places, 2):
        disc = np.hypot(x - cx, y - cy) < 24
        labels[disc], base[disc] = i, base[disc] + tone - 0.1
    crescent = (np.hypot(x - 60, y - 195) < 26) & (np.hypot(x - 74, y - 195) >= 22)
    labels[crescent], base[crescent] = 8, base[crescent] + 0.4
    ids = Image(labels[..., None].astype(np.float32), Kind.ID, (240.0, 240.0))
    photo = Image(base, Kind.COLOUR, (240.0, 240.0))
    step, geometry, s = Trade(), Geometry((240.0, 240.0)), TradeSettings(alike=0.3)
    decision = step.decide(s, {"id": ids, "base": photo}, geometry, IDLE)
    moved = {i for i, k in enumerate(decision.arrays["other"]) if i != k}
    assert moved == {2, 3, 4, 5}
    assert decision.figures["stayed"] == 4
    assert "4 of 8 elements stay" in decision.warnings[0]
    sheet = Sheet(geometry, geometry, (240, 240), None)  # type: ignore[arg-type]
    made = step.carry(s, photo, decision, sheet, IDLE).pixels
    still = ~np.isin(labels, list(moved))
    assert np.array_equal(made[still], base[still])
    tones = [round(float(np.median(made[labels == i])), 1) for i in (2, 3, 4, 5)]
    assert sorted(tones) == [0.3, 0.5, 0.6, 0.8]
    assert tones != [0.5, 0.3, 0.8, 0.6]
    for i in moved:  # whole from border to border: nothing of what lay there before, nothing of what lies around
        inner = (labels == i) & (np.hypot(x - places[i - 2][0], y - places[i - 2][1]) < 20)
        assert np.ptp(made[inner]) < 0.08
    everything = step.decide(s.model_copy(update={"doubtful": True}), {"id": ids, "base": photo}, geometry, IDLE)
    assert (decision.figures["unsure"], everything.figures["unsure"]) == (4, 0)


def test_what_comes_is_drawn_to_the_outline_that_it_finds() -> None:
    y, x = np.mgrid[0:128, 0:256]
    labels = np.ones((128, 256), np.int32)
    labels[np.hypot((x - 60) / 34, (y - 64) / 34) < 1] = 2
    labels[np.hypot((x - 190) / 38, (y - 64) / 32) < 1] = 3
    base = np.where(labels == 2, 0.8, np.where(labels == 3, 0.4, 0.1)).astype(np.float32)
    photo = Image(np.repeat(base[..., None], 3, 2), Kind.COLOUR, (256.0, 128.0))
    ids = Image(labels[..., None].astype(np.float32), Kind.ID, (256.0, 128.0))
    step, geometry, s = Trade(), Geometry((256.0, 128.0)), TradeSettings(border=0.0)
    decision = step.decide(s, {"id": ids, "base": photo}, geometry, IDLE)
    made = step.carry(s, photo, decision, Sheet(geometry, geometry, (256, 128), None), IDLE).pixels[..., 0]  # type: ignore[arg-type]
    assert np.abs(made[labels == 2] - 0.4).mean() < 0.02
    assert np.abs(made[labels == 3] - 0.8).mean() < 0.02


def test_joints_have_dials_of_their_own(wall: Surface, told: dict[str, Image]) -> None:
    rough = data(np.full((256, 256), 0.4, np.float32), wall.photo)
    s = JointsSettings(tone=1.0, depth_mm=3.0, roughness=0.95)
    made = run(Joints(), s, base=wall.photo, joint=told["joint"], height=wall.height, roughness=rough)
    inside, outside = told["joint"].pixels[..., 0] == 1, told["joint"].pixels[..., 0] == 0
    assert np.allclose(made["base"].pixels[inside], 2 * wall.photo.pixels[inside], rtol=1e-4)
    assert np.allclose(made["height"].plane()[inside], wall.height.plane()[inside] - 3, atol=1e-4)
    assert np.allclose(made["roughness"].plane()[inside], 0.95)
    assert all(
        np.array_equal(made[k].pixels[outside], i.pixels[outside]) for k, i in (("base", wall.photo), ("roughness", rough))
    )


def test_floods_figures_and_numbers() -> None:
    plane = np.zeros((20, 20), np.float32)
    plane[:, 9] = 1
    markers = np.zeros((20, 20), np.int32)
    markers[5, 2], markers[5, 15] = 1, 2
    closed, open_ = flooded(plane, markers, True), flooded(plane, markers, False)
    assert open_[3, 3] == 1
    assert open_[3, 17] == 2
    assert (closed != open_).any(), "round the edge other basins come first"
    assert (flooded(plane, markers, False) > 0).all()
    ring = np.zeros((10, 10), bool)
    ring[:, 0] = ring[:, 9] = True
    assert connected(ring, True)[1] == 1
    assert connected(ring, False)[1] == 2
    labels = np.zeros((30, 30), np.int32)
    labels[:, 27:] = labels[:, :3] = 1
    assert measured(labels, True).x[1] % 30 == pytest.approx(29.5, abs=0.1)
    assert measured(labels, True).area[1] == 180
    assert sized(labels, 60, 60, True).shape == (60, 60)
    assert 0 <= random(100, 3, 1).min() < random(100, 3, 1).max() < 1
    assert not np.allclose(random(100, 3, 1), random(100, 4, 1))


def test_the_same_samples_are_another_sheet_where_their_edges_meet(monkeypatch: pytest.MonkeyPatch) -> None:
    samples = np.random.default_rng(1).random((32, 32, 1)).astype(np.float32)
    monkeypatch.setattr(parting, "_usual_size", lambda height, *_: 0.1 if height.wraps else 0.2)
    told = [parting.usual_size(Image(samples, Kind.DATA, wraps=w), None, 1.0, 0.0) for w in (True, False, True)]
    assert told == [0.1, 0.2, 0.1]
