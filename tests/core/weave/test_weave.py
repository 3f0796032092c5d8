"""The engine: exactly what depends on a change is computed again, in any order of asking, at any size."""

from __future__ import annotations

import random
import threading
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from silent_loom.core.base.errors import Cancelled, SettingError, WeaveError
from silent_loom.core.base.images import Image, Kind, data
from silent_loom.core.base.parallel import Lane, Rank, Task, over_rows
from silent_loom.core.base.srgb import encode_srgb
from silent_loom.core.files.picture import Picture
from silent_loom.core.moving.resample import resize
from silent_loom.core.steps.maps import metallic
from silent_loom.core.ways.measuring import closing, measure
from silent_loom.core.weave import registry, threads
from silent_loom.core.weave.answers.cache import Cache
from silent_loom.core.weave.answers.evaluate import MOST_TOLD, Costs, Evaluator
from silent_loom.core.weave.answers.mixing import mix, reorient
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.rows.model import StepEntry, Weave
from tests.conftest import DIGEST, OnePicture, spectrum
from tests.core.maps.test_maps import run

MAPS = ("base", "height", "normal", "roughness", "metallic", "occlusion")


def ids(weave: Weave) -> dict[str, str]:
    return {e.step: e.id for e in weave.steps}


CHANGES = {
    "straighten": ({"width_mm": 700.0}, set(MAPS)),
    "light": ({"amount": 0.5}, set(MAPS) - {"metallic"}),  # a constant reads nothing
    "seamless": ({"softness": 0.05}, set(MAPS) - {"metallic"}),
    "tone": ({"brightness": 0.3}, set(MAPS) - {"metallic"}),
    "height": ({"contrast": 20.0}, {"height", "normal", "occlusion"}),
    "normal": ({"strength": 2.0}, {"normal"}),
    "roughness": ({"low": 0.1}, {"roughness"}),
    "metallic": ({"value": 1.0}, {"metallic"}),
    "occlusion": ({"strength": 0.5}, {"occlusion"}),
}


