"""Sheets on models: the same wherever islands lie, relief turned into the model's frames, masks by what is where."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from numpy.typing import NDArray
from scipy import ndimage

from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.images import Image, Kind
from silent_loom.core.form.bake.dense import between
from silent_loom.core.form.lay.laying import Camera, Laying, lay, repeats
from silent_loom.core.form.lay.places import KINDS, Where, mask, onto_itself, parsed, rising
from silent_loom.core.form.lay.sheet_at import sheet_at
from silent_loom.core.form.model import Model, Table, plate
from silent_loom.core.form.normals import unit
from silent_loom.core.form.uv.islands import islands
from silent_loom.core.form.uv.unwrap import UnwrapSettings, unwrapped
from silent_loom.core.look.meters.seam_meter import seam
from silent_loom.demo.models import lifebelt
from tests.core.form.test_bake import sphere

SIZE = (128, 128)


def stripes(kind: Kind = Kind.DATA, n: int = 64) -> Image:
    """A sheet of 100 mm that goes up and down once across it."""
    x = (np.arange(n) + 0.5) / n
    wave = np.broadcast_to(0.5 + 0.5 * np.sin(2 * np.pi * x), (n, n)).astype(np.float32)
    if kind is Kind.NORMAL:
        slope = -2 * np.pi * 0.05 * np.cos(2 * np.pi * x)
        away = unit(np.stack([np.broadcast_to(slope, (n, n)), np.zeros((n, n)), np.ones((n, n))], -1))
        return Image(away.astype(np.float32), Kind.NORMAL, (100.0, 100.0), True)
    return Image(wave[..., None].repeat(3 if kind is Kind.COLOUR else 1, 2), kind, (100.0, 100.0), True)


def moved(model: Model) -> Model:
    """The same model with its UVs turned by a quarter, shrunk and moved."""
    uv = model.uv()
    v = uv.values - 0.5
    turned = np.stack([-v[:, 1], v[:, 0]], 1) * 0.7 + 0.5
    return replace(model, uvs={"UV": Table(turned, uv.index)})


def seen_at(model: Model, image: Image, triangles: NDArray[np.int64], shares: NDArray[np.float32]) -> NDArray[np.float64]:
    """What the map of a model shows at places of its triangles."""
    uv = between(model.uv().at_corners(), triangles.astype(np.int32), shares)
    x = np.clip((uv[:, 0] * image.width).astype(int), 0, image.width - 1)
    y = np.clip(((1 - uv[:, 1]) * image.height).astype(int), 0, image.height - 1)
    return image.pixels[y, x].astype(np.float64)


def test_three_sides_do_not_see_where_islands_lie() -> None:
    model = sphere(10)
    other = moved(model)
    rng = np.random.default_rng(1)
    triangles = rng.integers(0, len(model), 4000)
    shares = rng.dirichlet((3, 3, 3), 4000)[:, 1:].astype(np.float32)
    size = (512, 512)
    for kind in (Kind.DATA, Kind.COLOUR):
        laying = Laying("sides", blend=0.4)
        one = lay(onto_itself(model, size), {"m": stripes(kind)}, laying).maps["m"]
        two = lay(onto_itself(other, size), {"m": stripes(kind)}, laying).maps["m"]
        apart = np.abs(seen_at(model, one, triangles, shares) - seen_at(other, two, triangles, shares))
        assert apart.mean() < 0.05, "a texel of the one or of the other, no more"


def test_relief_is_turned_into_the_frames_of_the_model() -> None:
    sheet = stripes(Kind.NORMAL)
    for model in (plate(), replace(plate(), uvs={"UV": Table(1 - plate().uv().values, plate().uv().index)})):
        surface = onto_itself(model, SIZE)
        made = lay(surface, {"normal": sheet}, Laying("sides")).maps["normal"].pixels
        band = next(iter(surface.bands()))
        got = made[band.sample // SIZE[0], band.sample % SIZE[0]].astype(np.float64)
        tangents, signs = surface.tangents
        n, t = surface.normal(band), between(tangents, band.triangle, band.weights)
        b = np.cross(n, t) * np.sign(between(signs, band.triangle, band.weights))
        way = unit(got[:, :1] * t + got[:, 1:2] * b + got[:, 2:3] * n)
        place = surface.place(band)
        want = sheet_at(sheet, place[:, 0], place[:, 1]).astype(np.float64)
        assert np.abs(way - unit(want)).max() < 0.02, "x of the sheet is x of the model, however it is laid out"


def test_through_the_uvs_a_repeat_has_its_real_size() -> None:
    surface = onto_itself(plate(), SIZE)
    assert repeats(surface, (100.0, 100.0), Laying()) == pytest.approx((10.0, 10.0))
    assert repeats(surface, (100.0, 100.0), Laying(scale=2.0)) == pytest.approx((5.0, 5.0))
    made = lay(surface, {"m": stripes()}, Laying()).maps["m"].pixels[..., 0]
    spectrum = np.abs(np.fft.rfft(made[64] - made[64].mean()))
    assert int(spectrum.argmax()) == 10
    turned = lay(surface, {"m": stripes()}, Laying(turn_deg=90.0)).maps["m"].pixels[..., 0]
    down = np.abs(np.fft.rfft(turned[:, 64] - turned[:, 64].mean()))
    assert int(down.argmax()) == 10


def test_a_camera_throws_on_what_it_sees_and_no_further() -> None:
    model = sphere(16)
    surface = onto_itself(model, SIZE)
    camera = Camera((0.0, 0.0, 3000.0), (0.0, 0.0, 0.0), 2000.0)
    one = Image(np.ones((4, 4, 1), np.float32), Kind.DATA, (100.0, 100.0), True)
    made = lay(surface, {"m": one}, Laying("camera", camera=camera), padding=0.5)
    for band in surface.bands():
        place = surface.place(band)
        got = made.maps["m"].pixels[band.rows[0] + band.sample // 128, band.sample % 128, 0]
        assert got[place[:, 2] > 250].min() == 1.0
        assert got[place[:, 2] < -100].max() == 0.0
    with pytest.raises(LoomError, match="no camera"):
        lay(surface, {"m": one}, Laying("camera"))


def test_a_border_of_the_layout_is_no_seam_of_three_sides() -> None:
    """Across borders of one layout the map changes as it does at the same places of another, which is cut elsewhere."""
    ball = sphere(12)
    other = unwrapped(ball, UnwrapSettings(size=1024, padding=4))
    both = stripes().pixels * 0.5 + stripes().pixels.swapaxes(0, 1) * 0.5
    borders = islands(ball)
    whole = islands(other).joined

    def steps(model: Model, edges: NDArray[np.bool_]) -> NDArray[np.float64]:
        made = lay(onto_itself(model, (1024, 1024)), {"m": stripes().with_pixels(both)}, Laying("sides")).maps["m"]
        uv = model.uv().at_corners()
        one, side = np.nonzero(edges)
        two, back = borders.mate[one, side] // 3, borders.mate[one, side] % 3

        def beside(t: NDArray[np.int64], k: NDArray[np.int64]) -> NDArray[np.float64]:
            edge = 0.5 * (uv[t, k] + uv[t, (k + 1) % 3])
            edge = edge + 0.2 * (uv[t].mean(1) - edge)
            return made.pixels[((1 - edge[:, 1]) * 1024).astype(int), (edge[:, 0] * 1024).astype(int), 0].astype(np.float64)

        return np.abs(beside(one, side) - beside(two, back))

    edges = borders.cut & whole & (borders.mate >= 0)
    assert edges.sum() > 50
    here, there = steps(ball, edges), steps(other, edges)
    assert here.mean() <= 1.1 * there.mean()
    assert np.abs(here - there).mean() < 0.1


def pipe(around: int = 48) -> Model:
    """A pipe of 300 mm across and 600 mm high, whose UVs go once around: the left edge of the square meets the right one."""
    turn = np.linspace(0, 2 * np.pi, around + 1)
    at = np.array([(150 * np.cos(a), y, 150 * np.sin(a)) for y in (-300.0, 300.0) for a in turn])
    uv = np.array([(a / (2 * np.pi), v) for v in (0.0, 1.0) for a in turn])
    k = np.arange(around)
    low, high = np.stack([k, k + around + 1, k + 1], 1), np.stack([k + 1, k + around + 1, k + around + 2], 1)
    corners = np.concatenate([low, high]).astype(np.int32)
    flat = np.zeros(len(corners), np.int32)
    return Model(Table(at, corners), flat, flat, uvs={"UV": Table(uv, corners)}, unit_mm=1.0)


def test_the_border_of_a_layout_is_no_seam_by_the_seam_meter() -> None:
    rng = np.random.default_rng(5)
    grain = ndimage.gaussian_filter(rng.random((256, 256, 3)), (3, 3, 0), mode="wrap")
    grain = (0.5 + (grain - grain.mean()) * 4).clip(0, 1).astype(np.float32)
    sheet = Image(grain, Kind.COLOUR, (400.0, 400.0), True)
    surface = onto_itself(pipe(), (512, 512))
    from_sides = lay(surface, {"m": sheet}, Laying("sides", blend=0.3)).maps["m"]
    through = lay(surface, {"m": sheet}, Laying("uv")).maps["m"]
    assert seam(from_sides, "x", search=False).figure <= 1.05
    assert seam(through, "x", search=False).figure > 2, "repeats that do not come out even do break there"


def test_altitude_slope_and_facing() -> None:
    surface = onto_itself(sphere(24), SIZE)
    altitude, slope = mask(surface, Where("altitude", 0.5, 0.5)), mask(surface, parsed("slope=60..30"))
    facing = mask(surface, Where("facing", 0.0, 0.0, "1,0,0"))
    for band in surface.bands():
        place = surface.place(band)
        y, x = band.rows[0] + band.sample // 128, band.sample % 128
        high = place[:, 1] > 20
        assert (altitude.pixels[y, x, 0][high] == 1).all()
        assert (altitude.pixels[y, x, 0][place[:, 1] < -20] == 0).all()
        assert ((facing.pixels[y, x, 0] == 1) == (place[:, 0] > 0))[np.abs(place[:, 0]) > 20].all()
        lean = np.degrees(np.arccos(np.clip(place[:, 1] / np.linalg.norm(place, axis=1), -1, 1)))
        assert slope.pixels[y, x, 0][lean < 29].min() == 1
        assert slope.pixels[y, x, 0][lean > 61].max() == 0


def test_paint_mesh_material_and_island_are_masks() -> None:
    belt = lifebelt()
    surface = onto_itself(belt, (96, 96))
    painted = mask(surface, parsed("paint:green=0.2..0.2"))
    assert 0.4 < float(painted.pixels.mean()) < 0.95, "the bands are red, the rest is white"
    line, cloth = mask(surface, parsed("mesh:line")), mask(surface, parsed("material:cloth"))
    assert float(line.pixels.max()) <= 1.0
    assert float(cloth.pixels.mean()) > 0.9
    assert float(mask(surface, parsed("island:0")).pixels.mean()) > 0.2
    for text, words in (("mesh:anchor", "no mesh"), ("paint:ultraviolet", "no channel"), ("mesh", "no mesh is named")):
        with pytest.raises(LoomError, match=words):
            mask(surface, parsed(text))
    with pytest.raises(LoomError, match="no vertex colours"):
        mask(onto_itself(plate(), (8, 8)), parsed("paint:red"))


def test_islands_are_those_of_the_set_that_is_laid_out() -> None:
    square = plate()
    parted = np.array([[0, 0], [0.4, 0], [0.4, 0.4], [0.5, 0.5], [0.9, 0.9], [0.5, 0.9]])
    second = Table(parted, np.array([[0, 1, 2], [3, 4, 5]], np.int32))
    model = replace(square, uvs={"UV": square.uv(), "second": second})
    whole = mask(onto_itself(model, (64, 64)), parsed("island:0"))
    half = mask(onto_itself(model, (64, 64), "second"), parsed("island:0"))
    assert float(whole.pixels.mean()) == 1.0
    assert 0.2 < float(half.pixels.mean()) < 0.8


@pytest.mark.parametrize("kind", sorted(set(KINDS) - {"paint", "mesh", "material", "island"}))
def test_every_mask_stays_between_nothing_and_all(kind: str) -> None:
    image = mask(onto_itself(sphere(6), (32, 32)), parsed(kind))
    assert np.isfinite(image.pixels).all()
    assert float(image.pixels.min()) >= 0
    assert float(image.pixels.max()) <= 1


@pytest.mark.parametrize("text", ["height", "altitude=high", "altitude=0.1..x"])
def test_what_is_no_mask_is_said(text: str) -> None:
    with pytest.raises(LoomError):
        parsed(text)


def test_a_mask_may_fall_as_well_as_rise() -> None:
    values = np.linspace(0, 1, 11)
    assert np.allclose(rising(values, 1.0, 0.0), 1 - rising(values, 0.0, 1.0))
    assert np.all(np.diff(rising(values, 0.2, 0.8)) >= 0)
