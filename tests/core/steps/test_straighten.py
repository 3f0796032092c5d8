"""Straightening: true place, true proportions, one field for every kind."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from silent_loom.core.base.images import Image, Kind
from silent_loom.core.files.picture import Exif, Picture
from silent_loom.core.files.profile import SRGB
from silent_loom.core.look.perspective import apply, convex, homography, proportions
from silent_loom.core.moving.carry import warp_homography
from silent_loom.core.steps.maps.normal import from_height
from silent_loom.core.steps.photo.straighten import StraightenSettings, from_pixels, pixel_corners
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.model import SourceRef
from silent_loom.core.weave.rows.recipes import starting_weave
from silent_loom.demo.shots import Shot, camera, corners_of
from tests.conftest import DIGEST, OnePicture, spectrum


@given(st.integers(0, 10_000))
@settings(max_examples=30, deadline=None)
def test_homography_takes_the_points_to_their_targets(seed: int) -> None:
    rng = np.random.default_rng(seed)
    square = np.array([[0, 0], [1, 0], [1, 1], [0, 1.0]])
    target = square * 900 + rng.uniform(-150, 150, (4, 2))
    assert np.abs(apply(homography(square, target), square) - target).max() < 1e-6


def test_three_corners_on_a_line_are_refused() -> None:
    with pytest.raises(ValueError, match="line"):
        homography(np.array([[0, 0], [1, 0], [1, 1], [0, 1.0]]), np.array([[0, 0], [1, 0], [2, 0], [0, 1.0]]))
    assert convex(np.array([[0, 0], [1, 0], [1, 1], [0, 1]]))
    assert not convex(np.array([[0, 0], [1, 1], [1, 0], [0, 1]]))
    with pytest.raises(ValueError, match="clockwise"):
        StraightenSettings(corners=((0, 0), (0, 1), (1, 1), (1, 0)))


@pytest.mark.parametrize("tilt", [5, 10, 15, 20, 25, 30, 35, 40])
@pytest.mark.parametrize("axis", ["tilt", "pan", "both"])
@pytest.mark.parametrize("size", [(1500, 1000), (800, 1200), (1000, 1000)])
def test_proportions_within_one_percent_when_the_focal_length_is_known(tilt: float, axis: str, size: tuple[float, float]) -> None:
    shot = Shot(
        "plaster",
        size,
        tilt_deg=0 if axis == "pan" else tilt,
        pan_deg=0 if axis == "tilt" else -tilt if axis == "pan" else tilt * 0.6,
        focal=0.9,
    )
    corners = corners_of(shot, 4000, 3000) + np.random.default_rng(int(tilt)).uniform(-0.5, 0.5, (4, 2))
    told = proportions(corners, 4000, 3000, 0.9 * 4000, 0.005)
    assert told.by == "exif"
    assert told.aspect == pytest.approx(size[0] / size[1], rel=0.01)


def test_perspective_alone_tells_where_the_tilt_is_about_both_axes() -> None:
    shot = Shot("plaster", (1500, 1000), tilt_deg=28, pan_deg=24, focal=0.8)
    told = proportions(corners_of(shot, 4000, 3000), 4000, 3000)
    assert told.by == "perspective"
    assert told.aspect == pytest.approx(1.5, rel=0.02)


def test_one_axis_without_focal_length_is_said_to_be_a_guess_with_its_reason() -> None:
    shot = Shot("plaster", (1500, 1000), tilt_deg=35, focal=0.8)
    told = proportions(corners_of(shot, 4000, 3000), 4000, 3000)
    assert told.by == "guess"
    assert told.error > 0.02
    assert "one axis" in told.reason
    assert abs(np.log(told.aspect / 1.5)) < 3 * told.error, "the true value lies within what is said"


def test_looking_straight_on_needs_no_focal_length() -> None:
    told = proportions(corners_of(Shot("plaster", (1500, 1000)), 4000, 3000), 4000, 3000)
    assert told.aspect == pytest.approx(1.5, rel=0.005)
    assert told.by != "guess"


def _target_photo(shot: Shot, width: int, height: int) -> tuple[Picture, np.ndarray]:
    """A photo of soft dots at known places of the sheet, drawn analytically through the camera."""
    m = camera(shot, width, height)
    w, h = shot.size_mm
    dots = np.array([[x, y] for x in np.linspace(0.08, 0.92, 7) * w for y in np.linspace(0.08, 0.92, 6) * h])
    y, x = np.mgrid[0:height, 0:width].astype(np.float64)
    back = apply(np.linalg.inv(m), np.stack([x, y], -1).reshape(-1, 2)).reshape(height, width, 2)
    plane = np.full((height, width), 0.15)
    for dx, dy in dots:
        r2 = (back[..., 0] - dx) ** 2 + (back[..., 1] - dy) ** 2
        plane += 0.6 * np.exp(-r2 / (2 * (0.012 * w) ** 2))
    from silent_loom.core.base.srgb import encode_srgb

    codes = np.rint(encode_srgb(np.clip(plane, 0, 1)) * 255).astype(np.uint8)
    return Picture(np.repeat(codes[..., None], 3, 2), None, SRGB, 8, "png", Exif(shot.focal * width, 0.005)), dots


@pytest.mark.parametrize(("tilt", "pan", "size"), [(30, 0, 300), (12, 25, 500), (38, -10, 700)])
def test_straightened_to_within_half_a_texel_of_the_truth(tilt: float, pan: float, size: int) -> None:
    shot = Shot("plaster", (900, 600), tilt_deg=tilt, pan_deg=pan, roll_deg=3, focal=1.0)
    picture, dots = _target_photo(shot, 900, 675)
    given_corners = corners_of(shot, 900, 675) + np.random.default_rng(1).uniform(-0.2, 0.2, (4, 2))
    weave = starting_weave(
        DIGEST,
        SourceRef(name="p", format="png", width=900, height=675, bytes=1),
        straighten={"corners": from_pixels(given_corners, 900, 675), "width_mm": 900.0},
    )
    evaluator = Evaluator(OnePicture(picture))
    image = evaluator.ask(weave, "base", size, below=weave.steps[1].id)
    assert image.size_mm[1] == pytest.approx(600, rel=0.01)
    plane = image.pixels[..., 1]
    tx = image.texel_mm[0]
    reach = int(0.03 * 900 / tx)
    for dx, dy in dots:
        u, v = dx / tx - 0.5, dy / (600 / image.height) - 0.5
        j, i = round(u), round(v)
        patch = plane[i - reach : i + reach + 1, j - reach : j + reach + 1] - 0.15
        patch = np.clip(patch - 0.05, 0, None)
        ys, xs = np.mgrid[i - reach : i + reach + 1, j - reach : j + reach + 1]
        found = np.array([(patch * xs).sum(), (patch * ys).sum()]) / patch.sum()
        # Half a texel, of the photo or of the result, whichever is coarser
        assert np.hypot(found[0] - u, found[1] - v) < 0.5 * max(1, size / 560), (dx, dy)


def test_corners_in_pixels_and_back() -> None:
    corners = np.array([[0, 0], [99, 0], [99, 49], [0, 49.0]])
    parts = from_pixels(corners, 100, 50)
    assert parts[0] == (0.005, 0.01)
    assert np.allclose(pixel_corners(parts, 100, 50), corners)


@pytest.mark.parametrize(
    "field",
    [
        np.diag([-1.0, 1, 1]),  # mirror
        np.diag([2.0, 1, 1]),  # 2 : 1 stretch
        np.array([[0.8, -0.6, 0], [0.6, 0.8, 0], [0, 0, 1]]),  # turn
        np.array([[1.1, 0.2, 0], [-0.1, 0.9, 0], [0.0006, -0.0004, 1]]),  # perspective
    ],
    ids=["mirror", "stretch", "turn", "perspective"],
)
def test_normals_of_the_carried_height_are_the_carried_normals(field: np.ndarray) -> None:
    n = 256
    plane = spectrum(n, 2.0, 3, keep=0.04) * 12
    height = Image(plane[..., None], Kind.DATA, (n * 2.0, n * 2.0), True)
    shift = np.array([[1, 0, n / 2], [0, 1, n / 2], [0, 0, 1]])
    out = 160
    m = shift @ field @ np.linalg.inv(np.array([[1, 0, out / 2], [0, 1, out / 2], [0, 0, 1.0]]))
    size = (out * 2.0, out * 2.0)
    first = from_height(warp_homography(height, m, out, out, size))
    second = warp_homography(from_height(height), m, out, out, size)
    inner = np.s_[4:-4, 4:-4]
    angle = np.degrees(np.arccos(np.clip((first.pixels * second.pixels).sum(-1), -1, 1)))[inner]
    assert angle.mean() < 0.6
    assert np.percentile(angle, 99) < 2.5


def test_ids_are_never_mixed_by_a_field() -> None:
    ids = Image(np.random.default_rng(0).integers(0, 40, (64, 64, 1)).astype(np.float32) * 100, Kind.ID)
    moved = warp_homography(ids, np.array([[0.7, 0.3, 3], [-0.2, 0.9, 5], [0, 0, 1.0]]), 50, 50, (1, 1))
    assert np.isin(moved.pixels, ids.pixels).all()


# --- lens bulge, turn, other rectangles ---------------------------------------------------------------------------


def bent_picture(bulge: float, width: int = 800, height: int = 600) -> Picture:
    """Soft dots on a straight grid, seen through a lens: the point at r from the middle lies at r (1 − bulge r²)."""
    from silent_loom.core.base.srgb import encode_srgb

    reach = np.hypot(width, height) / 2
    y, x = np.mgrid[0:height, 0:width].astype(np.float64)
    seen = np.stack([x + 0.5 - width / 2, y + 0.5 - height / 2], -1) / reach
    straight = seen.copy()
    for _ in range(40):
        straight = seen / (1 - bulge * np.square(straight).sum(2, keepdims=True))
    place = straight * reach + (width / 2, height / 2)
    plane = np.full((height, width), 0.15)
    for gx in range(100, width, 100):
        for gy in range(100, height, 100):
            plane += 0.6 * np.exp(-((place[..., 0] - gx) ** 2 + (place[..., 1] - gy) ** 2) / (2 * 6.0**2))
    codes = np.rint(encode_srgb(np.clip(plane, 0, 1)) * 255).astype(np.uint8)
    return Picture(np.repeat(codes[..., None], 3, 2), None, SRGB, 8, "png")


def straightened(picture: Picture, size: int, **straighten: object) -> Image:
    weave = starting_weave(
        DIGEST, SourceRef(name="p", format="png", width=picture.width, height=picture.height, bytes=1), straighten=straighten
    )
    return Evaluator(OnePicture(picture)).ask(weave, "base", size, below=weave.steps[1].id)


def dot(plane: np.ndarray, x: float, y: float, reach: int = 14) -> tuple[float, float]:
    j, i = round(x - 0.5), round(y - 0.5)
    patch = np.clip(plane[i - reach : i + reach + 1, j - reach : j + reach + 1] - 0.2, 0, None)
    ys, xs = np.mgrid[i - reach : i + reach + 1, j - reach : j + reach + 1]
    return float((patch * xs).sum() / patch.sum() + 0.5), float((patch * ys).sum() / patch.sum() + 0.5)


@pytest.mark.parametrize("bulge", [-0.12, 0.0, 0.12])
def test_lens_bulge_is_taken_out(bulge: float) -> None:
    picture = bent_picture(bulge)
    plane = straightened(picture, 800, bulge=bulge).pixels[..., 1]
    if bulge == 0:
        for x, y in ((400, 300), (500, 300), (600, 400), (300, 200), (200, 300), (600, 200)):
            found = dot(plane, x, y)
            assert np.hypot(found[0] - x, found[1] - y) < 0.3
    # Rows and columns of dots are straight again: collinear to a third of a texel
    near = plane > 0.4
    count = 0
    from scipy import ndimage

    labels, n = ndimage.label(near)
    centres = np.array(ndimage.center_of_mass(np.clip(plane - 0.2, 0, None), labels, range(1, n + 1)))
    middle = centres[np.argmin(np.hypot(*(centres - (plane.shape[0] / 2, plane.shape[1] / 2)).T))]
    for axis in (0, 1):
        line = centres[np.abs(centres[:, axis] - middle[axis]) < 12]
        far = centres[np.abs(centres[:, axis] - middle[axis] - 100) < 30]
        for group in (line, far):
            if len(group) >= 4:
                fit = np.polyfit(group[:, 1 - axis], group[:, axis], 1)
                assert np.abs(np.polyval(fit, group[:, 1 - axis]) - group[:, axis]).max() < 0.35
                count += 1
    assert count >= 3


def test_without_taking_it_out_the_rows_stay_bent() -> None:
    from scipy import ndimage

    plane = straightened(bent_picture(0.12), 800).pixels[..., 1]
    labels, n = ndimage.label(plane > 0.4)
    centres = np.array(ndimage.center_of_mass(np.clip(plane - 0.2, 0, None), labels, range(1, n + 1)))
    far = centres[centres[:, 0] < 150]
    fit = np.polyfit(far[:, 1], far[:, 0], 1)
    assert np.abs(np.polyval(fit, far[:, 1]) - far[:, 0]).max() > 2


@given(st.floats(-180, 180))
@settings(max_examples=15, deadline=None)
def test_a_turn_shows_the_photo_alone_and_about_its_middle(angle: float) -> None:
    picture = bent_picture(0.0)
    s = StraightenSettings(turn_deg=angle)
    from silent_loom.core.steps.photo.straighten import _turned
    from silent_loom.core.weave.step import Geometry

    (width, height), corners = _turned(s, Geometry((800.0, 600.0)))
    assert all(-1e-9 <= c <= 1 + 1e-9 for p in corners for c in p), "nothing from outside the photo"
    assert width > 0
    assert height > 0
    plane = straightened(picture, 400, turn_deg=angle).pixels[..., 1]
    h, w = plane.shape
    pitch = width / w  # photo pixels per texel
    # The dot at (500, 300) is 100 right of the middle, and turns clockwise about it
    a = np.radians(angle)
    x, y = w / 2 + 100 * np.cos(a) / pitch, h / 2 + 100 * np.sin(a) / pitch
    if 15 < x < w - 15 and 15 < y < h - 15:
        found = dot(plane, x, y, 12)
        assert np.hypot(found[0] - x, found[1] - y) < 0.6


def test_other_rectangles_are_kept_and_change_nothing() -> None:
    picture = bent_picture(0.0)
    mine = ((0.1, 0.1), (0.6, 0.12), (0.62, 0.7), (0.1, 0.7))
    other = ((0.3, 0.3), (0.9, 0.3), (0.9, 0.9), (0.3, 0.9))
    assert np.array_equal(
        straightened(picture, 200, corners=mine).pixels, straightened(picture, 200, corners=mine, others=(other,)).pixels
    )
