"""Bakes: what is foretold, what supersampling and smaller sizes do, refusals before anything is begun."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from silent_loom.core.base.errors import Full, LoomError
from silent_loom.core.base.parallel import Task
from silent_loom.core.delivery.baking.detail import losses
from silent_loom.core.delivery.baking.forecast import check_memory, forecast, memory_for
from silent_loom.core.delivery.baking.makers import How, maker
from silent_loom.core.delivery.proving.proof import prove, verdict
from silent_loom.core.delivery.proving.receiver import apart, looked_at, receive
from silent_loom.core.delivery.shelf import profile
from silent_loom.core.files import write
from silent_loom.core.look.meters.seam_meter import seams
from silent_loom.core.ways.bake import BakeOrder, bake, check_disk
from silent_loom.core.ways.sources import FileSources, digest_of
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.model import SourceRef, StepEntry, Weave


@pytest.fixture(scope="module")
def baked(tmp_path_factory: pytest.TempPathFactory) -> tuple[Evaluator, Weave]:
    """Soft waves of 64 mm and 23 mm, all of them far coarser than a texel: band-limited at every size used here."""
    folder = tmp_path_factory.mktemp("source")
    n = 256
    y, x = (np.mgrid[0:n, 0:n] + 0.5) / n * 2 * np.pi
    light = 0.3 + 0.12 * np.sin(3 * x) * np.cos(2 * y) + 0.08 * np.sin(5 * x + 7 * y)
    write(folder / "waves.png", np.stack([light, light * 0.8, light * 0.5], 2).astype(np.float32), depth="16", colour=True)
    path = folder / "waves.png"
    digest = digest_of(path)
    sources = FileSources(lambda _: (path, path.name, "png"))
    steps = ("height", "normal", "roughness", "metallic", "occlusion")
    rows = (
        StepEntry(step="mapset", settings={"maps": [{"thread": "base", "source": digest}], "width_mm": 200.0}),
        *(StepEntry(step=s) for s in steps),
    )
    ref = SourceRef(name="waves.png", format="png", width=n, height=n, bytes=path.stat().st_size)
    return Evaluator(sources), Weave(steps=rows, sources={digest: ref})


def test_baked_is_live_within_a_code_and_exact_in_floats(baked: tuple[Evaluator, Weave], tmp_path: Path) -> None:
    evaluator, weave = baked
    plan = evaluator.plan(weave)
    for name, bound in (("master", 0.006), ("film", 0.5)):
        bake(evaluator, weave, profile(name), tmp_path / name, "waves", BakeOrder(96))
        got = receive(tmp_path / name).unpacked
        meant = {n: evaluator.ask(weave, n, 96) for n in got.maps}
        for p in prove(got.maps, meant, plan.threads):
            assert p.difference is not None
            exact = 1e-4 if name == "film" and p.map in ("height", "normal") else bound
            assert p.difference.max_code <= exact, (name, p.map, p.difference.max_code)


def test_the_weave_in_the_manifest_is_the_one_that_was_baked(baked: tuple[Evaluator, Weave], tmp_path: Path) -> None:
    evaluator, weave = baked
    manifest = bake(evaluator, weave, profile("plain"), tmp_path / "s", "waves", BakeOrder(64))
    assert Weave.model_validate(manifest["weave"]) == weave


def test_a_large_bake_reduced_is_the_small_bake(baked: tuple[Evaluator, Weave]) -> None:
    evaluator, weave = baked
    small = maker(evaluator, weave, 64, How())
    large = maker(evaluator, weave, 64, How(supersample=2, lost_length=False))
    for name in ("base", "height", "roughness", "metallic", "occlusion"):
        a, b = small(name), large(name)
        span = evaluator.plan(weave).spec(name).depth
        error = float(np.sqrt(np.square((a.pixels - b.pixels) / span).mean()))
        assert error < 0.01, (name, "at least 40 dB", error)
    n, m = small("normal").pixels, large("normal").pixels
    assert np.degrees(np.arccos(np.clip((n * m).sum(2), -1, 1))).mean() < 1
    kept = maker(evaluator, weave, 64, How(supersample=2))
    assert (kept("roughness").pixels >= large("roughness").pixels - 1e-6).all()


def test_a_forecast_tells_what_carries_something(baked: tuple[Evaluator, Weave]) -> None:
    evaluator, weave = baked
    still = weave.model_copy(update={"steps": (*weave.steps, StepEntry(step="opacity"))})
    told = forecast(evaluator, still, profile("plain"), "waves", 512, How())
    states = {m.thread: m.state for m in told.maps}
    assert states["base"] == states["height"] == "carries"
    assert states["metallic"] == "constant"
    assert told.size == [512, 512]
    assert told.source_texels == 256
    assert any("More than the surface carries (about 256 texels)" in w for w in told.words)
    less = forecast(evaluator, still, profile("plain"), "waves", 128, How())
    assert any("nothing is lost from about 256 texels on" in w for w in less.words)
    assert told.seconds > 0


def test_what_is_lost_is_measured_where_it_is(baked: tuple[Evaluator, Weave]) -> None:
    evaluator, weave = baked
    found = {size: losses(evaluator, weave, ["base", "normal"], size) for size in (16, 32, 256)}
    assert found[16].maps[0].share > 4 * found[32].maps[0].share > 0
    assert found[256].maps[0].share == 0
    assert found[16].maps[0].live.shape == (192, 192, 3)


def test_too_large_is_refused_with_what_it_would_need(baked: tuple[Evaluator, Weave], tmp_path: Path) -> None:
    evaluator, weave = baked
    with pytest.raises(LoomError, match=r"16384 × 16384 needs about \d+\.\d GB of memory, and 2\.0 GB may be used"):
        bake(evaluator, weave, profile("plain"), tmp_path / "s", "waves", BakeOrder(16384, memory=2_000_000_000))
    assert not (tmp_path / "s").exists()
    assert memory_for(2048, 2048, 2) > 3.5 * (memory_for(2048, 2048) - memory_for(0, 0))
    check_memory(64, 64, 1, 4 << 30)
    with pytest.raises(Full, match="this bake may need"):
        check_disk(tmp_path, 1 << 60)
    only = profile("plain").model_copy(update={"files": tuple(f for f in profile("plain").files if f.suffix == "opacity")})
    with pytest.raises(LoomError, match="none of the maps"):
        bake(evaluator, weave, only, tmp_path / "s", "waves", BakeOrder(64))


def test_a_crop_to_a_square_repeat_is_closed_again(baked: tuple[Evaluator, Weave], tmp_path: Path) -> None:
    evaluator, weave = baked
    first = weave.steps[0]
    assert isinstance(first, StepEntry)
    wide = first.model_copy(update={"settings": {**first.settings, "width_mm": 200.0}})
    two = StepEntry(step="breakup", settings={"repeat_x": 2, "repeat_y": 1})
    oblong = weave.model_copy(update={"steps": (wide, two, *weave.steps[1:])})
    w, h = evaluator.plan(oblong).geometry.size_mm
    assert w == pytest.approx(2 * h)
    wanted = profile("master").model_copy(update={"square": "crop"})
    manifest = bake(evaluator, oblong, wanted, tmp_path / "s", "waves", BakeOrder(192))
    assert manifest["size"] == [192, 192]
    assert manifest["repeat_mm"] == pytest.approx([0.98 * h, 0.98 * h])
    assert any("cropped to a square repeat" in w for w in manifest["fit"])
    maps = receive(tmp_path / "s").unpacked.maps
    x, y = seams(maps["base"], search=False)
    assert max(x.figure, y.figure) < 1.3


def test_nothing_but_values_is_no_bake(baked: tuple[Evaluator, Weave], tmp_path: Path) -> None:
    evaluator, weave = baked
    only = profile("plain").model_copy(update={"files": tuple(f for f in profile("plain").files if f.suffix == "metallic")})
    with pytest.raises(LoomError, match="no file"):
        bake(evaluator, weave, only, tmp_path / "s", "waves", BakeOrder(64, skip_constant=True))
    assert not (tmp_path / "s").exists()


def test_the_picture_says_who_is_responsible(baked: tuple[Evaluator, Weave], tmp_path: Path) -> None:
    evaluator, weave = baked
    plan = evaluator.plan(weave)
    bake(evaluator, weave, profile("plain"), tmp_path / "s", "waves", BakeOrder(64))
    got = receive(tmp_path / "s")
    meant = {n: evaluator.ask(weave, n, 64) for n in got.unpacked.maps}
    assert verdict(got, meant, plan.threads).same
    darker = {**meant, "base": meant["base"].with_pixels(meant["base"].pixels * np.float32(2))}
    found = verdict(got, darker, plan.threads)
    assert not found.same
    assert found.responsible == "base"
    wrong = next(p for p in found.maps if p.map == "base")
    assert wrong.factor > 1.2
    assert found.picture is not None
    assert found.picture.mean > 5
    live = looked_at(meant, plan.threads)
    assert apart(live, live).max == 0


def test_maps_can_be_left_out_and_limits_are_told_before(baked: tuple[Evaluator, Weave], tmp_path: Path) -> None:
    evaluator, weave = baked
    narrow = profile("plain").model_copy(update={"limits": profile("plain").limits.model_copy(update={"files": 5, "size": 64})})
    all_of_it = forecast(evaluator, weave, narrow, "waves", 64, How())
    assert [line["fits"] for line in all_of_it.limits] == [False, True]
    told = forecast(evaluator, weave, narrow, "waves", 64, How(), leave=("occlusion", "roughness"))
    assert {m.thread for m in told.maps if m.state == "left"} == {"occlusion", "roughness"}
    assert len(told.files) == len(all_of_it.files) - 2
    assert all(line["fits"] for line in told.limits)
    manifest = bake(evaluator, weave, profile("plain"), tmp_path / "s", "waves", BakeOrder(64, leave=("occlusion", "roughness")))
    assert not any("roughness" in f["file"] or "occlusion" in f["file"] for f in manifest["files"])
    warned = next(w for w in manifest["warnings"] if "left out on purpose" in w)
    assert "occlusion, roughness. Set the roughness in the receiver" in warned or "roughness, occlusion. Set" in warned


def test_progress_is_told_by_map_and_by_step(baked: tuple[Evaluator, Weave], tmp_path: Path) -> None:
    evaluator, weave = baked
    said: list[tuple[float, str]] = []
    fresh = Evaluator(evaluator.sources)
    task = Task(lambda fraction, words: said.append((fraction, words)))
    bake(fresh, weave, profile("plain"), tmp_path / "s", "waves", BakeOrder(80), task=task)
    words = [w for _, w in said]
    assert "Normal" in words
    assert "Normal: Normal" in words
    assert any(w.startswith("Height: ") for w in words)
    assert any(w.startswith("writing file") for w in words)
    assert [f for f, _ in said] == sorted(f for f, _ in said), "the bar never goes back"
