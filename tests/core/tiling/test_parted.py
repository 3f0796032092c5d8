"""Different things on both sides of a cut: flat shapes do not tint each other, and light is still shared out."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from silent_loom.core.base.colour import lab
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import IDLE
from silent_loom.core.moving.resample import blur
from silent_loom.core.steps.tiling.seamless import SEAMLESS, SeamlessSettings
from silent_loom.core.tiling.cutting.cost import cost_of
from silent_loom.core.tiling.joining import parted
from silent_loom.core.tiling.joining.join import closed_along
from silent_loom.core.tiling.joining.parted import Parted, part_objects, parted_at
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.step import Geometry, Sheet
from tests.conftest import spectrum
from tests.support.plates import plates

INKS = np.array([[0.05, 0.16, 0.04], [0.18, 0.10, 0.05], [0.02, 0.03, 0.015]], np.float32)


def printed(size: int, seed: int, light: float = 0.0) -> tuple[Image, Floats]:
    """Cloth printed with flat shapes of three inks, and how bright the lamp is in every column."""
    inked = np.zeros((size, size), int)
    for ink in (1, 2):
        field = blur(spectrum(size, 0.0, seed + ink), size / 24, False)
        inked[field > np.quantile(field, 0.66)] = ink
    grain = 1 + 0.04 * spectrum(size, 0.0, seed + 9)[..., None]
    lamp = np.exp(light * np.linspace(-0.5, 0.5, size, dtype=np.float32))
    cloth = blur(np.ascontiguousarray(INKS[inked]), 0.7, False) * grain * lamp[None, :, None]
    return Image(np.ascontiguousarray(cloth, np.float32), Kind.COLOUR), lamp


def cut(image: Image) -> tuple[Floats, Floats]:
    """Cut shut, and the same as if nothing were known of what lies beside the cut."""
    s = SeamlessSettings(method="cut", bend=False)
    before = Geometry(image.size_mm)
    known = SEAMLESS.decide(s, {"base": image}, before, IDLE)
    unknown = Decision({k: v for k, v in known.arrays.items() if k.startswith("path")}, known.figures, known.warnings)
    sheet = Sheet(before, SEAMLESS.geometry(s, before, None), (round(image.width * 0.8), round(image.height * 0.8)), None)  # type: ignore[arg-type]
    done, plain = (SEAMLESS.carry(s, image, d, sheet, IDLE).pixels for d in (known, unknown))
    return done, plain


def tinted(pixels: Floats) -> float:
    """Part of a sheet whose broad colour is none of the inks', borders of shapes apart."""
    seen = lab(blur(pixels, 2.0, False))
    inks = lab(np.ascontiguousarray(INKS[:, None]))[:, 0]
    off = np.sqrt(np.square(seen[:, :, None] - inks).sum(3)).min(2)
    tone = seen[..., 0]
    level = np.hypot(np.gradient(tone, axis=0), np.gradient(tone, axis=1)) < 0.4
    return float(((off > 2.5) & level).mean())


@pytest.mark.parametrize("seed", [3, 17, 40])
def test_flat_shapes_do_not_tint_what_lies_beside_them(seed: int) -> None:
    image, _ = printed(480, seed)
    done, plain = cut(image)
    own = tinted(image.pixels)
    assert tinted(plain) > own + 0.01, "nothing to mend: the test would prove nothing"
    assert tinted(done) < own + 0.35 * (tinted(plain) - own)


def light_that_jumps(seed: int) -> float:
    """The largest step in what the lamp adds, ink by ink, as a logarithm."""
    image, lamp = printed(480, seed, light=0.5)
    assert np.ptp(np.log(lamp)) > 0.45
    done, _ = cut(image)
    nearest = np.square(np.log(done[:, :, None] / INKS)).sum(3).argmin(2)
    bright = np.log(done / INKS[nearest]).mean(2)
    smooth = blur(np.roll(np.ascontiguousarray(bright), 190, 1), (3.0, 40.0), False)
    return float(np.abs(smooth[:, 8:] - smooth[:, :-8]).max())


def test_a_drift_of_light_is_still_shared_out() -> None:
    # Half a stop from end to end of the photo must not jump anywhere; a few texels taken for another ink may
    assert np.median([light_that_jumps(seed) for seed in range(14)]) < 0.2


def test_stones_in_joints_are_no_flat_shapes() -> None:
    tone, crack = plates(700, 900, 120, 2)
    stones = np.repeat(np.where(crack, 0.02, 0.1 + 0.5 * (tone - tone.min()) / np.ptp(tone))[..., None], 3, 2)
    flat, _ = printed(400, 5)
    found = []
    for image in (Image(np.ascontiguousarray(stones, np.float32), Kind.COLOUR), flat):
        cost = cost_of({"base": image}, {})
        first, second = cost.sides(round(0.8 * image.width))
        look = max(2, round((parted.LOOK + parted.SKIP) * cost.scale))
        found.append(float(parted._flat(first, second, look, cost.scale, cost.toned)))
    assert found[0] < 0.05
    assert found[1] > 0.95


