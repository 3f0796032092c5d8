"""The five ways of making edges meet, the lattice of a motif, and what is suggested, over many different photos."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from functools import cache
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from silent_loom.core.base.colour import lab
from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.images import Image, Kind, data
from silent_loom.core.base.parallel import IDLE
from silent_loom.core.base.srgb import decode_srgb
from silent_loom.core.look.meters.repetition_meter import copies, spots
from silent_loom.core.look.meters.seam_meter import heat, seam, seams
from silent_loom.core.look.motif.grid import fit_grid
from silent_loom.core.look.motif.lattice import find_lattice
from silent_loom.core.moving.resample import blur
from silent_loom.core.report.judge import contrast_after
from silent_loom.core.report.suggest import smoothness, suggest, tried
from silent_loom.core.steps.maps.normal import from_height
from silent_loom.core.steps.tiling.seamless import SEAMLESS, SeamlessSettings, joins
from silent_loom.core.tiling.joining import gradient
from silent_loom.core.tiling.joining.fade import fade_strip
from silent_loom.core.tiling.joining.join import closed_along
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.step import Geometry, Sheet
from silent_loom.demo.all_surfaces import SURFACES
from tests.conftest import as_colour, spectrum
from tests.support.varied import Made, photos


@cache
def all_photos() -> tuple[Made, ...]:
    """Those made by code, and the freely licensed photographs that come with scikit-image."""
    import skimage.data as shipped

    real = []
    for name in ("brick", "grass", "gravel"):
        codes = getattr(shipped, name)()
        light = decode_srgb(codes / 255.0)
        light = np.repeat(light[..., None], 3, 2) if light.ndim == 2 else light
        size = (float(light.shape[1]), float(light.shape[0]))
        real.append(
            Made(f"photograph of {name}", "photograph", Image(np.ascontiguousarray(light, np.float32), Kind.COLOUR, size))
        )
    return (*photos(), *real)


def one(name: str) -> Image:
    return next(m for m in all_photos() if m.name == name).image


@cache
def suggested(name: str) -> Any:
    return suggest(one(name))


def closed(image: Image, size: tuple[int, int] | None = None, decision: Decision | None = None, **values: Any) -> Image:
    """An image through the seamless step, deciding on itself unless that was decided before."""
    s = SeamlessSettings(**values)
    before = Geometry(image.size_mm)
    after = SEAMLESS.geometry(s, before, None)  # type: ignore[arg-type]
    texels = size or (
        round(after.size_mm[0] * image.width / image.size_mm[0]),
        round(after.size_mm[1] * image.height / image.size_mm[1]),
    )
    decision = decision or SEAMLESS.decide(s, {"base": image}, before, IDLE)
    return SEAMLESS.carry(s, image, decision, Sheet(before, after, (float(texels[0]), float(texels[1])), None), IDLE)  # type: ignore[arg-type]


# --- over all photos ----------------------------------------------------------------------------------------


def test_there_are_enough_photos_of_every_kind() -> None:
    kinds = [m.kind for m in all_photos()]
    assert len(kinds) >= 27
    assert {"stochastic", "structured", "motif", "directional", "photograph"} == set(kinds)


def test_suggested_method_closes_nearly_all_and_keeps_their_contrast() -> None:
    def reach(photo: Made) -> tuple[float, float]:
        s = SeamlessSettings(**suggested(photo.name).settings)
        decision = SEAMLESS.decide(s, {"base": photo.image}, Geometry(photo.image.size_mm), IDLE)
        made = closed(photo.image, decision=decision, **s.model_dump())
        kept = min(k.figure for k in contrast_after(s, decision, photo.image, made))
        return tried(photo.image, s)[1], kept

    each = [m for m in all_photos() if not m.name.endswith("askew")]  # the same surfaces once more
    with ThreadPoolExecutor(2) as pool:  # much of a suggestion runs on one core
        reached = dict(zip([m.name for m in each], pool.map(reach, each), strict=True))
    over = {n: round(f, 2) for n, (f, _) in reached.items() if f > 1.0}
    lost = {n: round(k, 3) for n, (_, k) in reached.items() if k < 0.95}
    assert len(over) <= 0.05 * len(reached), over
    assert len(lost) <= 0.05 * len(reached), lost
    assert min(k for _, k in reached.values()) > 0.9, lost


def test_a_rope_closes_at_the_overlap_that_is_suggested_and_not_at_any() -> None:
    surface = SURFACES["rope"]((640, 800), 1.0)
    sheet = Image(surface.colour, Kind.COLOUR, surface.size_mm)
    assert tried(sheet, SeamlessSettings())[1] > 1.0
    assert tried(sheet, SeamlessSettings(**suggest(sheet).settings))[1] <= 1.0


@pytest.mark.parametrize("name", [m.name for m in photos()] + [f"photograph of {n}" for n in ("brick", "grass", "gravel")])
def test_a_motif_is_found_where_there_is_one_and_only_there(name: str) -> None:
    made = next(m for m in all_photos() if m.name == name)
    lattice = find_lattice(made.image)
    if made.kind != "motif":
        assert lattice is None
        return
    assert lattice is not None
    if "askew" in name:
        return  # its period differs from place to place
    w, h = made.image.size_mm
    assert made.period is not None
    assert lattice.across[0] * w == pytest.approx(made.period[0], rel=0.005)
    assert lattice.down[1] * h == pytest.approx(made.period[1], rel=0.005)


@pytest.mark.parametrize("name", ["tiles", "bond", "hexes, askew", "wallpaper, askew", "cloth"])
def test_whole_repeats_close_a_motif(name: str) -> None:
    told = suggested(name)
    assert told.settings["method"] == "motif"
    _, figure = tried(one(name), SeamlessSettings(**told.settings))
    assert figure <= 1.0
    grid = np.array(told.settings["grid"])
    assert (grid > -0.03).all()
    assert (grid < 1.03).all()


@pytest.mark.parametrize("name", ["gravel", "rust", "slate", "fur", "lichen"])
def test_contrast_is_kept_where_two_sides_were_joined(name: str) -> None:
    image = one(name)
    for values in ({"method": "cut"}, {"method": "fade"}):
        s = SeamlessSettings(**values)
        decision = SEAMLESS.decide(s, {"base": image}, Geometry(image.size_mm), IDLE)
        made = closed(image, decision=decision, **values)
        line, _ = joins(s, decision, made.width, made.height)
        tone, source = (lab(i.pixels)[..., 0] for i in (made, image))
        for sigma in (1.0, 3.0):
            band = np.square(tone - blur(np.ascontiguousarray(tone), sigma, True))
            usual = np.square(source - blur(np.ascontiguousarray(source), sigma, False)).mean()
            near = np.mean([band[y, [(line[y] + d) % made.width for d in range(-8, 9)]].mean() for y in range(made.height)])
            assert near > 0.6 * usual, (values, sigma)
            overlap = np.sqrt(band[:, : image.width - made.width].mean() / usual)
            assert overlap > 0.9, (values, sigma)


@pytest.mark.parametrize("name", ["grain", "grain, askew", "brushed", "sand", "fur"])
def test_a_fade_keeps_the_contrast_of_every_band(name: str) -> None:
    image = one(name)
    light = image.pixels
    n = light.shape[1] // 5
    near, far = np.ascontiguousarray(light[:, :n]), np.ascontiguousarray(light[:, -n:])
    out = np.empty_like(near)
    fade_strip(near, far, image.kind, 0.8, False, out, IDLE)
    t = np.clip(((np.arange(n) + 0.5) / n - 0.1) / 0.8, 0, 1)
    t = t * t * (3 - 2 * t)
    tones = [lab(p)[..., 0] for p in (near, far, out)]
    for low, high in ((0.7, 1.4), (1.4, 2.8), (2.8, 5.6), (5.6, 11.2)):
        a, b, made = (np.square(blur(p, low, False) - blur(p, high, False)).mean(0) for p in map(np.ascontiguousarray, tones))
        inner = slice(n // 6, -n // 6)
        assert np.sqrt(made[inner].sum() / (t * a + (1 - t) * b)[inner].sum()) > 0.94, (low, high)


@pytest.mark.parametrize(("name", "kind"), [("grain", Kind.COLOUR), ("brushed", Kind.COLOUR), ("brushed", Kind.DATA)])
@pytest.mark.parametrize("turned", [False, True])
def test_a_fade_keeps_it_in_every_sixth_of_its_length(name: str, kind: Kind, turned: bool) -> None:
    light = one(name).pixels
    if turned:
        light = np.ascontiguousarray(light.transpose(1, 0, 2))
    strips = [light[:, :100], light[:, -100:]]
    near, far = (np.ascontiguousarray(s if kind is Kind.COLOUR else s[..., :1]) for s in strips)
    out = np.empty_like(near)
    if turned:
        near, far, out = (np.ascontiguousarray(s.transpose(1, 0, 2)) for s in (near, far, out))
        fade_strip(near, far, kind, 1.0, True, out, IDLE)
        near, far, out = (np.ascontiguousarray(s.transpose(1, 0, 2)) for s in (near, far, out))
    else:
        fade_strip(near, far, kind, 1.0, False, out, IDLE)
    t = np.clip(((np.arange(100) + 0.5) - 0.5) / 99, 0, 1)
    t = t * t * (3 - 2 * t)
    inner = (t > 0.05) & (t < 0.95)
    tones = [np.ascontiguousarray(lab(p)[..., 0] if kind is Kind.COLOUR else p[..., 0]) for p in (near, far, out)]
    for low, high in ((1.0, 2.0), (2.0, 4.0), (4.0, 8.0)):
        a, b, made = (np.square(blur(p, low, False) - blur(p, high, False)) for p in tones)
        want = t * a + (1 - t) * b
        for sixth in np.array_split(np.arange(len(made)), 6):
            kept = np.sqrt(made[sixth][:, inner].sum() / want[sixth][:, inner].sum())
            assert kept > 0.94, (low, sixth[0])


def untouched(image: Image, width: int, height: int) -> list[Image]:
    """Parts of a photo as large as a result: windows of the meter hold as much of either by chance."""
    corners = [(y, x) for y in (0, image.height - height) for x in (0, image.width - width)]
    cut_out = [np.ascontiguousarray(image.pixels[y : y + height, x : x + width]) for y, x in corners]
    return [Image(pixels, image.kind, (float(width), float(height))) for pixels in cut_out]


@pytest.mark.parametrize("name", ["gravel", "rust", "lichen", "cobbles", "rubble", "planks", "cracks", "photograph of brick"])
def test_nothing_is_copied_or_mirrored_more_than_in_the_source(name: str) -> None:
    made = closed(one(name), method="cut")
    assert copies(made) <= max(copies(part) for part in untouched(one(name), made.width, made.height)) + 0.02
    if name in ("gravel", "rust", "lichen"):  # where nothing is alike by chance
        assert copies(made) <= copies(one(name)) + 0.02


def test_a_mirror_copies_most_of_the_sheet() -> None:
    assert copies(closed(one("rust"), method="mirror")) > 0.7


def test_suggestions_say_why_and_what_was_tried() -> None:
    assert "motif" in suggested("hexes").why
    assert "runs one way" in suggested("grain").why
    assert "no joints" in suggested("sand").why
    told = suggested("cobbles")
    assert told.settings["method"] in ("cut", "gradient")
    assert set(told.figures) & {"cut", "gradient"}
    assert smoothness(one("plaster")) > smoothness(one("sand"))


# --- method by method -----------------------------------------------------------------------------------------


@pytest.mark.parametrize("method", ["cut", "fade", "gradient"])
@given(seed=st.integers(0, 10_000), over_x=st.floats(0.05, 0.45), over_y=st.floats(0.05, 0.45))
@settings(max_examples=6, deadline=None)
def test_overlaps_are_consumed_and_what_no_join_touches_stays(method: str, seed: int, over_x: float, over_y: float) -> None:
    image = as_colour(spectrum(96, 1.2, seed))
    image = Image(image.pixels, Kind.COLOUR, (96.0, 96.0))
    made = closed(image, method=method, overlap_x=over_x, overlap_y=over_y)
    assert made.wraps
    assert (made.width, made.height) == (round(96 * (1 - over_x)), round(96 * (1 - over_y)))
    assert np.isfinite(made.pixels).all()
    n, m = 96 - made.width, 96 - made.height
    if method != "gradient":
        assert np.allclose(made.pixels[m:, n:], image.pixels[m : made.height, n : made.width], atol=2e-6)


@pytest.mark.parametrize("method", ["cut", "fade", "gradient"])
@pytest.mark.parametrize("size", [(101, 77), (100, 78), (99, 131)])
def test_half_of_an_odd_sheet_may_be_laid_over_the_other(method: str, size: tuple[int, int]) -> None:
    w, h = size
    image = as_colour(spectrum(140, 1.0, w)[:h, :w], (float(w), float(h)), wraps=False)
    for keep in ((w // 2, h // 2), (w - w // 2, h - h // 2)):
        made = closed(image, keep, method=method, overlap_x=0.5, overlap_y=0.5)
        assert (made.width, made.height) == keep
        assert np.isfinite(made.pixels).all()


@pytest.mark.parametrize(("keep", "rows"), [(30, 60), (100, 60), (80, 59), (120, 60)])
def test_what_cannot_be_closed_is_refused(keep: int, rows: int) -> None:
    pixels = np.zeros((60, 100, 3), np.float32)
    with pytest.raises(ValueError, match="cannot be closed"):
        closed_along(pixels, Kind.COLOUR, 1, keep, np.full(rows, 4.0), 3.0, False, IDLE)


def test_mirror_meets_exactly_and_says_what_it_costs() -> None:
    image = one("rust")
    made = closed(image, method="mirror")
    assert (made.width, made.height) == (2 * image.width, 2 * image.height)
    assert np.array_equal(made.pixels[:, : image.width], made.pixels[:, image.width :][:, ::-1])
    assert np.array_equal(made.pixels[: image.height], made.pixels[image.height :][::-1])
    decision = SEAMLESS.decide(SeamlessSettings(method="mirror"), {"base": image}, Geometry(image.size_mm), IDLE)
    assert "twice" in decision.warnings[0]
    assert max(s.figure for s in seams(made, search=False)) <= 1.0


@pytest.mark.parametrize(
    "values",
    [
        {"method": "mirror"},
        {"method": "motif", "grid": ((0.1, 0.12), (0.8, 0.1), (0.82, 0.8), (0.11, 0.78)), "overlap_x": 0.1, "overlap_y": 0.1},
    ],
)
def test_normals_of_a_carried_height_are_the_carried_normals(values: dict[str, Any]) -> None:
    plane = 3 * spectrum(160, 2.2, 4, keep=0.08)
    height = Image(np.ascontiguousarray(plane, np.float32)[..., None], Kind.DATA, (160.0, 160.0), False)
    normal = from_height(height)
    s = SeamlessSettings(**values)
    before = Geometry(height.size_mm)
    after = SEAMLESS.geometry(s, before, None)  # type: ignore[arg-type]
    decision = SEAMLESS.decide(s, {"height": height}, before, IDLE)
    texels = (round(after.size_mm[0]), round(after.size_mm[1]))
    sheet = Sheet(before, after, (float(texels[0]), float(texels[1])), None)  # type: ignore[arg-type]
    first = from_height(SEAMLESS.carry(s, height, decision, sheet, IDLE))
    second = SEAMLESS.carry(s, normal, decision, sheet, IDLE)
    angle = np.degrees(np.arccos(np.clip((first.pixels * second.pixels).sum(2), -1, 1)))
    inner = angle[6:-6, 6:-6] if values["method"] == "mirror" else angle[30:-30, 30:-30]
    assert inner.mean() < 1.0


def test_every_method_moves_all_maps_alike() -> None:
    image = one("cobbles")
    place = np.mgrid[0 : image.height, 0 : image.width][1].astype(np.float32)
    where = Image(place[..., None], Kind.ID, image.size_mm)
    tone = data(image.pixels.mean(2), image)
    for method in ("cut", "gradient"):
        s = SeamlessSettings(method=method, bend=False)
        before = Geometry(image.size_mm)
        after = SEAMLESS.geometry(s, before, None)  # type: ignore[arg-type]
        decision = SEAMLESS.decide(s, {"base": image}, before, IDLE)
        sheet = Sheet(before, after, (640.0, 480.0), None)  # type: ignore[arg-type]
        ids = SEAMLESS.carry(s, where, decision, sheet, IDLE).plane().astype(int)
        assert set(np.unique(ids)) <= set(range(image.width))  # chosen, never mixed
        columns = np.arange(640)[None, :]
        assert (((ids - columns) % 640) == 0).all()  # each texel stands where its column, or the one an overlap on, stood
        made = SEAMLESS.carry(s, tone, decision, sheet, IDLE).plane()
        rows = slice(200, 440)  # beyond the overlap from top to bottom
        apart = np.abs(made[rows] - tone.plane()[rows][np.arange(240)[:, None], ids[rows]])
        assert np.median(apart) < 0.02


def test_gradient_spreads_a_slope_of_light_over_the_sheet() -> None:
    n = 200
    base = as_colour(spectrum(n, 1.0, 3)).pixels
    lit = base * np.exp(np.linspace(0, 1.2, n, dtype=np.float32))[None, :, None]
    made = closed(Image(np.ascontiguousarray(lit), Kind.COLOUR, (n, n)), method="gradient")
    columns = np.log(made.pixels.mean((0, 2)))
    smooth = blur(columns[None, :].astype(np.float32), 8.0, True)[0]
    # A plain cut keeps a step of the whole slope within its overlap; here no place is steeper than the slope itself
    assert np.abs(np.diff(smooth)).max() < 1.6 * 1.2 / n
    assert max(s.figure for s in seams(made, search=False)) < 1.3


def test_the_correction_of_a_closed_sheet_is_nothing() -> None:
    n = 48
    ring = spectrum(n, 1.5, 8)
    low = np.concatenate([ring, ring[:, :12]], 1)
    low = np.concatenate([low, low[:12]], 0)[..., None].astype(np.float32)
    field = gradient.correction(low, (n, n), np.full(n + 12, 6), np.full(n, 6), IDLE)
    assert np.abs(field).max() < 1e-4


def test_fade_keeps_histogram_and_ends() -> None:
    rng = np.random.default_rng(5)
    a, b = (np.exp(rng.normal(0, 0.5, (300, 120, 1))).astype(np.float32) for _ in range(2))
    out = np.empty_like(a)
    fade_strip(a, b, Kind.DATA, 1.0, False, out, IDLE)
    assert np.array_equal(out[:, 0], b[:, 0])
    assert np.allclose(out[:, -1], a[:, -1], atol=1e-3)
    middle = out[:, 50:70]
    assert middle.std() == pytest.approx(a.std(), rel=0.06)
    assert np.median(middle) == pytest.approx(np.median(a), rel=0.06)
    plain = 0.5 * (a + b)[:, 50:70]
    assert plain.std() < 0.8 * a.std()  # what a plain fade would leave


@pytest.mark.parametrize("method", ["cut", "fade", "gradient"])
@pytest.mark.parametrize("overlap", [1, 2, 3])
def test_an_overlap_of_a_texel_is_one_too(method: str, overlap: int) -> None:
    rng = np.random.default_rng(overlap)
    image = Image(rng.uniform(0.2, 0.8, (60, 60, 3)).astype(np.float32), Kind.COLOUR, (60.0, 60.0))
    made = closed(image, method=method, overlap_x=max(0.02, overlap / 60), overlap_y=max(0.02, overlap / 60))
    assert (made.width, made.height) == (60 - overlap, 60 - overlap)
    assert np.isfinite(made.pixels).all()
    inner = slice(overlap, -overlap)
    if method != "gradient":  # which spreads what is left at the join over the whole sheet
        assert np.array_equal(made.pixels[inner, inner], image.pixels[overlap : 60 - 2 * overlap, overlap : 60 - 2 * overlap])


def test_a_motif_needs_its_grid() -> None:
    with pytest.raises(WeaveError, match="grid"):
        SEAMLESS.geometry(SeamlessSettings(method="motif"), Geometry((100.0, 100.0)), None)  # type: ignore[arg-type]
    with pytest.raises(ValueError, match="clockwise"):
        SeamlessSettings(method="motif", grid=((0, 0), (0, 1), (1, 1), (1, 0)))


def test_a_grid_leaves_room_and_says_how_much() -> None:
    image = one("dots")
    lattice = find_lattice(image)
    assert lattice is not None
    grid = fit_grid(image, lattice)
    assert grid is not None
    across = (np.array(grid.quad)[1] - np.array(grid.quad)[0]) * image.size_mm
    assert across[0] / grid.repeats[0] == pytest.approx(61.7, rel=0.005)
    assert min(grid.room) > 0.03
    assert find_lattice(Image(np.full((64, 64, 3), 0.4, np.float32), Kind.COLOUR)) is None


# --- meters -----------------------------------------------------------------------------------------------------


def test_heat_lies_on_the_joins() -> None:
    image = one("cracks")
    wrapped = Image(image.pixels, Kind.COLOUR, image.size_mm, True)
    found = seams(wrapped, search=False)
    picture = heat(wrapped, found, None)
    assert picture.shape == (image.height, image.width)
    assert picture[100:-100, 0].mean() > 1.0
    assert (picture[100:-100, 100:-100] == 0).all()


def test_a_join_is_held_against_what_was_joined() -> None:
    # A path along a joint of tiles meets a strong line by nature; with the sources known it is not accused
    image = one("tiles")
    told = suggested("tiles")
    s = SeamlessSettings(**told.settings)
    made, figure = tried(image, s)
    assert figure <= 1.0
    assert seam(made, "y", search=False).figure <= 1.0


def test_spots_point_at_the_odd_patch() -> None:
    image = one("sand")
    pixels = image.pixels.copy()
    v, u = np.mgrid[0:600, 0:800]
    pixels[np.hypot(u - 600, v - 150) < 40] *= 0.25
    found = spots(Image(pixels, Kind.COLOUR, image.size_mm, True))
    assert found
    assert found[0].u == pytest.approx(0.75, abs=0.04)
    assert found[0].v == pytest.approx(0.25, abs=0.05)
    assert found[0].strength > 0.5
    assert all(s.strength < 0.5 for s in spots(Image(image.pixels, Kind.COLOUR, image.size_mm, True)))


@pytest.mark.parametrize("name", ["rubble", "cobbles", "slate", "gravel"])
def test_no_motif_is_claimed_on_parts_of_irregular_surfaces(name: str) -> None:
    from tests.support import varied

    for seed in range(3):
        light = getattr(varied, name)(np.random.default_rng(seed))
        for part in (np.s_[:300, :400], np.s_[100:500, 200:600]):
            crop = np.ascontiguousarray(light[part], np.float32)
            assert find_lattice(Image(crop, Kind.COLOUR, (float(crop.shape[1]), float(crop.shape[0])))) is None, (seed, part)


def test_a_fade_goes_over_from_light_to_dark_without_a_jump() -> None:
    image = one("plaster")
    u = np.mgrid[0 : image.height, 0 : image.width][1] / (0.5 * image.width) - 1
    lit = Image((image.pixels * np.exp(0.5 * u)[..., None]).astype(np.float32), Kind.COLOUR, image.size_mm)
    made, plain = (closed(i, method="fade", overlap_x=0.2, overlap_y=0.2).pixels[..., 1] for i in (lit, image))
    strip = made.shape[1] // 4

    def steepest(a: Any) -> float:
        across = blur(np.ascontiguousarray(np.log(a[:, :strip])), 3.0, False)
        return float(np.percentile(np.abs(np.diff(across, axis=1)), 99.9))

    assert steepest(made) < 2 * steepest(plain)
