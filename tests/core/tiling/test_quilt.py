"""Growing a larger sheet: it closes, it is new, it keeps what the surface has, and every map goes the same way."""

from __future__ import annotations

from functools import cache
from typing import Any

import numpy as np
import pytest

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.parallel import IDLE
from silent_loom.core.look.meters.seam_meter import seams
from silent_loom.core.moving.resample import reduce_area, resize
from silent_loom.core.steps.maps.normal import from_height
from silent_loom.core.steps.tiling.quilt import Quilt, QuiltSettings
from silent_loom.core.weave.step import Geometry, Sheet
from tests.support import varied

STEP = Quilt()


@cache
def photo(name: str) -> Image:
    light = getattr(varied, name)(np.random.default_rng(4))[:384, :512]
    return Image(np.ascontiguousarray(light, np.float32), Kind.COLOUR, (512.0, 384.0))


def grown(image: Image, guide: Image | None = None, size: tuple[int, int] | None = None, **values: Any) -> Image:
    s = QuiltSettings(**values)
    before = Geometry(image.size_mm, image.wraps)
    after = STEP.geometry(s, before, None)  # type: ignore[arg-type]
    decision = STEP.decide(s, {"base": guide or image}, before, IDLE)
    w, h = size or (round(image.width * s.times_x), round(image.height * s.times_y))
    return STEP.carry(s, image, decision, Sheet(before, after, (float(w), float(h)), None), IDLE)  # type: ignore[arg-type]


@pytest.mark.parametrize("name", ["gravel", "cobbles", "rubble", "grass"])
def test_the_sheet_closes_and_keeps_its_contrast(name: str) -> None:
    image = photo(name)
    made = grown(image, times_x=1.8, times_y=1.6)
    assert made.wraps
    assert made.pixels.shape == (614, 922, 3)
    assert made.size_mm == pytest.approx((921.6, 614.4))
    assert max(s.figure for s in seams(made, search=False)) <= 1.1
    assert made.pixels.std() == pytest.approx(float(image.pixels.std()), rel=0.1)
    fine = np.abs(np.diff(made.pixels, axis=1)).mean()
    assert fine == pytest.approx(float(np.abs(np.diff(image.pixels, axis=1)).mean()), rel=0.08)
    assert made.pixels.min() >= image.pixels.min()
    assert made.pixels.max() <= image.pixels.max()
    # Nowhere was left empty: every neighbourhood has detail
    blocks = reduce_area(np.square(np.diff(made.pixels[..., 1], axis=1)), 29, 19)
    source = reduce_area(np.square(np.diff(image.pixels[..., 1], axis=1)), 16, 12)
    assert blocks.min() > 0.25 * source.min()


def test_it_is_the_same_every_time_and_another_with_another_seed() -> None:
    image = photo("gravel")
    one, two, other = (grown(image, times_x=1.2, times_y=1.0, seed=seed) for seed in (3, 3, 4))
    assert np.array_equal(one.pixels, two.pixels)
    assert not np.array_equal(one.pixels, other.pixels)


def test_the_photo_is_not_simply_laid_beside_itself() -> None:
    made = grown(photo("cobbles"), times_x=2, times_y=1).pixels[..., 1]
    a, b = made[:, :512], made[:, 512:]
    assert abs(np.corrcoef(a.ravel(), b.ravel())[0, 1]) < 0.3


def test_normals_go_with_their_height() -> None:
    light = photo("gravel").pixels
    height = Image(np.ascontiguousarray(light.mean(2, keepdims=True)) * 20, Kind.DATA, (512.0, 384.0))
    guide = photo("gravel")
    first = from_height(grown(height, guide)).pixels
    second = grown(from_height(height), guide).pixels
    angle = np.degrees(np.arccos(np.clip((first * second).sum(2), -1, 1)))
    assert np.median(angle) < 1
    assert angle.mean() < 4, "cuts and the borders of the photo aside"
    assert np.allclose(np.linalg.norm(second, axis=2), 1, atol=1e-4)


def test_labels_are_never_blended() -> None:
    labels = Image(np.random.default_rng(0).integers(0, 9, (384, 512, 1)).astype(np.float32) * 20, Kind.ID, (512.0, 384.0))
    made = grown(labels, photo("gravel"))
    assert np.isin(made.pixels, labels.pixels).all()


def test_it_looks_the_same_at_every_size() -> None:
    image = photo("cobbles")
    large = grown(resize(image, 1024, 768), image, (2048, 1536))
    small = grown(image)
    rest = reduce_area(large.pixels, 1024, 768) - small.pixels
    assert 10 * np.log10(1 / np.square(rest).mean()) > 25


def test_what_repeats_already_is_taken_across_its_edges() -> None:
    tile = photo("gravel")
    wrapped = Image(tile.pixels, tile.kind, tile.size_mm, True)
    s = QuiltSettings(piece=0.6)
    decision = STEP.decide(s, {"base": wrapped}, Geometry(wrapped.size_mm, True), IDLE)
    piece = int(decision.arrays["facts"][4])
    taken = decision.arrays["pieces"][:, 2:]
    assert ((taken[:, 0] + piece > 512) | (taken[:, 1] + piece > 384)).any()
    bounded = STEP.decide(s, {"base": tile}, Geometry(tile.size_mm, False), IDLE).arrays["pieces"][:, 2:]
    assert (bounded[:, 0] + piece <= 512).all()
    assert (bounded[:, 1] + piece <= 384).all()


def test_too_small_a_sheet_says_so() -> None:
    tiny = Image(np.full((20, 20, 3), 0.5, np.float32), Kind.COLOUR, (20.0, 20.0))
    with pytest.raises(WeaveError, match="too small"):
        grown(tiny, piece=0.1)