def test_what_has_no_tone_is_not_parted() -> None:
    image, _ = printed(200, 5)
    cost = cost_of({"base": image}, {})
    found = parted_at(*cost.sides(160), np.full(200, 20, np.int32), cost.scale, 0, False)
    assert found.objects.max() == 0


def pictures(seed: int, rows: int = 90, n: int = 60) -> tuple[Floats, Floats, Floats]:
    near, far = (np.repeat(spectrum(128, 1.0, seed + i)[:rows, :n, None], 2, 2).astype(np.float32) for i in (0, 1))
    path = n / 2 + 6 * np.sin(np.arange(rows) / rows * 2 * np.pi)
    return near, far, path


@given(st.integers(0, 10_000), st.integers(1, 89))
@settings(max_examples=10, deadline=None)
def test_a_closed_cut_may_begin_anywhere(seed: int, start: int) -> None:
    near, far, path = pictures(seed)
    rng = np.random.default_rng(seed)
    beside = Parted(*rng.random((2, len(path)), np.float32))
    ease = np.ones(near.shape[1], np.float32), np.ones(near.shape[1], np.float32)
    out, rolled = near.copy(), np.roll(near, start, 0)
    part_objects(out, near, far, path, beside, 1.0, ease, True)
    sides = np.roll(near, start, 0), np.roll(far, start, 0)
    part_objects(rolled, *sides, np.roll(path, start), Parted(*(np.roll(v, start) for v in beside)), 1.0, ease, True)
    assert np.abs(rolled - np.roll(out, start, 0)).max() < 1e-4 * np.abs(near - far).max()


@pytest.mark.parametrize("axis", [0, 1])
def test_wide_overlaps_are_parted_as_narrow_ones(axis: int) -> None:
    """Broad parts of a wide overlap are worked out block by block: the same must come of it as at a smaller size."""
    rng = np.random.default_rng(4)
    rows, n, finer = 150, 90, 4
    near, far = (blur(rng.random((rows, n, 1), np.float32) * 6, 4.0, False) for _ in range(2))
    path = n / 2 + 6 * np.sin(np.arange(rows) / rows * 2 * np.pi)
    beside = Parted(np.ones(rows, np.float32), np.ones(rows, np.float32))
    strips = []
    for size in (1, finer):
        sides = [np.repeat(np.repeat(p, size, 0), size, 1) for p in (near, far)]
        wide = np.concatenate([sides[0], sides[0][:, : 10 * size], sides[1]], 1)
        turned = np.ascontiguousarray(wide.transpose(1, 0, 2)) if axis == 0 else wide
        known = Parted(*(np.repeat(v, size) for v in beside))
        out = closed_along(
            turned, Kind.DATA, axis, (n + 10) * size, np.repeat(path, size) * size, size * 1.0, axis == 0, IDLE, parted=known
        )
        strips.append((out.transpose(1, 0, 2) if axis == 0 else out)[:, : n * size])
    small = strips[1].reshape(rows, finer, n, finer).mean((1, 3))
    apart = np.abs(near - far)[..., 0]
    off = np.abs(small - strips[0][..., 0])
    assert off.mean() < 0.01 * apart.mean()
    assert off.max() < 0.15 * apart.max()


@given(st.integers(0, 10_000))
@settings(max_examples=10, deadline=None)
def test_at_the_borders_of_the_strip_each_picture_stays_exact(seed: int) -> None:
    near, far, path = pictures(seed)
    wide = np.ascontiguousarray(np.concatenate([near, near[:, :40], far], 1))
    beside = Parted(np.ones(len(path), np.float32), np.ones(len(path), np.float32))
    out = closed_along(wide, Kind.DATA, 1, 100, path, 1.0, False, IDLE, parted=beside)
    assert np.abs(out[:, 59] - near[:, 59]).max() < 1e-4 * np.abs(near - far).max()
    assert np.abs(out[:, 0] - far[:, 0]).max() < 1e-4 * np.abs(near - far).max()
    plain = closed_along(wide, Kind.DATA, 1, 100, path, 1.0, False, IDLE)
    nothing = Parted(np.zeros(len(path), np.float32), np.ones(len(path), np.float32))
    assert np.array_equal(plain, closed_along(wide, Kind.DATA, 1, 100, path, 1.0, False, IDLE, parted=nothing))
    assert not np.array_equal(plain, out)
