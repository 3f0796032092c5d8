"""Colour that is no form stays out of height and roughness; what is moulded is not cut; a break-up carries the finished height."""

from __future__ import annotations

import numpy as np
import pytest

from silent_loom.core.base.images import Image, Kind
from silent_loom.core.maps.spared import without
from silent_loom.core.steps.maps.height import Height, HeightSettings
from silent_loom.core.steps.maps.roughness import Roughness, RoughnessSettings
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.model import StepEntry, Weave
from tests.conftest import OnePicture, as_colour, spectrum
from tests.core.maps.test_maps import run

N = 128


@pytest.fixture(scope="module")
def lichen() -> tuple[Image, Image, Image]:
    """A stone, pale lichen over it, and where it is."""
    stone = as_colour(spectrum(N, 1.6, 4), (100.0, 100.0))
    y, x = np.mgrid[0:N, 0:N]
    there = np.clip(8 - np.hypot((x - 40) % 64 - 20, (y - 30) % 64 - 20) + 0.5, 0, 1).astype(np.float32)[..., None]
    pale = stone.pixels + there * (np.float32([0.75, 0.78, 0.55]) - stone.pixels)
    return stone, stone.with_pixels(pale), Image(there, Kind.DATA, (100.0, 100.0), True)


def far(one: np.ndarray, other: np.ndarray, at: np.ndarray) -> float:
    a, b = (p - p.mean() for p in (one[..., 0], other[..., 0]))
    return float(np.abs(a - b)[at].mean() / b.std())


def test_marked_colour_makes_no_relief_and_no_finish(lichen: tuple[Image, Image, Image]) -> None:
    stone, with_lichen, mask = lichen
    at = mask.pixels[..., 0] > 0.5
    for step, settings, thread in (
        (Height(), HeightSettings(guard=0.0, fill="whole depth"), "height"),
        (Roughness(), RoughnessSettings(), "roughness"),
    ):
        clean = run(step, settings, base=stone)[thread].pixels
        followed = run(step, settings, base=with_lichen)[thread].pixels
        spared = run(step, settings.model_copy(update={"spare": "mark"}), base=with_lichen, mark=mask)[thread].pixels
        assert far(spared, clean, at) < 0.4 * far(followed, clean, at), thread
    assert Height().reads(HeightSettings(spare="mark")) == ("base", "mark")
    assert Height().reads(HeightSettings()) == ("base",)


def test_the_fill_comes_from_around(lichen: tuple[Image, Image, Image]) -> None:
    stone, with_lichen, mask = lichen
    filled = without(with_lichen, mask).pixels
    assert filled.max() < stone.pixels.max() * 1.1
    assert np.array_equal(filled[mask.pixels[..., 0] == 0], with_lichen.pixels[mask.pixels[..., 0] == 0])
    nothing = mask.with_pixels(np.zeros_like(mask.pixels))
    assert without(with_lichen, nothing) is with_lichen
    everything = mask.with_pixels(np.ones_like(mask.pixels))
    assert without(with_lichen, everything) is with_lichen, "with nothing around it, it stays"


@pytest.mark.parametrize(
    ("action", "amount", "low", "high"),
    [("raise", 4.0, -5.0, 9.0), ("lower", 3.0, -8.0, 5.0), ("dome", -2.0, -7.0, 5.0), ("flatten", 4.0, -5.0, 5.0)],
)
def test_the_depth_grows_with_what_is_moulded(action: str, amount: float, low: float, high: float) -> None:
    region = {"kind": "brush", "points": [[0.5, 0.5]], "radius": 0.1}
    mould = StepEntry(step="mould", settings={"action": action, "amount_mm": amount, "regions": [region]})
    weave = Weave(steps=(StepEntry(step="blank"), StepEntry(step="noise", settings={"depth_mm": 10.0}), mould))
    evaluator = Evaluator(OnePicture(None))  # type: ignore[arg-type]
    spec = evaluator.plan(weave).spec("height")
    assert (spec.low, spec.high) == (low, high)
    plane = evaluator.ask(weave, "height", 64).pixels
    assert plane.min() >= spec.low - 1e-3
    assert plane.max() <= spec.high + 1e-3
