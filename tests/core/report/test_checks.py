"""Checks of maps: what is odd is said, what is not is not."""

from __future__ import annotations

import numpy as np
import pytest

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.report.check import checked, kinds
from silent_loom.core.weave.threads import spec
from tests.conftest import as_colour, spectrum


def data(plane: Floats, wraps: bool = True) -> Image:
    return Image(np.ascontiguousarray(plane, np.float32)[..., None], Kind.DATA, wraps=wraps)


NOISE = spectrum(64, 1.2, 3)
GOOD = data(0.5 + 0.1 * NOISE)


@pytest.mark.parametrize(
    ("thread", "image", "said"),
    [
        ("roughness", GOOD, []),
        ("roughness", data(np.full((64, 64), 0.25)), ["constant 0.25"]),
        ("roughness", data(np.where(NOISE > 1.0, 1.4, 0.5)), ["clipped"]),
        ("roughness", data(0.5 + 0.1 * NOISE, wraps=False), ["not seamless"]),
        ("height", data(2.0 * NOISE), ["clipped"]),
        ("metallic", data((NOISE > 0) * 1.0), []),
        ("metallic", data(0.5 + 0.05 * NOISE), ["% half metal"]),
        ("occlusion", data(np.clip(0.9 + 0.05 * NOISE, 0, 1)), []),
        ("base", as_colour(NOISE), []),
        ("base", Image(as_colour(NOISE).pixels * 0.05, Kind.COLOUR, wraps=True), ["darker than real surfaces"]),
    ],
)
def test_what_is_odd_is_said(thread: str, image: Image, said: list[str]) -> None:
    meaning = spec(thread).over(6.0) if thread == "height" else spec(thread)
    found = checked(image, meaning)
    assert len(found) == len(said), found
    assert all(words in line for words, line in zip(said, found, strict=True))


def test_joins_are_judged_by_the_figures_of_the_sheet() -> None:
    image, base = as_colour(NOISE), spec("base")
    assert checked(image, base, {"seam_x_after": 0.9, "seam_y_after": 0.4, "contrast_x_after": 0.97}) == []
    found = checked(image, base, {"seam_x_after": 0.9, "seam_y_after": 1.42, "contrast_x_after": 0.72})
    assert found == ["seam 1.4, visible above 1", "72 % of its contrast at the join"]
    assert checked(GOOD, spec("roughness"), {"seam_y_after": 9.0}) == [], "a join is said once, at the base colour"


def test_checks_stand_in_an_order_of_their_own() -> None:
    places = [kind.PLACE for kind in kinds()]
    assert places == sorted(set(places))
    assert len(places) >= 6
