"""Photo report: every fault is told when it is there, and not when it is not; each cure mends it."""

from __future__ import annotations

import io
import json
from collections.abc import Callable
from typing import Any

import cv2
import numpy as np
import pytest
from PIL import Image as Pillow

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.base.srgb import encode_srgb
from silent_loom.core.files.picture import Picture
from silent_loom.core.files.profile import SRGB
from silent_loom.core.look.meters.broken import SEEN, join_broken, looks
from silent_loom.core.look.quality import blockiness, noise_level, sharpness
from silent_loom.core.look.tilt import most_contrast, tilt
from silent_loom.core.report.finding import Cure, Finding, Seen, seen
from silent_loom.core.report.findings.border import border
from silent_loom.core.report.findings.crop import even_area
from silent_loom.core.report.findings.sharpness import find as sharpness_of
from silent_loom.core.report.findings.tilt import find as tilt_of
from silent_loom.core.report.report import Report, report
from silent_loom.core.report.suggest import tried
from silent_loom.core.steps.tiling.seamless import SeamlessSettings
from tests.support import varied
from tests.support.walls import sheet, shingles


def picture_of(light: Floats) -> Picture:
    codes = np.rint(encode_srgb(np.clip(light, 0, 1)) * 255).astype(np.uint8)
    return Picture(codes, None, SRGB, 8, "png")


def told(light: Floats, width_mm: float | None = None) -> Report:
    return report(picture_of(light), width_mm)


def alone(find: Callable[[Seen, Task], list[Finding]], light: Floats) -> Report:
    """What one kind of finding says, without the others."""
    photo = seen(picture_of(light), None, IDLE)
    findings = find(photo, IDLE)
    return Report(findings, np.ones((1, 1), np.float32), None, None, photo.figures)  # type: ignore[arg-type]


def finding(made: Report, code: str) -> Finding | None:
    return next((f for f in made.findings if f.code == code), None)


@pytest.fixture(scope="module")
def plaster() -> Floats:
    rng = np.random.default_rng(11)
    light = varied.plaster(rng)
    return np.clip(light, 0.02, 0.95).astype(np.float32)


def test_a_good_photo_is_called_good(plaster: Floats) -> None:
    made = told(plaster, 200.0)
    bad = [f for f in made.findings if f.level == "bad"]
    assert not bad
    assert finding(made, "border") is None
    assert finding(made, "tilt") is None
    assert finding(made, "motif") is None
    assert finding(made, "lights") is None
    assert made.figures["clipped_darks"] == 0
    density = finding(made, "density")
    assert density is not None
    assert density.figure == pytest.approx(800 / 20)
    json.dumps(made.as_dict())


@pytest.mark.parametrize(("side", "tone"), [(0, 0.95), (1, 0.0), (2, 0.4), (3, 0.95)], ids=["left", "top", "right", "bottom"])
def test_a_border_is_found_to_the_row_and_trimmed(plaster: Floats, side: int, tone: float) -> None:
    light = plaster.copy()
    parts = [np.s_[:, :40], np.s_[:30], np.s_[:, -40:], np.s_[-30:]]
    light[parts[side]] = tone
    made = told(light)
    found = finding(made, "border")
    assert found is not None
    assert found.cure is not None
    wanted = (40 / 800, 30 / 600)[side % 2]
    assert made.figures["border"][side] == pytest.approx(wanted, abs=0.004)
    assert sum(v > 0 for v in made.figures["border"]) == 1
    x = [p[0] for p in found.cure.settings["corners"]]
    y = [p[1] for p in found.cure.settings["corners"]]
    inner = (min(x), min(y), 1 - max(x), 1 - max(y))
    assert inner[side] >= wanted - 1e-6, "the cure cuts all of it away"
    assert max(inner) < wanted + 0.01, "and hardly more"


