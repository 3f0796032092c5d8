"""Curvature, slope, thickness and combined threads against surfaces that are known."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import ndimage

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import IDLE
from silent_loom.core.delivery.profile import of_maps
from silent_loom.core.delivery.shelf import profile
from silent_loom.core.look.meters.seam_meter import seams
from silent_loom.core.steps.maps.curvature import WIDER, Curvature, CurvatureSettings, bulging
from silent_loom.core.steps.maps.normal import from_height
from silent_loom.core.steps.maps.slope import Slope, SlopeSettings
from silent_loom.core.steps.maps.thickness import Thickness, ThicknessSettings
from silent_loom.core.steps.maps.wear import Wear, WearSettings
from silent_loom.core.steps.tone.combine import Combine, CombineSettings
from silent_loom.core.ways.sources import FileSources
from silent_loom.core.weave import registry
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.model import StepEntry, Weave
from tests.conftest import spectrum
from tests.core.maps.test_maps import run

N, MM = 256, 128.0


def height(plane: Floats) -> Image:
    return Image(np.ascontiguousarray(plane, np.float32)[..., None], Kind.DATA, (MM, MM), True)


X = (np.arange(N) + 0.5) * MM / N


@pytest.mark.parametrize("waves", [2, 4, 8])
def test_curvature_of_a_wave_is_what_the_two_gaussians_say(waves: int) -> None:
    k, scale = 2 * np.pi * waves / MM, 8.0
    plane = np.tile(3 * np.cos(k * X), (N, 1))
    found = bulging(height(plane), scale, IDLE)
    sigma = scale / 2
    gain = np.exp(-((k * sigma) ** 2) / 2) - np.exp(-((k * WIDER * sigma) ** 2) / 2)
    assert np.abs(found - gain * plane).max() < 0.02 * 3 * gain + 2e-3
    made = run(Curvature(), CurvatureSettings(scale_mm=scale), height=height(plane))
    signed, cavity, ridge = (made[t].pixels[..., 0] for t in ("curvature", "cavity", "ridge"))
    assert np.allclose(signed, ridge - cavity)
    assert (ridge * cavity == 0).all()
    assert np.corrcoef(signed[0], plane[0])[0, 1] > 0.995, "above zero on crests"
    assert 0.9 < signed.max() <= 1


def test_curvature_is_the_same_at_every_size_and_nothing_where_it_is_flat() -> None:
    plane = spectrum(N, 2.0, 3, keep=0.1)
    small = plane.reshape(N // 2, 2, N // 2, 2).mean((1, 3))
    large, less = (bulging(height(p), 6.0, IDLE) for p in (plane, small))
    assert np.abs(large.reshape(N // 2, 2, N // 2, 2).mean((1, 3)) - less).max() < 0.04 * large.std()
    flat = run(Curvature(), CurvatureSettings(), height=height(np.zeros((N, N))))
    assert (flat["curvature"].pixels == 0).all()


def test_slope_is_the_angle_and_facing_the_lean() -> None:
    n = np.array([np.sin(np.deg2rad(30)), 0, np.cos(np.deg2rad(30))], np.float32)
    image = Image(np.tile(n, (4, 4, 1)), Kind.NORMAL, (MM, MM), True)
    made = run(Slope(), SlopeSettings(toward_deg=0), normal=image)
    assert made["slope"].pixels == pytest.approx(30, abs=1e-4)
    assert made["facing"].pixels == pytest.approx(0.5, abs=1e-6)
    away = run(Slope(), SlopeSettings(toward_deg=180), normal=image)
    assert away["facing"].pixels == pytest.approx(-0.5, abs=1e-6)
    up = run(Slope(), SlopeSettings(), normal=from_height(height(np.tile(np.sin(2 * np.pi * X / MM)[:, None], (1, N)))))
    assert up["facing"].pixels[0, 0, 0] > 0 > up["facing"].pixels[N // 2, 0, 0], "what falls towards the top faces it"


def test_thin_ridges_are_thin_and_flat_ground_is_not() -> None:
    plane = np.zeros((N, N))
    plane[:, 120:126] = 10.0  # three millimetres wide
    plane[:, 10:90] = 10.0  # forty
    made = run(Thickness(), ThicknessSettings(radius_mm=10), height=height(plane))["thickness"].pixels[128, :, 0]
    assert made[50] > 0.95
    assert made[123] < 0.45
    assert made[200] > 0.95
    assert ((made >= 0) & (made <= 1)).all()


def test_two_threads_become_one() -> None:
    a, b = (height(spectrum(N, 1.5, k)) for k in (1, 2))
    inputs = {"moss": a, "stone": b}

    def made(**values: object) -> Floats:
        s = CombineSettings(first="moss", second="stone", into="both", **values)  # type: ignore[arg-type]
        heights = {"first_height": a, "second_height": b} if s.how == "by height" else {}
        pixels: Floats = run(Combine(), s, **inputs, **heights)["both"].pixels
        return pixels

    assert np.allclose(made(share=0.25), 0.75 * a.pixels + 0.25 * b.pixels, atol=1e-6)
    assert np.allclose(made(how="multiply", share=1.0), a.pixels * b.pixels, atol=1e-6)
    assert np.allclose(made(how="lighter", share=1.0), np.maximum(a.pixels, b.pixels), atol=1e-6)
    by_height = {"how": "by height", "first_height": "first_height", "second_height": "second_height"}
    higher = made(soft_mm=0.001, **by_height)
    assert np.abs(higher - np.maximum(a.pixels, b.pixels)).max() < 1e-3
    assert np.allclose(made(soft_mm=0.001, lift_mm=100.0, **by_height), b.pixels, atol=1e-6)


def test_combining_says_what_does_not_fit_and_takes_after_the_first(weave: Weave, evaluator: Evaluator) -> None:
    def of(**values: object) -> Weave:
        return weave.model_copy(update={"steps": (*weave.steps, StepEntry(step="combine", settings=values))})

    error = evaluator.plan(of(first="base", second="height", into="both")).error()
    assert str(error) == "Combine: base colour is colour, and height is plain numbers. Choose other threads."
    both = evaluator.plan(of(first="normal", second="normal", how="combine", into="both"))
    assert both.error() is None
    assert both.spec("both").kind is Kind.NORMAL
    deeper = evaluator.plan(of(first="height", second="height", how="add", share=1.0, into="deeper"))
    assert (deeper.spec("deeper").unit, deeper.spec("deeper").depth) == ("mm", 10.0)
    wrong = evaluator.plan(of(first="roughness", second="roughness", into="base")).error()
    assert "it makes plain numbers of base colour" in str(wrong)
    flat = of(first="normal", second="flat", how="combine", share=1.0, into="normal")
    assert "needs flat" in str(evaluator.plan(flat).error())


def test_a_flat_normal_laid_over_changes_nothing() -> None:
    n = from_height(height(spectrum(N, 1.8, 5) * 2))
    flat = Image(np.tile(np.array([0, 0, 1], np.float32), (N, N, 1)), Kind.NORMAL, (MM, MM), True)
    s = CombineSettings(first="a", second="b", how="combine", share=1.0, into="c")
    assert np.abs(run(Combine(), s, a=n, b=flat)["c"].pixels - n.pixels).max() < 1e-5


def test_maps_are_asked_for_by_name() -> None:
    assert {t: registry.maker(t) for t in ("ridge", "curvature", "thickness", "facing", "height", "moss", "base")} == {
        "ridge": "curvature",
        "curvature": "curvature",
        "thickness": "thickness",
        "facing": "slope",
        "height": "height",
        "moss": None,
        "base": None,
    }
    meanings = {m.name: m for m in Curvature().makes(CurvatureSettings())}
    made = of_maps(profile("plain"), meanings, ["base", "normal", "curvature"])
    assert [f.suffix for f in made.files] == ["basecolor", "normal", "curvature"]
    assert made.files[-1].depth == "16"


def plates(n: int) -> Floats:
    """Four square plates, 2 mm above their joints, with straight edges 1 mm wide."""
    x = (np.arange(n) + 0.5) * MM / n % (MM / 2)
    side = np.clip(np.minimum(x - 6, MM / 2 - 6 - x), 0, 1)
    return np.asarray(2 * np.minimum.outer(side, side), np.float32)


@pytest.mark.parametrize("share", [0.03, 0.12])
def test_worn_edges_are_the_high_ones_and_as_many_as_asked(share: float) -> None:
    made = run(Wear(), WearSettings(share=share, scale_mm=3.0), height=height(plates(N)))["wear"].pixels[..., 0]
    assert abs((made > 0.5).mean() - share) < 0.25 * share
    low, top = plates(N) < 0.5, ndimage.distance_transform_edt(plates(N) > 1.999) * MM / N > 9
    assert made[low].max() < 0.05, "never in a joint"
    assert made[top].max() < 0.05, "never in the middle of a plate"


def test_chance_wears_one_edge_and_spares_another() -> None:
    settings = {"share": 0.03, "scale_mm": 3.0, "grain_mm": 8.0}
    ragged, evenly = (
        run(Wear(), WearSettings(**settings, ragged=r), height=height(plates(N)))["wear"].pixels[..., 0] for r in (1.0, 0.0)
    )
    quarters = [evenly[y : y + N // 2, x : x + N // 2] for y in (0, N // 2) for x in (0, N // 2)]
    assert all(np.abs(q - quarters[0]).max() < 0.2 for q in quarters), "four plates alike without it"
    quarters = [ragged[y : y + N // 2, x : x + N // 2] for y in (0, N // 2) for x in (0, N // 2)]
    assert min(np.abs(q - quarters[0]).max() for q in quarters[1:]) > 0.9


def test_worn_edges_repeat_are_the_same_at_every_size_and_none_where_it_is_flat() -> None:
    weave = Weave(
        steps=(
            StepEntry(step="blank", id="s"),
            StepEntry(step="bonds", id="b"),
            StepEntry(step="wear", id="w", settings={"scale_mm": 16.0}),
        )
    )
    evaluator = Evaluator(FileSources({}))
    large, small = (evaluator.ask(weave, "wear", n).pixels[..., 0] for n in (512, 256))
    across, down = seams(Image(large[..., None], Kind.DATA, (MM, MM), True), search=False)
    assert max(across.figure, down.figure) <= 1.02
    h, w = small.shape
    assert np.corrcoef(large.reshape(h, 2, w, 2).mean((1, 3)).ravel(), small.ravel())[0, 1] > 0.95
    other = weave.model_copy(
        update={"steps": (*weave.steps[:2], StepEntry(step="wear", id="w", settings={"scale_mm": 16.0, "seed": 2}))}
    )
    assert np.abs(evaluator.ask(other, "wear", 256).pixels[..., 0] - small).mean() > 0.01
    flat = height(np.zeros((N, N)))
    assert (run(Wear(), WearSettings(), height=flat)["wear"].pixels == 0).all()
    assert (run(Wear(), WearSettings(share=0.0), height=height(plates(N)))["wear"].pixels == 0).all()
