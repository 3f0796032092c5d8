"""Contrast meter: quiet about untouched repeats, exact about how much a join has lost, and where."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.look.meters.contrast_meter import contrast_kept
from silent_loom.core.look.meters.seam_meter import seams
from silent_loom.core.moving.resample import blur
from silent_loom.core.report import suggest as suggesting
from silent_loom.core.report.suggest import suggest
from tests.conftest import as_colour, spectrum

N = 512


def image(plane: Floats) -> Image:
    return as_colour(plane)


def test_untouched_repeats_have_all_of_it() -> None:
    found = [k.figure for seed in range(8) for k in contrast_kept(image(spectrum(N, 0.8, seed)))]
    assert np.median(found) > 0.97
    assert min(found) > 0.88


def mixed(first: Floats, second: Floats, half: int) -> Floats:
    """The first with a band down its border in which it and the second are one half each."""
    out = first.copy()
    band = np.r_[0:half, N - half : N]
    out[:, band] = 0.5 * (first + second)[:, band]
    return out


def test_a_plain_mean_of_two_pictures_shows() -> None:
    for seed in (1, 2, 3):
        made = mixed(spectrum(N, 0.5, seed), spectrum(N, 0.5, seed + 100), 30)
        x, y = contrast_kept(image(made), reach=(30, 0))
        assert 0.6 < x.figure < 0.82  # the root of a half, in every band
        assert max(x.bands[:3]) < 0.85
        assert y.figure > 0.88


@pytest.mark.parametrize(("sigma", "worst"), [(1.0, 0), (3.0, 1)])
def test_a_blurred_band_shows_where_it_is_and_in_what(sigma: float, worst: int) -> None:
    made = spectrum(N, 0.5, 4)
    soft = blur(np.ascontiguousarray(made[..., None]), sigma, True)[..., 0]
    rows = slice(N // 2 + 10, N // 2 + 10 + N // 6)
    made[rows, :16], made[rows, -16:] = soft[rows, :16], soft[rows, -16:]
    x, _ = contrast_kept(image(made))
    assert x.figure < 0.8
    assert x.bands[0] < 0.8
    assert x.bands[worst] < 0.8
    assert 0.5 < x.place < 0.72
    assert max(s.figure for s in seams(image(made), search=False)) < 1.5  # of which a seam meter sees next to nothing


def test_it_is_told_for_every_kind_and_along_any_path() -> None:
    plane = spectrum(N, 0.5, 6)
    path = (100 + 30 * np.sin(2 * np.pi * np.arange(N) / N)).astype(np.int64)
    soft = blur(np.ascontiguousarray(plane[..., None]), 2.0, True)[..., 0]
    for row, at in enumerate(path):
        plane[row, at - 12 : at + 12] = soft[row, at - 12 : at + 12]
    nowhere = np.full(N, 300, np.int64)
    for kind, channels in ((Kind.DATA, 1), (Kind.NORMAL, 3)):
        pixels = np.repeat(0.1 * plane[..., None], channels, 2).astype(np.float32)
        sheet = Image(pixels, kind, (N, N), True)
        assert contrast_kept(sheet, (path, nowhere))[0].figure < 0.6
        assert contrast_kept(sheet, (path + 200, nowhere))[0].figure > 0.9


def test_a_path_along_quiet_places_is_not_accused() -> None:
    wide = spectrum(N, 0.5, 8)
    quiet = np.ones(N, np.float32)
    quiet[N // 2 - 20 : N // 2 + 20] = 0.3
    plane = wide * quiet[None, :]
    join = np.full(N, N // 2, np.int64), np.zeros(N, np.int64)
    alone = contrast_kept(image(plane), join)[0].figure
    # What was joined: the same, laid over itself by a whole repeat
    laid = image(np.concatenate([plane, plane], 1))
    laid = Image(laid.pixels, Kind.COLOUR, (2000.0, 1000.0), False)
    held = contrast_kept(image(plane), join, pictures=(laid, laid))[0].figure
    assert alone < 0.6
    assert held > 0.95


def test_nothing_and_little_are_no_error() -> None:
    for size in ((8, 8), (40, 12), (3, 200)):
        flat = Image(np.full((*size, 1), 0.5, np.float32), Kind.DATA, (float(size[1]), float(size[0])), True)
        assert [k.figure for k in contrast_kept(flat)] == [1.0, 1.0]


def test_a_join_that_loses_contrast_is_not_suggested_where_another_keeps_it(monkeypatch: pytest.MonkeyPatch) -> None:
    photo = as_colour(spectrum(320, 0.7, 3), wraps=False)
    plain = suggest(photo)
    judged: list[dict[str, Any]] = []

    def kept(_: Image, s: Any, __: Any) -> float:
        judged.append(s.model_dump())
        return 0.3 if s.method == plain.settings["method"] else 1.0

    monkeypatch.setattr(suggesting, "_kept", kept)
    told = suggest(photo)
    assert judged[0]["method"] == plain.settings["method"]
    assert told.settings["method"] != plain.settings["method"]
