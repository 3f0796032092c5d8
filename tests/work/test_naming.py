"""New materials are called by their file, or by what they show."""

from __future__ import annotations

import numpy as np
import pytest

from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.srgb import encode_srgb
from silent_loom.core.files.picture import Picture
from silent_loom.core.files.profile import SRGB
from silent_loom.core.report.likeness import likeness
from silent_loom.work import naming
from silent_loom.work.naming import name_of, says_nothing
from tests.support.varied import photos


@pytest.mark.parametrize("stem", ["IMG_20261130_142233", "photo", "DSCF0041", "PXL_20260101_101500", "image (3)", "2041", ""])
def test_names_that_cameras_give_say_nothing(stem: str) -> None:
    assert says_nothing(stem)


@pytest.mark.parametrize("stem", ["quay wall 2", "slate", "photo of the deck", "scanned sailcloth"])
def test_names_that_people_give_do(stem: str) -> None:
    assert not says_nothing(stem)


def test_a_photo_without_a_name_is_called_by_what_it_shows(monkeypatch: pytest.MonkeyPatch) -> None:
    rng = np.random.default_rng(1)
    light = (np.float32([0.09, 0.16, 0.05]) * (0.6 + 0.8 * rng.random((96, 128, 1)))).astype(np.float32)
    green = Picture(np.rint(255 * encode_srgb(light)).astype(np.uint8), None, SRGB, 8, "png")
    monkeypatch.setattr(naming, "everything_is_there", lambda: True)
    assert name_of("IMG_2041.jpg", green) == "Green grain"
    assert name_of("harbour_lawn.jpg", green) == "Harbour lawn"
    monkeypatch.setattr(naming, "everything_is_there", lambda: False)
    assert name_of("IMG_2041.jpg", green) == "Photo", "nobody waits for kernels to be told a name"


def test_surfaces_are_told_apart_by_their_likeness() -> None:
    told = {m.name: likeness(m.image) for m in photos() if m.name in ("grass", "slate", "brushed", "flakes", "bond", "plaster")}
    assert "Green" in told["grass"]
    assert "courses" in told["slate"]
    assert "one way" in told["brushed"]
    assert "jointed" in told["flakes"]
    assert told["bond"] == "Red-brown courses"
    assert "grey" in told["plaster"]
    assert likeness(Image(np.full((64, 64, 3), 0.02, np.float32), Kind.COLOUR)) == "Black even surface"
