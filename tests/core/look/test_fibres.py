"""Surfaces that run one way: told, and gone over softly along what runs, not across it."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.ndimage import gaussian_filter

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import IDLE
from silent_loom.core.look.fibres import running
from silent_loom.core.look.meters.seam_meter import seams
from silent_loom.core.steps.tiling.seamless import SEAMLESS, SeamlessSettings, joins
from silent_loom.core.tiling.cutting import by_lines
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.step import Geometry, Sheet


def grain(height: int, width: int, along: float, beside: float, seed: int) -> Floats:
    """Fibres that run across, mean 0, deviation 1."""
    field = gaussian_filter(np.random.default_rng(seed).standard_normal((height, width)), (beside, along))
    return (field / field.std()).astype(np.float32)


def boards(seed: int, height: int = 640, width: int = 820) -> Image:
    """Upright boards that are longer than the photo, with a dark joint between them."""
    rng = np.random.default_rng(seed)
    tone = np.zeros((height, width), np.float32)
    ends = np.cumsum(rng.uniform(50, 110, 20)).astype(int)
    for left, right in zip(np.r_[0, ends], ends, strict=False):
        tone[:, left + 3 : right] = rng.uniform(0.3, 0.6)
    tone = gaussian_filter(tone, (0, 1)) + 0.05 * grain(width, height, 45, 1, seed).T
    tone += 0.004 * rng.standard_normal(tone.shape).astype(np.float32)
    colour = np.clip(tone, 0.01, 1)[..., None] * np.array([1, 0.8, 0.6], np.float32)
    return Image(colour.astype(np.float32), Kind.COLOUR, (float(width), float(height)))


def decided(image: Image, s: SeamlessSettings) -> Decision:
    return SEAMLESS.decide(s, {"base": image}, Geometry(image.size_mm), IDLE)


@given(seed=st.integers(0, 999), axis=st.sampled_from([0, 1]))
@settings(max_examples=8, deadline=None)
def test_it_is_told_which_way_fibres_run(seed: int, axis: int) -> None:
    fibres = grain(200, 240, 40, 1, seed)
    turned = np.ascontiguousarray((fibres if axis == 1 else fibres.T)[..., None])
    assert running(turned, axis) > 0.9
    assert running(turned, 1 - axis) == 0
    even = gaussian_filter(np.random.default_rng(seed).standard_normal((200, 240, 1)), (3, 3, 0)).astype(np.float32)
    assert running(even, axis) == 0


def test_noise_alone_and_a_blank_sheet_run_nowhere() -> None:
    noise = np.random.default_rng(3).standard_normal((90, 80, 2)).astype(np.float32)
    assert running(noise, 0) == running(noise, 1) == 0
    assert running(np.zeros((20, 30, 1), np.float32), 0) == 0


@pytest.mark.parametrize("seed", [2, 11])
def test_boards_are_not_sawn_off(seed: int) -> None:
    photo = boards(seed)
    s = SeamlessSettings()
    decision = decided(photo, s)
    assert float(decision.arrays["along_y"]) > 0.9
    assert "along_x" not in decision.arrays, "beside each other boards meet at a joint"
    made = carried(photo, s, decision)
    columns, rows = joins(s, decision, made.width, made.height)
    _, figure = seams(made, (columns, rows), open_sheet=photo, search=False)
    assert figure.figure <= 1.0
    # Across the join no row may differ from the next by more than rows do elsewhere
    steps = np.abs(np.diff(made.pixels[..., 0], axis=0, append=made.pixels[:1, :, 0]))
    reach = (rows[None, :] + np.arange(-12, 13)[:, None]) % made.height
    at_join = steps[reach, np.arange(made.width)].mean(1).max()
    hard = carried(photo, s, Decision({k: v for k, v in decision.arrays.items() if k != "along_y"}, decision.figures))
    sawn = np.abs(np.diff(hard.pixels[..., 0], axis=0, append=hard.pixels[:1, :, 0]))[reach, np.arange(made.width)].mean(1).max()
    assert at_join < 1.6 * np.median(steps.mean(1))
    assert sawn > 2 * at_join, "and that took some doing"


def test_straight_grain_gets_no_waves(monkeypatch: pytest.MonkeyPatch) -> None:
    photo = boards(5)
    assert "shift_y" not in decided(photo, SeamlessSettings()).arrays
    monkeypatch.setattr(by_lines, "STIFF", 0.0)
    assert np.ptp(decided(photo, SeamlessSettings()).arrays["shift_y"]) > 0.01, "as joints it would have been moved"


def carried(image: Image, s: SeamlessSettings, decision: Decision) -> Image:
    before = Geometry(image.size_mm)
    after = SEAMLESS.geometry(s, before, None)  # type: ignore[arg-type]
    sheet = Sheet(before, after, (float(round(after.size_mm[0])), float(round(after.size_mm[1]))), None)
    return SEAMLESS.carry(s, image, decision, sheet, IDLE)