@given(step=st.sampled_from(sorted(CHANGES)))
@settings(max_examples=12, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_a_change_recomputes_exactly_what_depends_on_it(photo: Picture, weave: Weave, step: str) -> None:
    evaluator = Evaluator(OnePicture(photo), decision_size=128)
    evaluator.ask_many(weave, MAPS, 64)
    values, touched = CHANGES[step]
    changed = weave.with_settings(ids(weave)[step], values)
    keys = {m: (evaluator.key(weave, m, 64), evaluator.key(changed, m, 64)) for m in MAPS}
    assert {m for m, (a, b) in keys.items() if a != b} == touched
    evaluator.computed.clear()
    evaluator.ask_many(changed, MAPS, 64)
    names = {e.id: e.step for e in weave.steps}
    order = [e.step for e in weave.steps]
    assert {thread for _, thread in evaluator.computed} & set(MAPS) == touched
    assert all(order.index(names[row]) >= order.index(step) for row, _ in evaluator.computed), "nothing above the change ran"
    evaluator.computed.clear()
    evaluator.ask_many(weave, MAPS, 64)
    assert evaluator.computed == [], "going back costs nothing"


@given(seed=st.integers(0, 1000))
@settings(max_examples=8, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_the_order_of_asking_does_not_matter(photo: Picture, weave: Weave, seed: int) -> None:
    questions = [(m, s) for m in MAPS for s in (48, 96)]
    plain = Evaluator(OnePicture(photo), decision_size=128)
    want = {q: plain.ask(weave, *q).pixels for q in questions}
    mixed = list(questions)
    random.Random(seed).shuffle(mixed)
    other = Evaluator(OnePicture(photo), Cache(1 << 20), decision_size=128)  # so small that most is computed again
    for question in mixed:
        assert np.array_equal(other.ask(weave, *question).pixels, want[question]), question


def psnr(a: np.ndarray, b: np.ndarray, peak: float) -> float:
    return float(10 * np.log10(peak**2 / max(np.square(a - b).mean(), 1e-20)))


def test_twice_the_size_reduced_agrees(photo: Picture, weave: Weave) -> None:
    # A height that the smaller size can hold: the finest features left out
    smooth = weave.with_settings(ids(weave)["height"], {"sizes": [[0.02, 0.0, 0.0], [0.05, 1.0, 0.0], [0.5, 0.4, 0.0]]})
    evaluator = Evaluator(OnePicture(photo))
    metal = smooth.with_settings(ids(weave)["metallic"], {"mode": "by colour", "tolerance": 20.0, "softness": 12.0})
    for size in (256, 300, 512, 1024):
        small, large = evaluator.ask_many(metal, MAPS, size), evaluator.ask_many(metal, MAPS, 2 * size)
        for name in ("base", "height", "metallic"):
            a, b = small[name], resize(large[name], small[name].width, small[name].height)
            peak = 10.0 if name == "height" else 1.0
            assert psnr(a.pixels, b.pixels, peak) >= 40, (name, size)
        n = resize(large["normal"], small["normal"].width, small["normal"].height).pixels
        angle = np.degrees(np.arccos(np.clip((n * small["normal"].pixels).sum(-1), -1, 1)))
        assert np.percentile(angle, 99) < 1, size


def test_larger_masks_of_metal_keep_to_smaller_ones(photo: Picture, weave: Weave, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(metallic, "FINE", 96)  # where sizes begin to differ, 2048 otherwise
    grain = np.random.default_rng(4).normal(0, 12, photo.samples.shape)
    noisy = replace(photo, samples=np.clip(photo.samples + grain, 0, 255).astype(np.uint8))
    evaluator = Evaluator(OnePicture(noisy))
    key = tuple(np.median(encode_srgb(evaluator.ask(weave, "base", 96).pixels), (0, 1)).tolist())
    chosen = {"mode": "by colour", "colour": key, "tolerance": 6.0, "softness": 4.0}
    metal = weave.with_settings(ids(weave)["metallic"], chosen)
    masks = {size: evaluator.ask(metal, "metallic", size) for size in (48, 96, 192, 384, 150, 300)}
    for size in (48, 96, 150, 192):
        small, large = masks[size], masks[2 * size]
        again = resize(large, small.width, small.height)
        if (large.width, large.height) == (2 * small.width, 2 * small.height):
            assert psnr(small.pixels, again.pixels, 1.0) >= 60, size
        assert abs(small.pixels.mean() - large.pixels.mean()) < 2e-3
    # The large one is no enlargement, and by itself would be another mask
    base = {"base": evaluator.ask(metal, "base", 384)}
    alone = run(metallic.Metallic(), metallic.MetallicSettings.model_validate(chosen), **base)["metallic"]
    assert psnr(resize(alone, masks[96].width, masks[96].height).pixels, masks[96].pixels, 1.0) < 30
    fine = masks[384].plane()
    spread = np.abs(fine[::2, ::2] - fine[1::2, 1::2])
    assert (spread > 0.3).mean() > 0.02


def test_cache_stays_within_its_bytes(photo: Picture, weave: Weave) -> None:
    cache = Cache(3 << 20)
    evaluator = Evaluator(OnePicture(photo), cache, decision_size=128)
    for size in (64, 128, 256):
        evaluator.ask_many(weave, MAPS, size)
        assert cache.nbytes <= 3 << 20
        assert cache.nbytes == sum(v.nbytes for v in cache._values.values())


def test_decisions_are_kept_and_used(photo: Picture, weave: Weave) -> None:
    evaluator = Evaluator(OnePicture(photo), decision_size=128)
    first = evaluator.decision(weave, ids(weave)["seamless"])
    evaluator.ask(weave, "base", 64)
    evaluator.ask(weave, "base", 300)
    assert evaluator.decision(weave, ids(weave)["seamless"]) is first
    again = Decision.from_bytes(first.to_bytes())
    assert again.figures == first.figures
    assert np.array_equal(again.arrays["path_x"], first.arrays["path_x"])


def test_a_cancelled_task_stops_and_leaves_nothing_wrong(photo: Picture, weave: Weave) -> None:
    evaluator = Evaluator(OnePicture(photo), decision_size=128)
    task = Task()
    task.cancel()
    with pytest.raises(Cancelled):
        evaluator.ask(weave, "occlusion", 128, task)
    want = Evaluator(OnePicture(photo), decision_size=128).ask(weave, "occlusion", 128)
    assert np.array_equal(evaluator.ask(weave, "occlusion", 128).pixels, want.pixels)


def test_progress_rises_and_names_maps(photo: Picture, weave: Weave) -> None:
    said: list[tuple[float, str]] = []
    Evaluator(OnePicture(photo), decision_size=128).ask_many(
        weave, ["base", "height", "metallic"], 64, Task(lambda f, w: said.append((f, w)))
    )
    assert [w for _, w in said if ": " not in w] == ["Base colour", "Height", "Metallic"]
    assert "Height: Height" in [w for _, w in said], "the step that works on it is named as well"
    assert [f for f, _ in said] == sorted(f for f, _ in said)


def test_an_urgent_task_overtakes_at_a_checkpoint() -> None:
    lane, order = Lane(), []
    job = Task(lane=lane, rank=Rank.JOB)
    waiting = threading.Event()

    def urgent() -> None:
        waiting.set()
        with lane.hold(Task(lane=lane)):
            order.append("urgent")

    with lane.hold(job):
        other = threading.Thread(target=urgent)
        other.start()
        waiting.wait(5)
        while not lane._waiting[Rank.HAND]:
            pass
        over_rows(200, lambda a, b: None, job, least=10)
        order.append("job")
    other.join(5)
    assert order == ["urgent", "job"]


def test_bands_cover_every_row_once() -> None:
    for rows in (1, 7, 31, 32, 33, 100, 1001):
        seen = np.zeros(rows, int)

        def mark(a: int, b: int, seen: np.ndarray = seen) -> None:
            seen[a:b] += 1

        over_rows(rows, mark, least=8, cost=500)
        assert (seen == 1).all()


def test_missing_threads_and_wrong_settings_are_said_at_their_row(evaluator: Evaluator, weave: Weave) -> None:
    normal = weave.first("normal")
    assert normal is not None
    first = weave.model_copy(update={"steps": (normal, *[e for e in weave.steps if e.step != "normal"])})
    plan = evaluator.plan(first)
    assert "height" in str(plan.rows[0].error)
    assert evaluator.ask(first, "base", 32).width == 32, "what does not depend on it still works"
    with pytest.raises(WeaveError, match="which no step above it makes"):
        evaluator.ask(first, "normal", 32)
    with pytest.raises(SettingError, match=r"height\.depth_mm"):
        weave.with_settings(ids(weave)["height"], {"depth_mm": -1})
    with pytest.raises(SettingError, match=r"height\.depht_mm"):
        weave.with_settings(ids(weave)["height"], {"depht_mm": 1})
    with pytest.raises(WeaveError, match="no step called"):
        registry.step("bleach")


def test_switched_off_steps_are_passed_over(evaluator: Evaluator, weave: Weave) -> None:
    seamless = weave.first("seamless")
    assert seamless is not None
    off = weave.with_entry(seamless.model_copy(update={"on": False}))
    image = evaluator.ask(off, "base", 64)
    assert not image.wraps
    assert image.size_mm == (1000, 750)
    assert evaluator.ask(weave, "base", 64).wraps


def test_sizes_follow_from_the_sheet(evaluator: Evaluator, weave: Weave) -> None:
    changed = weave.with_settings(ids(weave)["seamless"], {"overlap_x": 0.2, "overlap_y": 0.1})
    image = evaluator.ask(changed, "base", 320)
    assert image.size_mm == pytest.approx((800, 675))
    assert (image.width, image.height) == (320, 270)


def test_mask_and_amount_are_the_engines(evaluator: Evaluator, weave: Weave) -> None:
    tone = weave.first("tone")
    assert tone is not None
    bright = weave.with_settings(tone.id, {"brightness": 1.0})
    plain, full = evaluator.ask(weave, "base", 64).pixels, evaluator.ask(bright, "base", 64).pixels
    half = bright.with_entry(bright.entry(tone.id).model_copy(update={"amount": 0.25}))
    assert np.allclose(evaluator.ask(half, "base", 64).pixels, plain + 0.25 * (full - plain), atol=1e-6)
    # The same step at the end, limited to where the roughness map says
    last = StepEntry(step="tone", settings={"brightness": 1.0}, mask="roughness")
    masked = weave.model_copy(update={"steps": (*weave.steps, last)})
    rough = evaluator.ask(weave, "roughness", 64).pixels
    assert np.allclose(evaluator.ask(masked, "base", 64).pixels, plain + rough * (full - plain), atol=1e-5)


@pytest.mark.parametrize(
    ("mode", "want"),
    [
        ("replace", 0.6),
        ("multiply", 0.18),
        ("add", 0.9),
        ("subtract", -0.3),
        ("lighter", 0.6),
        ("darker", 0.3),
        ("screen", 0.72),
        ("overlay", 0.36),
    ],
)
def test_mix_modes_on_numbers(mode: str, want: float) -> None:
    sheet = Image(np.zeros((2, 2, 1), np.float32), Kind.DATA)
    a, b = data(np.full((2, 2), 0.3, np.float32), sheet), data(np.full((2, 2), 0.6, np.float32), sheet)
    assert mix(a, b, mode, 1.0, None).pixels == pytest.approx(want, abs=1e-6)
    assert mix(a, b, mode, 0.0, None).pixels == pytest.approx(0.3, abs=1e-6)


def test_ids_are_chosen_and_normals_stay_unit() -> None:
    rng = np.random.default_rng(0)
    one, two = (Image(rng.integers(0, 9, (8, 8, 1)).astype(np.float32), Kind.ID) for _ in range(2))
    mixed = mix(one, two, "add", 0.7, None).pixels
    assert np.isin(mixed, np.r_[one.pixels.ravel(), two.pixels.ravel()]).all()
    v = rng.normal(size=(2, 8, 8, 3)).astype(np.float32)
    v[..., 2] = np.abs(v[..., 2]) + 0.5
    v /= np.linalg.norm(v, axis=-1, keepdims=True)
    for mode in ("replace", "combine", "add", "multiply"):
        n = mix(Image(v[0], Kind.NORMAL), Image(v[1], Kind.NORMAL), mode, 0.4, None).pixels
        assert np.abs(np.linalg.norm(n, axis=-1) - 1).max() < 1e-5


def test_reoriented_normals_leave_flat_ones_alone() -> None:
    flat = np.zeros((4, 4, 3), np.float32)
    flat[..., 2] = 1
    n = np.random.default_rng(1).normal(size=(4, 4, 3)).astype(np.float32)
    n[..., 2] = np.abs(n[..., 2]) + 1
    n /= np.linalg.norm(n, axis=-1, keepdims=True)
    assert np.abs(reorient(flat, n) - n).max() < 1e-6
    assert np.abs(reorient(n, flat) - n).max() < 1e-6


def test_saved_form_round_trips_and_refuses_what_it_does_not_know(weave: Weave) -> None:
    assert Weave.model_validate_json(weave.model_dump_json()) == weave
    for wrong in ('{"schema_version": 2}', '{"steps": [{"step": "tone", "colour": 1}]}', '{"steps": 3}'):
        with pytest.raises(ValueError):
            Weave.model_validate_json(wrong)


def test_every_step_is_declared_in_full() -> None:
    found = registry.steps()
    assert {"photo", "straighten", "light", "seamless", "height", "normal", "roughness", "metallic", "occlusion", "tone"} <= set(
        found
    )
    for step in found.values():
        assert step.title
        assert step.sentence.endswith(".")
        assert type(step).__doc__
        for name, info in step.Settings.model_fields.items():
            assert info.description, f"{step.name}.{name} has no sentence"
            assert isinstance(info.json_schema_extra, dict)
        step.Settings()  # defaults are valid


def test_neutral_threads_have_their_kind() -> None:
    for name in (*MAPS, "opacity", "any_mask"):
        image = threads.neutral(threads.spec(name), 4, 3, (10, 20), True)
        assert (image.width, image.height, image.kind) == (4, 3, threads.spec(name).kind)


def test_alpha_of_a_photo_becomes_the_opacity_thread(photo: Picture, weave: Weave) -> None:
    alpha = np.zeros(photo.samples.shape[:2], np.uint8)
    alpha[:, :320] = 255
    evaluator = Evaluator(OnePicture(replace(photo, alpha=alpha)), decision_size=128)
    kept = weave.with_settings(ids(weave)["photo"], {"alpha": "keep"})
    assert "opacity" not in evaluator.plan(weave).threads
    seamless = kept.first("seamless")
    assert seamless is not None
    off = kept.with_entry(seamless.model_copy(update={"on": False}))
    opacity = evaluator.ask(off, "opacity", 64).plane()
    assert opacity[:, :30].min() > 0.99
    assert opacity[:, 34:].max() < 0.01


def test_unknown_source_is_a_clear_error(weave: Weave) -> None:
    from silent_loom.core.ways.sources import FileSources

    def nothing(digest: str) -> tuple[object, str, str]:
        raise KeyError(digest)

    with pytest.raises(WeaveError, match="photo behind this material is missing"):
        FileSources(nothing).picture(DIGEST)  # type: ignore[arg-type]


def test_spectrum_helper_is_periodic() -> None:
    a = spectrum(64, 1.5, 1)
    inside = np.abs(np.diff(a, axis=1)).mean()
    assert np.abs(a[:, 0] - a[:, -1]).mean() < 1.5 * inside


def test_a_passing_answer_asks_for_no_more_than_it_may(photo: Picture, weave: Weave) -> None:
    metal = weave.with_settings(ids(weave)["metallic"], {"mode": "by colour", "tolerance": 20.0, "softness": 12.0})
    quick, exact = Evaluator(OnePicture(photo), decision_size=128, finer=2), Evaluator(OnePicture(photo), decision_size=128)
    for m in MAPS:
        same = np.array_equal(quick.ask(metal, m, 64).pixels, exact.ask(metal, m, 64).pixels)
        assert same == (m != "metallic"), m
    assert quick.key(metal, "metallic", 64) != exact.key(metal, "metallic", 64), "they are never taken for each other"
    assert psnr(quick.ask(metal, "metallic", 64).pixels, exact.ask(metal, "metallic", 64).pixels, 1.0) > 15
    widest = {key: max(v.width, v.height) for key, v in quick.cache._values.items() if isinstance(v, Image)}
    assert max(widest.values()) <= 2 * 64 + 64, "nothing was made at more than twice the size and its overlap"


def test_what_came_in_is_at_the_pitch_of_what_it_is_held_against(photo: Picture, weave: Weave) -> None:
    """Metal by colour looks at a finer base colour than was asked for; figures of base colour are none of its business."""
    evaluator = Evaluator(OnePicture(photo), decision_size=128)
    metal = weave.with_settings(ids(weave)["metallic"], {"mode": "by colour", "tolerance": 20.0, "softness": 12.0})
    for each in (weave, metal):
        finished = evaluator.ask(each, "base", 96)
        known = closing(evaluator, each, 96)
        assert known is not None
        s, _, coming = known
        assert coming.width * (1 - s.overlap_x) == pytest.approx(finished.width, abs=1)
        assert coming.height * (1 - s.overlap_y) == pytest.approx(finished.height, abs=1)
    same = (measure(evaluator, each, 96) for each in (weave, metal))
    assert next(same) == next(same)


def test_costs_may_be_told_while_they_grow() -> None:
    costs, stop = Costs(), threading.Event()

    def add() -> None:
        n = 0
        while not stop.is_set() and n < 100_000:
            costs.put(f"step:{n}", 1.0)
            n += 1

    adding = threading.Thread(target=add)
    adding.start()
    try:
        while adding.is_alive():
            assert all(spent == 1.0 for _, spent in costs.told())
    finally:
        stop.set()
        adding.join()
    assert len(costs.told()) == MOST_TOLD, "a server may run for weeks"
    assert costs.told()[-1][0] == "step:99999"


def test_what_several_maps_need_is_computed_once_however_small_the_cache(photo: Picture, weave: Weave) -> None:
    names = ("base", "height", "normal", "roughness", "occlusion")
    evaluator = Evaluator(OnePicture(photo), Cache(1), decision_size=64)  # nothing fits
    with evaluator.holding(weave, names, 96):
        evaluator.decision(weave, weave.first("seamless").id)  # type: ignore[union-attr]
        evaluator.computed.clear()
        for name in names:
            evaluator.ask(weave, name, 96)
        rows = {e.id: e.step for e in weave.steps}
        done = [(rows[row], thread) for row, thread in evaluator.computed]
        assert done.count(("tone", "base")) <= 1
        assert done.count(("height", "height")) == 1
    assert evaluator.cache.nbytes == 0
    assert len(evaluator.cache) == 0, "what was held is let go"


def test_what_no_map_needs_any_more_is_let_go_at_once(photo: Picture, weave: Weave) -> None:
    names = ("base", "height", "normal", "roughness", "occlusion")

    def run(told: bool) -> tuple[dict[str, int], list[tuple[str, str]]]:
        evaluator, left = Evaluator(OnePicture(photo), Cache(1), decision_size=64), {}
        with evaluator.holding(weave, names, 96) as kept:
            evaluator.decision(weave, weave.first("seamless").id)  # type: ignore[union-attr]
            evaluator.computed.clear()
            for name in names:
                evaluator.ask(weave, name, 96)
                if told:
                    kept.made(name)
                    kept.made(name)  # saying so twice does no harm
                left[name] = evaluator.cache.held_bytes
        return left, sorted(evaluator.computed)

    (plain, done), (less, same) = run(False), run(True)
    assert done == same, "nothing is computed anew"
    assert plain["occlusion"] > 0
    assert less["occlusion"] == 0, "the last map needs nothing any more"
    assert less["roughness"] < plain["roughness"]


def test_held_values_come_back_into_the_bound(photo: Picture) -> None:
    image = Image(np.zeros((8, 8, 3), np.float32), Kind.COLOUR)
    cache = Cache(2 * image.nbytes)
    cache.hold(["a", "b"])
    for key in "abcd":
        cache.put(key, image)
    assert all(k in cache for k in "abcd")
    cache.release(["a", "b"])
    assert cache.nbytes <= cache.max_bytes
    assert cache.get("a") is not None or cache.get("b") is not None


def test_a_row_that_does_nothing_is_told_what_comes_into_it(evaluator: Evaluator, weave: Weave) -> None:
    tone = weave.first("tone")
    assert tone is not None
    assert "tone" not in {r.step.name for r in evaluator.plan(weave).rows}, "it is idle"
    coming = evaluator.coming_in(weave, tone.id, "base", 64)
    assert np.array_equal(coming.pixels, evaluator.ask(weave, "base", 64).pixels)
    off = weave.with_entry(weave.first("height").model_copy(update={"on": False}))  # type: ignore[union-attr]
    assert evaluator.coming_in(off, off.first("height").id, "base", 64).width == coming.width  # type: ignore[union-attr]
