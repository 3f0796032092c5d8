"""Read from light: threads in their units at any size, what takes them, and what stands in where they are missing."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import cv2
import numpy as np
import pytest

from silent_loom.core.base.images import Floats, Image, Kind, data
from silent_loom.core.base.parallel import IDLE
from silent_loom.core.reading.network import BANDS, OUTPUTS
from silent_loom.core.reading.windows import SIDE
from silent_loom.core.steps.maps.height import Height, HeightSettings
from silent_loom.core.steps.maps.normal import Normal, NormalSettings, from_height
from silent_loom.core.steps.maps.occlusion import Occlusion, OcclusionSettings
from silent_loom.core.steps.maps.roughness import Roughness, RoughnessSettings
from silent_loom.core.steps.photo import reading
from silent_loom.core.steps.photo.reading import FINISH, LIGHT, OPEN, RELIEF, SLOPES, SURE, ReadFromLight, ReadingSettings
from silent_loom.core.steps.photo.unlit import ColourWithoutLight, UnlitSettings
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.step import Geometry, MapStep, Sheet
from tests.core.reading.test_windows import photo


def bright_is_high(window: Floats) -> Floats:
    """Stands in for the network: lightness by feature size, and surer on the bright side."""
    out = np.zeros((len(OUTPUTS), SIDE, SIDE), np.float32)
    for k, (a, b) in enumerate(BANDS):
        soft = [cv2.GaussianBlur(window[0], (0, 0), s, borderType=cv2.BORDER_REFLECT) for s in (a, b)]
        out[OUTPUTS.index("fine") + k] = (soft[0] - soft[1]) / b
    out[OUTPUTS.index("shading")] = 0.3 * window[0]
    out[OUTPUTS.index("occlusion")] = 0.8
    out[OUTPUTS.index("roughness")] = 0.37
    out[OUTPUTS.index("unsure_slope")] = -3 - 5 * np.tanh(3 * window[0])
    return out


@pytest.fixture(autouse=True)
def _stand_in(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(reading, "shipped", lambda: bright_is_high)


def picture(side: int = 256, mm: float = 256.0) -> Image:
    return Image(photo(side, side), Kind.COLOUR, (mm, mm), True)


def ran(step: MapStep[Any], settings: Any, inputs: Mapping[str, Image], decision: Decision | None = None) -> dict[str, Image]:
    image = next(iter(inputs.values()))
    geometry = Geometry(image.size_mm, image.wraps)
    told = decision if decision is not None else step.decide(settings, inputs, geometry, IDLE)
    sheet = Sheet(geometry, geometry, (image.width, image.height), None)  # type: ignore[arg-type]
    return step.run(settings, inputs, told, sheet, IDLE)


def test_it_makes_what_it_says() -> None:
    step, s = ReadFromLight(), ReadingSettings()
    made = ran(step, s, {"base": picture()})
    assert set(made) == set(step.writes(s)) == {t.name for t in step.makes(s)}
    for spec in step.makes(s):
        assert made[spec.name].kind is spec.kind
        assert made[spec.name].pixels.shape == (256, 256, len(spec.neutral))
    assert np.allclose(np.linalg.norm(made[SLOPES].pixels, axis=-1), 1, atol=1e-4)
    assert made[FINISH].plane() == pytest.approx(0.37, abs=1e-3)


def test_relief_is_in_millimetres_of_the_surface() -> None:
    small, large = (ran(ReadFromLight(), ReadingSettings(), {"base": picture(mm=mm)})[RELIEF].plane() for mm in (256.0, 512.0))
    assert np.abs(large - 2 * small).max() < 1e-3 * np.ptp(large), "twice as wide, so twice as deep"


def test_other_sizes_are_the_same_reading() -> None:
    step, s = ReadFromLight(), ReadingSettings()
    whole = picture(256)
    decision = step.decide(s, {"base": whole}, Geometry(whole.size_mm, True), IDLE)
    large, small = (ran(step, s, {"base": picture(n)}, decision) for n in (512, 128))
    for name in (RELIEF, LIGHT, OPEN, SURE):
        reduced = cv2.resize(large[name].plane(), (128, 128), interpolation=cv2.INTER_AREA)
        off = np.sqrt(np.square(reduced - small[name].plane()).mean())
        assert 20 * np.log10(max(np.ptp(reduced), 0.1) / max(off, 1e-9)) > 40, name


def test_the_relief_is_gentle_where_the_reading_is_unsure() -> None:
    sure = ran(ReadFromLight(), ReadingSettings(gentle=0), {"base": picture()})
    gentle = ran(ReadFromLight(), ReadingSettings(gentle=1), {"base": picture()})
    assert 0 < gentle[RELIEF].plane().std() < 0.8 * sure[RELIEF].plane().std()
    assert sure[SURE].plane().min() < 0.1 < 0.9 < sure[SURE].plane().max()


def test_an_even_picture_has_no_relief() -> None:
    even = Image(np.full((128, 128, 3), 0.3, np.float32), Kind.COLOUR, (128.0, 128.0), True)
    made = ran(ReadFromLight(), ReadingSettings(), {"base": even})
    assert np.abs(made[RELIEF].plane()).max() < 1e-3
    assert made[LIGHT].plane() == pytest.approx(0.5, abs=1e-3)


AS_READ = {"relief": RELIEF, "fill": "as read", "sizes": ((0.01, 1.0, 1.0), (0.5, 1.0, 1.0)), "depth_mm": 100.0}


def test_height_takes_the_relief_as_it_was_read() -> None:
    threads = {"base": picture()} | ran(ReadFromLight(), ReadingSettings(), {"base": picture()})
    height = ran(Height(), HeightSettings(**AS_READ), threads)["height"].plane()
    read = threads[RELIEF].plane()
    assert np.corrcoef(height.ravel(), read.ravel())[0, 1] > 0.999
    assert height.std() == pytest.approx(read.std(), rel=0.02), "in millimetres, and no deeper"
    shallow = ran(Height(), HeightSettings(**{**AS_READ, "depth_mm": 0.5}), threads)["height"].plane()
    assert np.ptp(shallow) < 0.5, "at most the depth"


def test_feature_sizes_weigh_light_against_brightness() -> None:
    dark = picture()
    threads = {"base": dark, RELIEF: data(-np.log(dark.pixels[..., 1]), dark)}
    by_light, by_brightness = (
        ran(Height(), HeightSettings(**{**AS_READ, "sizes": ((0.1, 1.0, share),)}), threads)["height"].plane()
        for share in (1.0, 0.0)
    )
    assert np.corrcoef(by_light.ravel(), by_brightness.ravel())[0, 1] < -0.8, "here what is dark is high by light"


def test_without_a_reading_height_goes_by_brightness() -> None:
    threads = {"base": picture()}
    told = ran(Height(), HeightSettings(**AS_READ), threads)["height"]
    plain = ran(Height(), HeightSettings(**{**AS_READ, "relief": "none", "fill": "by contrast"}), threads)["height"]
    assert np.array_equal(told.pixels, plain.pixels)


def test_colour_without_light_is_the_colour() -> None:
    rng = np.random.default_rng(1)
    colour = np.tile(np.float32([0.5, 0.3, 0.2]), (128, 128, 1))
    light = np.clip(cv2.GaussianBlur(rng.uniform(0, 2, (128, 128)).astype(np.float32), (0, 0), 4) * 3 - 2.2, 0.3, 1.6)
    lit = Image(colour * light[..., None], Kind.COLOUR, (128.0, 128.0), True)
    threads = {"base": lit, LIGHT: data(0.5 * light, lit)}
    out = ran(ColourWithoutLight(), UnlitSettings(), threads)["base"].pixels
    assert np.log(out[..., 0]).std() < 1e-3, "nothing of the light is left"
    assert out.mean() == pytest.approx(lit.pixels.mean(), rel=1e-3), "as bright as before"
    assert np.allclose(out[..., 0] / out[..., 1], 5 / 3, rtol=1e-3)


def test_shadows_in_which_nothing_was_seen_are_filled_from_around() -> None:
    colour = np.tile(np.float32([0.5, 0.3, 0.2]), (128, 128, 1))
    light = np.ones((128, 128), np.float32)
    light[60:66, 60:66] = 0.02
    seen = np.maximum(colour * light[..., None], 0.02)  # a sensor sees no less
    lit = Image(seen, Kind.COLOUR, (128.0, 128.0), True)
    threads = {"base": lit, LIGHT: data(0.5 * light, lit)}
    filled = ran(ColourWithoutLight(), UnlitSettings(reach=0.05), threads)["base"].pixels[63, 63]
    raw = ran(ColourWithoutLight(), UnlitSettings(fill=0), threads)["base"].pixels[63, 63]
    want = ran(ColourWithoutLight(), UnlitSettings(reach=0.05), threads)["base"].pixels[10, 10]
    assert np.abs(filled / want - 1).max() < 0.02
    assert np.abs(raw / want - 1).max() > 0.5, "dividing alone brings up what was not seen"


def test_roughness_and_occlusion_take_what_was_read() -> None:
    base = picture(128, 128.0)
    plane = np.zeros((128, 128), np.float32)
    threads = {
        "base": base,
        "height": data(plane, base),
        FINISH: data(plane + 0.37, base),
        OPEN: data(plane + 0.6, base),
        SURE: data(np.tile(np.linspace(0, 1, 128, dtype=np.float32), (128, 1)), base),
    }
    assert ran(Roughness(), RoughnessSettings(read=FINISH), threads)["roughness"].plane() == pytest.approx(0.37, abs=1e-5)
    seen = ran(Occlusion(), OcclusionSettings(read=OPEN), threads)["occlusion"].plane()
    assert seen[:, 0] == pytest.approx(0.6, abs=0.01), "where the height is not sure"
    assert seen[:, -1] == pytest.approx(1.0, abs=0.01), "a plane sees all of the sky"
    alone = {k: v for k, v in threads.items() if k not in (FINISH, OPEN, SURE)}
    assert ran(Occlusion(), OcclusionSettings(read=OPEN), alone)["occlusion"].plane() == pytest.approx(1.0, abs=0.01)
    assert ran(Roughness(), RoughnessSettings(read=FINISH), alone)["roughness"].plane().std() > 0.01


def test_the_finest_slopes_are_those_that_were_read_and_no_others() -> None:
    y, x = np.mgrid[:128, :128].astype(np.float32)
    fine, broad = (a * np.sin(2 * np.pi * n * x / 128 + n) for a, n in ((0.6, 32), (8.0, 2)))
    base = picture(128, 128.0)
    read = from_height(data((fine - broad).astype(np.float32), base))  # its broad part is wrong
    threads = {"height": data((broad + 0 * y).astype(np.float32), base), "slopes": read}
    made = ran(Normal(), NormalSettings(slopes="slopes", finer=0.05), threads)["normal"].pixels
    want = from_height(data((fine + broad).astype(np.float32), base)).pixels
    assert np.degrees(np.arccos(np.clip((made * want).sum(-1), -1, 1))).mean() < 1.0
    alone = {"height": threads["height"]}
    plain = from_height(threads["height"]).pixels
    assert np.array_equal(ran(Normal(), NormalSettings(slopes="slopes"), alone)["normal"].pixels, plain)
