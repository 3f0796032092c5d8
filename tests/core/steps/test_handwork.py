"""Clean and repair: what the hand marks and paints, on every map and at every size."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.parallel import IDLE
from silent_loom.core.base.srgb import decode_srgb
from silent_loom.core.moving.resample import reduce_area, resize
from silent_loom.core.steps.maps.normal import from_height
from silent_loom.core.steps.tiling.clean import Clean, CleanSettings, Region, mask_of, rgb_of
from silent_loom.core.steps.tiling.repair import Box, Layer, Repair, RepairSettings, Stroke, coverage
from silent_loom.core.tiling.pieces.patchfill import fill
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.decision import NONE
from silent_loom.core.weave.rows.model import StepEntry, Weave
from silent_loom.core.weave.step import Geometry, Sheet
from tests.conftest import OnePicture, as_colour, spectrum
from tests.support.varied import photos

CLEAN, REPAIR = Clean(), Repair()


def sheet_of(image: Image) -> Sheet:
    g = Geometry(image.size_mm, image.wraps)
    return Sheet(g, g, (float(image.width), float(image.height)), None)  # type: ignore[arg-type]


def painted(image: Image, *strokes: Stroke, threads: Any = "all", on: bool = True) -> Image:
    s = RepairSettings(layers=(Layer(strokes=strokes, threads=threads, on=on),))
    return REPAIR.carry(s, image, NONE, sheet_of(image), IDLE)


def stroke(tool: str, points: list[tuple[float, float]], **more: Any) -> Stroke:
    values = {"radius_mm": 10.0, "softness": 0.0, **more}
    return Stroke(tool=tool, points=tuple((x, y, 1.0) for x, y in points), **values)  # type: ignore[arg-type]


def board(n: int = 200, wraps: bool = True, seed: int = 1) -> Image:
    pixels = as_colour(spectrum(n, 1.0, seed)).pixels
    return Image(pixels, Kind.COLOUR, (100.0, 100.0), wraps)


# --- repair -----------------------------------------------------------------------------------------------------


def test_paint_lays_its_colour_inside_and_nothing_outside() -> None:
    image = board()
    made = painted(image, stroke("paint", [(50, 50)], colour="#ff0000"))
    v, u = (np.mgrid[0:200, 0:200] + 0.5) / 2
    far = np.hypot(u - 50, v - 50)
    assert np.allclose(made.pixels[far < 9], (1, 0, 0), atol=1e-6)
    assert np.array_equal(made.pixels[far > 11], image.pixels[far > 11])


def test_strokes_go_on_round_the_edges() -> None:
    image = board()
    made = painted(image, stroke("paint", [(98, 50), (104, 50)], colour="#00ff00"))
    changed = (made.pixels != image.pixels).any(2)
    assert changed[100, 0:20].all()
    assert changed[100, 180:].all()
    rolled = Image(np.roll(image.pixels, 100, 1), Kind.COLOUR, image.size_mm, True)
    again = painted(rolled, stroke("paint", [(48, 50), (54, 50)], colour="#00ff00"))
    assert np.array_equal(np.roll(made.pixels, 100, 1), again.pixels)
    bounded = painted(board(wraps=False), stroke("paint", [(98, 50), (104, 50)], colour="#00ff00"))
    assert np.array_equal(bounded.pixels[:, :20], image.pixels[:, :20])


def test_clone_brings_what_lies_an_offset_away() -> None:
    image = board()
    made = painted(image, stroke("clone", [(50, 50)], offset_mm=(20.0, -10.0)))
    inside = np.hypot(*(np.mgrid[0:200, 0:200] + 0.5 - 100)) < 17
    wanted = np.roll(image.pixels, (20, -40), (0, 1))
    assert np.allclose(made.pixels[inside], wanted[inside], atol=1e-6)
    fixed = painted(image, stroke("clone", [(50, 50)], source_mm=(70.0, 40.0)))
    assert np.allclose(fixed.pixels, made.pixels, atol=1e-6)


def test_heal_keeps_the_tone_of_the_place_and_the_detail_of_the_source() -> None:
    n = 200
    detail = 0.05 * spectrum(n, 0.2, 7)
    tone = np.linspace(0.2, 0.7, n, dtype=np.float32)[None, :] + np.zeros((n, 1), np.float32)
    image = Image(np.repeat((tone + detail)[..., None], 3, 2).astype(np.float32), Kind.COLOUR, (100.0, 100.0))
    made = painted(image, stroke("heal", [(75, 50)], offset_mm=(-50.0, 0.0), softness=0.3))
    spot = np.s_[92:108, 142:158]
    assert made.pixels[spot].mean() == pytest.approx(tone[92:108, 142:158].mean(), abs=0.03)
    copied = painted(image, stroke("clone", [(75, 50)], offset_mm=(-50.0, 0.0), softness=0.3))
    assert copied.pixels[spot].mean() < 0.5 * tone[92:108, 142:158].mean() + 0.15
    have = made.pixels[spot][..., 0] - made.pixels[spot].mean()
    source = detail[92:108, 42:58] - detail[92:108, 42:58].mean()
    assert np.corrcoef(have.ravel(), source.ravel())[0, 1] > 0.8


def test_soften_takes_detail_and_erase_brings_it_back() -> None:
    image = board()
    soft = stroke("soften", [(50, 50)], radius_mm=20.0)
    made = painted(image, soft)
    spot = np.s_[90:110, 90:110]
    assert made.pixels[spot].std() < 0.8 * image.pixels[spot].std()
    back = painted(image, soft, stroke("erase", [(50, 50)], radius_mm=30.0))
    assert np.allclose(back.pixels, image.pixels, atol=1e-6)


def test_layers_are_hidden_ordered_and_kept_to_base() -> None:
    image = board()
    red, blue = stroke("paint", [(50, 50)], colour="#ff0000"), stroke("paint", [(50, 50)], colour="#0000ff")
    assert np.array_equal(painted(image, red, on=False).pixels, image.pixels)
    layers = (Layer(strokes=(red,)), Layer(strokes=(blue,)))
    for order, top in ((layers, (0, 0, 1)), (layers[::-1], (1, 0, 0))):
        made = REPAIR.carry(RepairSettings(layers=order), image, NONE, sheet_of(image), IDLE)
        assert np.allclose(made.pixels[100, 100], top)
    height = Image(image.pixels[..., :1].copy(), Kind.DATA, image.size_mm, True)
    clone = stroke("clone", [(50, 50)], offset_mm=(20.0, 0.0))
    assert painted(height, clone, threads="base") is height
    assert not np.array_equal(painted(height, clone, threads="all").pixels, height.pixels)


def test_strokes_act_on_the_threads_of_their_layer_in_their_own_unit() -> None:
    plane = spectrum(200, 1.5, 4)[..., None].copy()
    maps = {
        "base": board(),
        "height": Image(plane, Kind.DATA, (100.0, 100.0), True),
        "roughness": Image(np.full((200, 200, 1), 0.4, np.float32), Kind.DATA, (100.0, 100.0), True),
        "normal": from_height(Image(plane, Kind.DATA, (100.0, 100.0), True)),
    }

    def laid(stroke_: Stroke, threads: Any) -> dict[str, Image]:
        s = RepairSettings(layers=(Layer(strokes=(stroke_,), threads=threads),))
        return {t: REPAIR.carry_thread(s, t, i, NONE, sheet_of(i), IDLE) for t, i in maps.items()}

    inside = np.s_[92:108, 92:108]  # of a disc of 10 mm around the middle
    value = laid(stroke("paint", [(50, 50)], value=2.5, slope=(0.5, 0.0)), ("height", "normal"))
    assert np.allclose(value["height"].pixels[inside], 2.5, atol=1e-6), "millimetres"
    assert np.allclose(value["normal"].pixels[inside], np.array([-0.5, 0, 1]) / np.sqrt(1.25), atol=1e-6)
    assert value["base"] is maps["base"]
    assert value["roughness"] is maps["roughness"]
    plain = laid(stroke("paint", [(50, 50)], colour="#ff0000"), "all")
    assert plain["height"] is maps["height"], "a colour says nothing of a height"
    assert np.allclose(plain["base"].pixels[inside], (1, 0, 0), atol=1e-6)
    raised = laid(stroke("lighten", [(50, 50)], by=1.0), "all")
    assert np.allclose(raised["height"].pixels[inside], plane[inside] + 1, atol=1e-6)
    assert np.allclose(raised["base"].pixels[inside], 2 * maps["base"].pixels[inside], atol=1e-6), "a stop of light"
    lower = laid(stroke("darken", [(50, 50)], by=0.25, strength=0.5), ("roughness",))
    assert np.allclose(lower["roughness"].pixels[inside], 0.275, atol=1e-6)
    assert lower["height"] is maps["height"]
    steep = laid(stroke("lighten", [(50, 50)], by=1.0), ("normal",))["normal"].pixels[inside]
    n = maps["normal"].pixels[inside]
    assert np.allclose(steep[..., :2] / steep[..., 2:], 2 * n[..., :2] / n[..., 2:], atol=1e-4)


def test_normals_follow_the_cloned_height() -> None:
    plane = spectrum(256, 2.2, 3, keep=0.1)
    height = Image(plane[..., None].astype(np.float32), Kind.DATA, (100.0, 100.0), True)
    clone = stroke("clone", [(50, 50)], offset_mm=(25.0, 12.5), softness=0.5, radius_mm=15.0)
    first, second = from_height(painted(height, clone)), painted(from_height(height), clone)
    angle = np.degrees(np.arccos(np.clip((first.pixels * second.pixels).sum(2), -1, 1)))
    inside = np.hypot(*(np.mgrid[0:256, 0:256] + 0.5 - 128)) < 15
    assert angle[inside].mean() < 1.0
    labels = Image(np.random.default_rng(0).integers(0, 5, (64, 64, 1)).astype(np.float32), Kind.ID, (100.0, 100.0), True)
    assert set(np.unique(painted(labels, clone).pixels)) <= set(range(5))


@given(
    st.lists(st.tuples(st.floats(-20, 120), st.floats(-20, 120), st.floats(0.1, 1)), min_size=1, max_size=6),
    st.floats(2, 20),
    st.floats(0, 1),
)
@settings(max_examples=20, deadline=None)
def test_a_stroke_looks_the_same_at_every_size(points: list[tuple[float, float, float]], radius: float, softness: float) -> None:
    small, large = (Image(np.full((n, n, 3), 0.2, np.float32), Kind.COLOUR, (100.0, 100.0), True) for n in (128, 256))
    line = Stroke(tool="paint", points=tuple(points), radius_mm=radius, softness=softness, colour="#ffffff")
    a, b = painted(small, line).pixels, painted(large, line).pixels
    error = reduce_area(b, 128, 128) - a
    # Hard borders differ within their texel, and six strokes have much border: one example came to 0.01001
    assert np.sqrt(np.square(error).mean()) < 0.0125


def test_a_stroke_round_the_sheet_and_over_itself_lies_as_its_stronger_part() -> None:
    image = Image(np.full((128, 128, 3), 0.2, np.float32), Kind.COLOUR, (100.0, 100.0), True)
    pixels = image.pixels

    def cover(points: list[tuple[float, float, float]]) -> np.ndarray:
        line = Stroke(tool="paint", points=tuple(points), radius_mm=12.0, softness=0.4, colour="#ffffff")
        return (painted(image, line).pixels - pixels)[..., 0] / (1 - pixels)[..., 0]

    ends = (10.0, 30.0, 1.0), (180.0, 60.0, 0.4), (10.0, 75.0, 0.8)
    halves = cover(list(ends[:2])), cover(list(ends[1:]))
    assert np.allclose(cover(list(ends)), np.maximum(*halves), atol=1e-5)


def test_a_disc_that_holds_the_next_is_covered_whole() -> None:
    image = Image(np.full((200, 200, 3), 0.2, np.float32), Kind.COLOUR, (100.0, 100.0), True)
    line = {"tool": "paint", "radius_mm": 20.0, "softness": 0.0, "colour": "#ffffff", "pressure": "size"}
    one = Stroke(points=((50.0, 50.0, 1.0),), **line)  # type: ignore[arg-type]
    both = Stroke(points=((50.0, 50.0, 1.0), (55.0, 50.0, 0.1)), **line)  # type: ignore[arg-type]
    assert np.allclose(painted(image, one).pixels, painted(image, both).pixels, atol=1e-6)


@pytest.mark.parametrize("last", ["clone", "heal", "erase", "soften"])
def test_the_next_stroke_on_what_is_there_is_the_same_as_all_anew(last: str) -> None:
    strokes = [
        stroke("paint", [(20, 30), (70, 40)], colour="#ff0000", softness=0.6),
        stroke("clone", [(95, 90), (108, 104)], offset_mm=(-30.0, 20.0)),
        stroke(last, [(40, 35)], offset_mm=(15.0, 5.0), radius_mm=18.0, softness=0.4),
    ]
    image = board()
    by_and_by = [painted(image, *strokes[:n]) for n in (1, 2, 3)]  # each begins on the one before, which is kept here
    anew = painted(image.with_pixels(image.pixels.copy()), *strokes)
    assert np.array_equal(by_and_by[-1].pixels, anew.pixels)
    # A stroke taken back or changed does not begin on what it had made
    assert np.array_equal(painted(image, strokes[0]).pixels, by_and_by[0].pixels)
    other = stroke("paint", [(20, 30), (70, 40)], colour="#00ff00", softness=0.6)
    again = painted(image, other, *strokes[1:])
    assert np.array_equal(again.pixels, painted(image.with_pixels(image.pixels.copy()), other, *strokes[1:]).pixels)


def test_an_empty_sheet_is_painted_from_nothing() -> None:
    layer = {"strokes": [{"tool": "paint", "points": [[10, 10, 1], [90, 90, 1]], "radius_mm": 5, "colour": "#203040"}]}
    rows = (
        StepEntry(step="blank", settings={"colour": "#804020", "width_mm": 100, "height_mm": 100}),
        StepEntry(step="repair", settings={"layers": [layer]}),
        StepEntry(step="height"),
        StepEntry(step="normal"),
    )
    evaluator = Evaluator(OnePicture(None))  # type: ignore[arg-type]
    made = evaluator.ask_many(Weave(steps=rows), ("base", "normal"), 128)
    assert np.allclose(made["base"].pixels[10, 100], rgb_of("#804020"), atol=1e-6)
    assert np.allclose(made["base"].pixels[64, 64], rgb_of("#203040"), atol=1e-5)
    assert made["base"].wraps
    assert np.allclose(decode_srgb(np.array([0x80 / 255])), rgb_of("#804020")[0])
    with pytest.raises(ValueError, match="colour"):
        rgb_of("red")


# --- clean ------------------------------------------------------------------------------------------------------


def spoiled(name: str) -> tuple[Image, Image, CleanSettings]:
    """A photo, the same with a stain on it, and the settings that mark the stain."""
    image = next(p for p in photos() if p.name == name).image
    pixels = image.pixels.copy()
    v, u = np.mgrid[0:600, 0:800]
    pixels[np.hypot(u - 400, v - 300) < 40] = (0.7, 0.05, 0.05)
    marks = Region(kind="brush", points=((0.5, 0.5),), radius=0.055)
    return image, Image(pixels, Kind.COLOUR, image.size_mm), CleanSettings(regions=(marks,))


def cleaned(image: Image, s: CleanSettings) -> Image:
    decision = CLEAN.decide(s, {"base": image}, Geometry(image.size_mm, image.wraps), IDLE)
    return CLEAN.carry(s, image, decision, sheet_of(image), IDLE)


@pytest.mark.parametrize("name", ["gravel", "tiles", "rust", "grass"])
def test_a_stain_is_filled_from_the_surface(name: str) -> None:
    truth, stained, s = spoiled(name)
    made = cleaned(stained, s)
    inside = mask_of(s.regions, None, 800, 600)
    assert np.array_equal(made.pixels[:200], stained.pixels[:200])
    red = made.pixels[inside][:, 0] - made.pixels[inside][:, 1]
    assert red.max() < np.percentile(truth.pixels[..., 0] - truth.pixels[..., 1], 99.9) + 0.1
    assert made.pixels[inside].mean() == pytest.approx(truth.pixels.mean(), abs=0.1)
    assert made.pixels[inside].std() > 0.5 * truth.pixels[inside].std()


def test_a_grid_of_joints_goes_on_through_the_hole() -> None:
    truth, stained, s = spoiled("tiles")
    made = cleaned(stained, s)
    inside = mask_of(s.regions, None, 800, 600)
    error = np.sqrt(np.square(made.pixels - truth.pixels)[inside].mean())
    assert error < 0.06
    assert np.corrcoef(made.pixels[inside].ravel(), truth.pixels[inside].ravel())[0, 1] > 0.8


@given(st.integers(0, 500), st.booleans())
@settings(max_examples=8, deadline=None)
def test_sources_never_lie_in_the_hole(seed: int, wraps: bool) -> None:
    rng = np.random.default_rng(seed)
    hole = np.zeros((70, 90), bool)
    y, x, h, w = rng.integers(0, 50), rng.integers(0, 60), rng.integers(3, 20), rng.integers(3, 30)
    hole[y : y + h, x : x + w] = True
    planes = rng.random((70, 90, 3)).astype(np.float32)
    sources = fill(planes, hole, wraps)
    assert sources.shape == (hole.sum(), 2)
    assert not hole[sources[:, 0], sources[:, 1]].any()


def test_marks_by_outline_brush_and_tone() -> None:
    outline = Region(points=((0.25, 0.25), (0.75, 0.25), (0.75, 0.75), (0.25, 0.75)))
    mask = mask_of((outline,), None, 100, 100)
    assert mask.sum() == pytest.approx(2500, rel=0.05)
    assert mask[50, 50]
    pixels = np.full((60, 60, 3), 0.5, np.float32)
    pixels[10:20, 10:20] = (0.5, 0.1, 0.1)
    pixels[40:50, 40:50] = (0.5, 0.1, 0.1)
    image = Image(pixels, Kind.COLOUR)
    near = mask_of((Region(kind="tone", points=((0.25, 0.25),)),), image, 60, 60)
    assert near.sum() == 100
    everywhere = mask_of((Region(kind="tone", points=((0.25, 0.25),), everywhere=True),), image, 60, 60)
    assert everywhere.sum() == 200


def test_clipped_lights_are_found_by_themselves() -> None:
    image = board(128, wraps=False)
    pixels = np.minimum(image.pixels, 0.8)
    pixels[50:60, 50:60] = 1.0
    made = cleaned(Image(pixels, Kind.COLOUR, image.size_mm), CleanSettings(by="lights"))
    assert made.pixels[52:58, 52:58].max() < 0.95


def test_a_motif_is_freed_onto_a_colour() -> None:
    image = board(100, wraps=False)
    box = Region(points=((0.3, 0.3), (0.7, 0.3), (0.7, 0.7), (0.3, 0.7)))
    made = cleaned(image, CleanSettings(regions=(box,), into="colour", colour="#3060a0"))
    assert np.allclose(made.pixels[5, 5], rgb_of("#3060a0"), atol=1e-5)
    assert np.allclose(made.pixels[50, 50], image.pixels[50, 50], atol=1e-5)


def test_what_cannot_be_filled_is_said() -> None:
    everything = Region(points=((0, 0), (1, 0), (1, 1), (0, 1)))
    with pytest.raises(WeaveError, match="half"):
        cleaned(board(64), CleanSettings(regions=(everything,)))
    decision = CLEAN.decide(CleanSettings(regions=(Region(),)), {"base": board(64)}, Geometry((100.0, 100.0)), IDLE)
    assert decision.warnings == ("Nothing is marked.",)


def test_all_maps_are_filled_from_the_same_places() -> None:
    _, stained, s = spoiled("gravel")
    small = resize(stained, 400, 300)
    decision = CLEAN.decide(s, {"base": small}, Geometry(small.size_mm), IDLE)
    place = Image(np.arange(300 * 400, dtype=np.float32).reshape(300, 400, 1), Kind.ID, small.size_mm)
    moved = CLEAN.carry(s, place, decision, sheet_of(place), IDLE).plane().astype(int)
    inside = np.unpackbits(decision.arrays["hole"], count=300 * 400).reshape(300, 400).astype(bool)
    sources = decision.arrays["sources"]
    assert np.array_equal(moved[inside], sources[:, 0] * 400 + sources[:, 1])
    assert np.array_equal(moved[~inside], place.plane().astype(int)[~inside])


@given(
    st.lists(st.tuples(st.floats(5, 95), st.floats(5, 75), st.floats(0.6, 1)), min_size=1, max_size=6),
    st.floats(0, 1),
    st.sampled_from(["none", "size"]),
)
@settings(max_examples=40, deadline=None, derandomize=True)
def test_coverage_is_the_most_that_any_part_of_a_stroke_gives(
    points: list[tuple[float, float, float]], softness: float, pressure: str
) -> None:
    stroke = Stroke(tool="paint", points=tuple(points), radius_mm=9.0, softness=softness, strength=0.8, pressure=pressure)  # type: ignore[arg-type]
    w, h, pitch = 100, 80, 1.0
    box = Box(stroke, w, h, (pitch, pitch), True)
    found = np.zeros((h, w))
    np.maximum.at(found, np.ix_(*box.place), coverage(stroke, box, (pitch, pitch)))
    # The same told from many discs along the way, each texel looked at where the nearest repeat of it lies
    y, x = np.mgrid[0:h, 0:w] + 0.5
    wanted = np.zeros((h, w))
    ends = list(zip(points, [*points[1:], points[-1]], strict=True)) if len(points) > 1 else [(points[0], points[0])]
    for a, b in ends:
        for t in np.linspace(0, 1, 60):
            px, py, force = (a[k] + t * (b[k] - a[k]) for k in range(3))
            reach = 9.0 * (force if pressure == "size" else 1.0)
            d = np.hypot((x - px + w / 2) % w - w / 2, (y - py + h / 2) % h - h / 2)
            soft = max(softness * reach, pitch)
            q = np.clip(0.5 + (reach - 0.5 * softness * reach - d) / soft, 0, 1)
            q += (1 - pitch / soft) * (q * q * (3 - 2 * q) - q)
            wanted = np.maximum(wanted, 0.8 * q)
    assert np.abs(found - wanted).max() < 0.1, "sixty discs differ a little from the way between them, soft ones the most"


@pytest.mark.parametrize("pressure", ["size", "strength", "both"])
def test_pressing_harder_without_moving_covers_more(pressure: str) -> None:
    def covered(*forces: float) -> float:
        points = tuple((20.0, 20.0, f) for f in forces)
        stroke = Stroke(tool="paint", points=points, radius_mm=9.0, softness=0.5, pressure=pressure)  # type: ignore[arg-type]
        return float(coverage(stroke, Box(stroke, 40, 40, (1.0, 1.0), True), (1.0, 1.0)).sum())

    assert covered(0.3, 1.0) == pytest.approx(covered(1.0))
    assert covered(1.0, 0.3) == pytest.approx(covered(1.0))
    assert covered(0.3) < 0.5 * covered(1.0)


def test_a_hole_is_filled_however_many_maps_there_are() -> None:
    """Base colour, height and normals together are more planes than the library reduces at once."""
    rng = np.random.default_rng(0)
    planes = rng.random((96, 96, 6)).astype(np.float32)
    hole = np.zeros((96, 96), bool)
    hole[40:60, 30:52] = True
    sources = fill(planes, hole, True)
    assert sources.shape[0] == hole.sum()


@pytest.mark.parametrize("way", [(0.0, 0.0), (1.0, 0.0), (-1.0, 2.0)])
def test_marks_wrap_wherever_they_were_made(way: tuple[float, float]) -> None:
    """In a half shift or on a repeat places lie beyond the sheet: what they mark is the same texels of the sheet itself."""
    n = 64
    du, dv = way
    outline = Region(kind="outline", points=tuple((x + du, y + dv) for x, y in ((0.8, 0.9), (1.2, 0.9), (1.2, 1.1), (0.8, 1.1))))
    marked = mask_of((outline,), None, n, n, wraps=True)
    y, x = (np.mgrid[0:n, 0:n] + 0.5) / n
    inside = (np.minimum(x, 1 - x) < 0.2 - 1 / n) & (np.minimum(y, 1 - y) < 0.1 - 1 / n)
    assert marked[inside].all()
    assert not marked[(np.minimum(x, 1 - x) > 0.2 + 1 / n) | (np.minimum(y, 1 - y) > 0.1 + 1 / n)].any()
    dab = mask_of((Region(kind="brush", points=((0.02 + du, 0.5 + dv),), radius=0.1),), None, n, n, wraps=True)
    far = np.hypot(np.minimum(np.abs(x - 0.02), 1 - np.abs(x - 0.02)), y - 0.5)
    assert dab[far < 0.08].all()
    assert not dab[far > 0.12].any()
    planes = np.full((n, n, 3), 0.2, np.float32)
    planes[:, :6] = planes[:, -6:] = (0.6, 0.1, 0.1)
    base = Image(planes, Kind.COLOUR, (1.0, 1.0), True)
    tone = mask_of((Region(kind="tone", points=((0.03 + du, 0.4 + dv),)),), base, n, n, wraps=True)
    assert tone[:, :5].all(), "one red stripe across the edge"
    assert tone[:, -5:].all()
    assert not tone[:, 8:-8].any()
    open_sheet = mask_of((Region(kind="tone", points=((0.03, 0.4),)),), base, n, n)
    assert not open_sheet[:, -6:].any(), "without a repeat both stripes are two"