def test_grout_along_the_edges_of_tiles_is_no_border() -> None:
    rng = np.random.default_rng(3)
    y, x = np.mgrid[0:400, 0:600]
    tone = np.where((y % 98 < 9) | (x % 98 < 9), 0.85, 0.3 + 0.1 * rng.random((5, 7))[y // 98, x // 98])
    light = np.repeat(tone[..., None], 3, 2) + rng.normal(0, 0.004, (400, 600, 3))
    codes = np.clip(light, 0, 1).astype(np.float32)
    assert border(codes.mean(2), codes) == (0.0, 0.0, 0.0, 0.0)
    framed = codes.copy()
    framed[:, :14] = 0.02
    assert border(framed.mean(2), framed)[0] == pytest.approx(14 / 600, abs=0.002)


def test_lengths_are_told_in_millimetres_where_the_width_is_known() -> None:
    light = varied.tiles(np.random.default_rng(5))
    plain, known = finding(told(light), "motif"), finding(told(light, 400.0), "motif")
    assert plain is not None
    assert known is not None
    assert "pixels" in plain.title
    assert "every 48.6 × 48.6 mm" in known.title or "mm" in known.title
    assert "pixels" not in known.title


@pytest.mark.parametrize("seed", [3, 4])
def test_courses_can_be_kept_whole_though_nothing_in_them_comes_again(seed: int) -> None:
    image = sheet(shingles(seed))
    found = finding(told(image.pixels), "courses")
    assert found is not None
    assert found.cure is not None
    s = SeamlessSettings(**found.cure.settings)
    assert (s.method, s.grid_x) == ("motif", 1)
    made, _ = tried(image, s)
    assert join_broken(looks(made), 1) < SEEN
    rows = made.size_mm[1] / 70.0
    assert rows == pytest.approx(round(rows), abs=0.04), "whole rows of 70 mm"


def test_a_plain_surface_has_no_border() -> None:
    flat = np.full((300, 400, 3), 0.4, np.float32)
    assert border(flat.mean(2), flat) == (0.0, 0.0, 0.0, 0.0)


def test_clipped_lights_are_measured_and_placed(plaster: Floats) -> None:
    light = plaster.copy()
    light[20:120, 640:760] = 1.0
    light[480:580, 20:120] = 0.0
    made = told(light)
    lights, darks = finding(made, "lights"), finding(made, "darks")
    assert lights is not None
    assert darks is not None
    assert made.figures["clipped_lights"] == pytest.approx(100 * 120 / 480_000, rel=0.05)
    assert made.figures["clipped_darks"] == pytest.approx(100 * 100 / 480_000, rel=0.05)
    assert "top right" in lights.title
    assert "bottom left" in darks.title
    assert made.clipped_lights[:4, 12:].sum() > 0.95 * made.clipped_lights.sum()


@pytest.mark.parametrize(("angle", "word"), [(0, "right"), (90, "top"), (180, "left"), (225, "bottom left")])
def test_light_from_one_side_is_told_with_its_side(plaster: Floats, angle: float, word: str) -> None:
    v, u = np.mgrid[0:600, 0:800]
    along = np.cos(np.radians(angle)) * (u / 400 - 1) - np.sin(np.radians(angle)) * (v / 300 - 1)
    made = told((plaster * np.exp(0.3 * along)[..., None]).astype(np.float32))
    assert made.figures["light_from"] == word
    assert made.figures["light_slope_percent"] > 25
    light = finding(made, "light")
    assert light is not None
    assert light.level == "bad"
    assert word in light.title
    assert light.cure is not None
    assert light.cure.step == "light"


def test_vignette_is_told_apart_from_slope(plaster: Floats) -> None:
    v, u = np.mgrid[0:600, 0:800]
    r2 = ((u / 400 - 1) ** 2 + (v / 300 - 1) ** 2) / 2
    made = told((plaster * np.exp(-0.6 * r2)[..., None]).astype(np.float32))
    assert made.figures["vignette_percent"] > 25
    assert made.figures["light_slope_percent"] < 12
    assert made.light.min() < 0.75 < made.light.max()


def test_noise_is_measured(plaster: Floats) -> None:
    rng = np.random.default_rng(0)
    smooth = np.stack([cv2.GaussianBlur(plaster[..., k], (0, 0), 3) for k in range(3)], -1)
    codes = encode_srgb(smooth).mean(2)
    for sigma in (2.0, 6.0, 12.0):
        noisy = (codes + rng.normal(0, sigma / 255, codes.shape)).astype(np.float32)
        assert noise_level(noisy) * 255 == pytest.approx(sigma, rel=0.2)


@pytest.mark.parametrize("noise", [0, 3, 8])
def test_noise_is_not_called_blur_and_blur_is_found_below_noise(noise: int) -> None:
    rng = np.random.default_rng(4)
    for sharp in (varied.plaster(rng), varied.cloth(rng), varied.rust(rng), varied.gravel(rng)):
        for sigma, levels in ((0.0, {"good", "note"}), (4.0, {"bad"})):
            codes = encode_srgb(np.clip(sharp, 0, 1)) * 255
            codes = cv2.GaussianBlur(codes, (0, 0), sigma) if sigma else codes
            noisy = np.rint(np.clip(codes + rng.normal(0, noise, codes.shape), 0, 255)).astype(np.uint8)
            photo = seen(Picture(noisy, None, SRGB, 8, "png"), None, IDLE)
            found = next(f for f in sharpness_of(photo, IDLE) if f.code == "sharpness")
            assert found.level in levels
            assert ("Blurred" in found.says) == bool(sigma)


def test_a_soft_photo_says_at_how_many_texels_its_detail_ends(plaster: Floats) -> None:
    codes = encode_srgb(plaster).astype(np.float32).mean(2)
    assert sharpness([codes]).lacking == 0
    assert [sharpness([cv2.GaussianBlur(codes, (0, 0), s)]).lacking for s in (1.0, 2.0)] == [1, 2]
    assert sharpness([np.full((64, 64), 0.5, np.float32)]).octave == -1


def test_heavy_jpeg_blocks_are_seen_and_light_ones_not(plaster: Floats) -> None:
    codes = picture_of(plaster).samples
    found = []
    for quality in (12, 95):
        buffer = io.BytesIO()
        Pillow.fromarray(codes).save(buffer, "JPEG", quality=quality)
        decoded = np.asarray(Pillow.open(buffer))
        found.append(finding(report(Picture(decoded, None, SRGB, 8, "jpeg")), "blocks"))
        plane = decoded.mean(2).astype(np.float32) / 255
        assert (blockiness(plane) > 0.2) == (quality == 12)
    assert found[0] is not None
    assert found[0].cure is not None
    assert found[1] is None
    assert finding(told(plaster), "blocks") is None


@pytest.mark.parametrize("make", [varied.tiles, varied.bond])
@pytest.mark.parametrize("across", [0.0, 0.12])
def test_converging_lines_are_told_and_their_cure_squares_them(make: Any, across: float) -> None:
    light = make(np.random.default_rng(5))
    h, w = light.shape[:2]
    level = np.float32([[0, 0], [w, 0], [w, h], [0, h]])
    seen = np.float32([[0.14 * w, across * h], [0.86 * w, 0], [w, h], [0, (1 - across) * h]])
    m = cv2.getPerspectiveTransform(level, seen)
    inside = cv2.getPerspectiveTransform(
        np.float32([[0.15 * w, 0.13 * h], [0.85 * w, 0.13 * h], [0.85 * w, 0.87 * h], [0.15 * w, 0.87 * h]]), level
    )
    askew = cv2.warpPerspective(light, inside @ m, (w, h), flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT)
    made = alone(tilt_of, askew.astype(np.float32))
    found = finding(made, "tilt")
    assert found is not None
    assert found.cure is not None
    corners = np.float32([[x * w, y * h] for x, y in found.cure.settings["corners"]])
    back = cv2.warpPerspective(askew, cv2.getPerspectiveTransform(corners, level), (w, h))
    was, now = (tilt(most_contrast(encode_srgb(np.clip(a, 0, 1)).astype(np.float32))) for a in (askew, back))
    assert abs(was.vertical) > 5
    assert abs(now.vertical) < 1.5
    assert abs(now.horizontal) < 1.5


@pytest.mark.parametrize("name", ["gravel", "plaster", "fur", "grass", "tiles", "wallpaper"])
def test_no_tilt_is_suspected_on_level_photos(name: str) -> None:
    light = getattr(varied, name)(np.random.default_rng(2))
    assert tilt(most_contrast(encode_srgb(np.clip(light, 0, 1)).astype(np.float32))).corners is None


def turned(light: np.ndarray, degrees: float) -> np.ndarray:
    """Seen turned clockwise, a little nearer so that nothing is missing."""
    h, w = light.shape[:2]
    m = cv2.getRotationMatrix2D((w / 2, h / 2), -degrees, 1.12)
    return np.asarray(cv2.warpAffine(light.astype(np.float32), m, (w, h), flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT))


def lean(light: np.ndarray) -> float:
    return tilt(most_contrast(encode_srgb(np.clip(light, 0, 1)).astype(np.float32))).turned


@pytest.mark.parametrize("degrees", [3.4, -7.0])
@pytest.mark.parametrize("name", ["slate", "rubble", "planks", "grain", "bond"])
def test_a_turned_photo_is_told_and_by_how_much(name: str, degrees: float) -> None:
    level = getattr(varied, name)(np.random.default_rng(6))
    assert abs(lean(level)) < 0.2
    made = alone(tilt_of, turned(level, degrees))
    found = finding(made, "turn")
    assert found is not None
    assert found.figure == pytest.approx(degrees, abs=0.3)
    assert ("anticlockwise" in found.title) == (degrees < 0)
    assert found.cure is not None
    assert found.cure.settings == {"turn_deg": round(-found.figure, 2)}
    assert finding(alone(tilt_of, level), "turn") is None


def test_lines_that_hardly_converge_are_told_by_their_lean() -> None:
    light = turned(varied.rubble(np.random.default_rng(6)), 3.0)
    h, w = light.shape[:2]
    level = np.float32([[0, 0], [w, 0], [w, h], [0, h]])
    m = cv2.getPerspectiveTransform(level, np.float32([[0.005 * w, 0], [0.995 * w, 0], [w, h], [0, h]]))
    seen = tilt(most_contrast(encode_srgb(np.clip(cv2.warpPerspective(light, m, (w, h)), 0, 1)).astype(np.float32)))
    assert max(abs(seen.vertical), abs(seen.horizontal)) < 1.5
    assert seen.corners is not None or seen.turned == pytest.approx(3.0, abs=0.3)


@pytest.mark.parametrize("name", ["gravel", "plaster", "fur", "grass", "cobbles", "cracks", "ripples", "lichen"])
@pytest.mark.parametrize("seed", [2, 3])
def test_nothing_is_turned_where_nothing_is_straight(name: str, seed: int) -> None:
    assert lean(getattr(varied, name)(np.random.default_rng(seed))) == 0


def test_a_motif_is_reported_with_its_period_and_a_grid() -> None:
    made = told(varied.tiles(np.random.default_rng(3), 97.3, 81.2))
    assert made.figures["motif"]["across_px"] == pytest.approx(97.3, rel=0.005)
    assert made.figures["motif"]["down_px"] == pytest.approx(81.2, rel=0.005)
    found = finding(made, "motif")
    assert found is not None
    assert found.cure is not None
    assert found.cure.settings["grid_x"] >= 6
    assert found.cure.settings["method"] == "motif"


def test_the_largest_even_area_leaves_the_odd_part_out(plaster: Floats) -> None:
    light = plaster.copy()
    light[:, 520:] = varied.rust(np.random.default_rng(1))[:, 520:]
    made = told(light)
    left, top, right, bottom = made.figures["even_area"]
    assert right == pytest.approx(520 / 800, abs=0.05)
    assert (left, top, bottom) == pytest.approx((0, 0, 1), abs=0.05)
    found = finding(made, "crop")
    assert found is not None
    assert found.cure is not None
    assert even_area(np.full((100, 120, 3), 40.0, np.float32)) == (0, 0, 1, 1)


def test_grey_float_and_sixteen_bit_photos_are_taken(plaster: Floats) -> None:
    grey = plaster.mean(2, keepdims=True)
    for picture in (
        Picture(np.rint(encode_srgb(grey) * 65535).astype(np.uint16), None, SRGB, 16, "png"),
        Picture(plaster, None, SRGB, 32, "openexr"),
    ):
        made = report(picture)
        assert finding(made, "sharpness") is not None
        assert 0 <= made.figures["evenness"] < 30


def test_tiny_pictures_are_taken() -> None:
    rng = np.random.default_rng(0)
    for shape in ((16, 16, 3), (9, 200, 3), (64, 3, 3)):
        made = report(Picture(rng.integers(0, 255, shape).astype(np.uint8), None, SRGB, 8, "png"))
        assert made.findings
        assert np.isfinite(made.light).all()


def test_the_light_of_a_sheet_agrees_with_what_even_light_takes_out(plaster: Floats) -> None:
    from silent_loom.core.steps.photo.light import evenness

    v, u = np.mgrid[0:600, 0:800]
    lit = (plaster * np.exp(0.35 * (u / 400 - 1))[..., None]).astype(np.float32)
    made = told(lit)
    gain = cv2.resize(made.light, (800, 600), interpolation=cv2.INTER_CUBIC)
    evened = Image((lit / gain[..., None]).astype(np.float32), Kind.COLOUR, (800.0, 600.0))
    assert evenness(evened) < 0.35 * evenness(Image(lit, Kind.COLOUR, (800.0, 600.0)))


def test_cures_of_noise_and_blocks_do_not_undo_each_other() -> None:
    noise, blocks = (Cure("height", {"fine": v}, "Lower", at_most=True) for v in (0.3, 0.4))
    assert noise.done_by({"fine": 0.2})
    assert not noise.done_by({"fine": 0.4})
    after_noise = {"fine": 0.5} | noise.changes({"fine": 0.5})
    assert after_noise == {"fine": 0.3}
    assert blocks.done_by(after_noise)
    assert blocks.changes(after_noise) == {"fine": 0.3}


def test_blotchy_light_is_not_called_mended_by_a_third_of_it() -> None:
    cure = Cure("light", {"amount": 1.0, "patches": 1.0}, "Even", at_least=True)
    assert not cure.done_by({"amount": 1.0, "patches": 0.35})
    assert cure.done_by({"amount": 1.0, "patches": 1.0})
    assert cure.changes({"amount": 1.0, "patches": 0.35}) == {"amount": 1.0, "patches": 1.0}


def test_fibres_tell_a_tilt_where_there_are_no_lines() -> None:
    """Short fibres that run down, seen from below: LSD finds no line as long as a thirtieth of the picture."""
    rng = np.random.default_rng(6)
    noise = rng.normal(0, 1, (900, 1200)).astype(np.float32)
    fibres = cv2.GaussianBlur(noise, (0, 0), sigmaX=1.6, sigmaY=9)
    fibres = 0.5 + 0.12 * fibres / fibres.std()
    h, w = fibres.shape
    goal = np.float32([[0.08 * w, 0], [0.92 * w, 0], [w, h], [0, h]])
    m = cv2.getPerspectiveTransform(np.float32([[0, 0], [w, 0], [w, h], [0, h]]), goal)
    seen_askew = cv2.warpPerspective(fibres, m, (w, h), borderMode=cv2.BORDER_REFLECT)
    wanted = 2 * float(np.degrees(np.arctan(0.08 * w / h)))
    assert tilt(fibres.astype(np.float32)).vertical == 0.0
    assert abs(tilt(seen_askew.astype(np.float32)).vertical) == pytest.approx(wanted, rel=0.25)
    assert tilt(noise).corners is None
