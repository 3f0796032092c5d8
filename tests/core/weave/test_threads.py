"""Threads as data: kinds, ranges, who may read what, and how every kind is carried."""

from __future__ import annotations

import importlib
from pathlib import Path

import numpy as np
import pytest

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.parallel import IDLE
from silent_loom.core.files.picture import Picture
from silent_loom.core.screen.display import label_colours, rgba, shown
from silent_loom.core.weave import registry, threads
from silent_loom.core.weave.answers.carrying import carried
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.answers.mixing import mix
from silent_loom.core.weave.rows.model import StepEntry, Weave
from silent_loom.core.weave.step import ABLE, CarryStep, Geometry, Sheet
from tests.conftest import OnePicture, as_colour, spectrum

NEW_STEP = '''
"""Moss."""

from silent_loom.core.base.images import Image
from silent_loom.core.weave import threads
from silent_loom.core.weave.settings import Settings, setting
from silent_loom.core.weave.step import MapStep


class MossSettings(Settings):
    amount: float = setting(0.5, "How much moss there is.", low=0, high=1, step=0.01)


class Moss(MapStep[MossSettings]):
    name = "moss_on_stone"
    title = "Moss on stone"
    sentence = "Lays moss over the surface."
    words_for_it = ("green",)
    Settings = MossSettings

    def writes(self, s):
        return ("moss",)

    def makes(self, s):
        return (threads.helper("moss", title="Moss cover", low=0.0, high=2.0),)

    def run(self, s, inputs, decision, sheet, task):
        return {"moss": sheet.flat("moss", s.amount)}
'''


@pytest.fixture
def moss(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A new step in a sub-folder of a family: one file, and nothing else edited."""
    folder = tmp_path / "plants"
    folder.mkdir()
    (folder / "__init__.py").write_text("")
    (folder / "moss.py").write_text(NEW_STEP)
    maps = importlib.import_module("silent_loom.core.steps.maps")
    monkeypatch.setattr(maps, "__path__", [*maps.__path__, str(tmp_path)])
    registry.steps.cache_clear()
    yield  # type: ignore[misc]
    registry.steps.cache_clear()


def test_a_new_step_with_a_helper_thread_is_one_file(moss: None, weave: Weave, evaluator: Evaluator) -> None:
    from silent_loom.core.ways.starting import settings_from
    from silent_loom.web import describe

    describe.steps.cache_clear()
    try:
        told = next(s for s in describe.steps() if s["name"] == "moss_on_stone")
    finally:
        describe.steps.cache_clear()
    assert (told["family"], told["words"], told["fields"][0]["says"]) == ("Maps", ["green"], "How much moss there is.")
    assert settings_from(["moss_on_stone.amount=0.25"]) == {"moss_on_stone": {"amount": 0.25}}
    masked = StepEntry(step="tone", settings={"brightness": 1.0}, mask="moss")  # type: ignore[arg-type]
    made = weave.model_copy(update={"steps": (*weave.steps, StepEntry(step="moss_on_stone"), masked)})
    drawn = describe.weave(made, evaluator.plan(made), evaluator.costs)
    thread = next(t for t in drawn["threads"] if t["name"] == "moss")
    assert (thread["title"], thread["dye"], thread["high"], thread["masks"]) == ("Moss cover", "helper", 2.0, True)
    assert drawn["rows"][-2]["knots"] == {"moss": "writes"}
    assert drawn["rows"][-1]["knots"] == {"base": "both", "moss": "reads"}
    half = evaluator.ask(made, "base", 16).pixels / evaluator.ask(weave, "base", 16).pixels
    assert np.allclose(half, 1.5, atol=1e-3), "one stop more where there is moss, and there is half of it"
    assert (rgba(evaluator.ask(made, "moss", 16), evaluator.meaning(made, "moss"))[..., :3] == 64).all(), "over its own range"


def test_a_thread_of_the_wrong_kind_is_refused_in_a_sentence(weave: Weave, evaluator: Evaluator) -> None:
    def said(step: str, **values: object) -> str:
        return str(
            evaluator.plan(weave.model_copy(update={"steps": (*weave.steps, StepEntry(step=step, settings=values))})).error()
        )

    assert said("occlusion", reads_from="base") == (
        "Occlusion: made from takes plain numbers, and base colour is colour. Choose another thread."
    )
    assert "takes colour, and height is plain numbers" in said("metallic", mode="by colour", reads_from="height")
    assert "it makes plain numbers of base colour, which is colour" in said("single", thread="height", name="base")
    assert "needs moss, which no step above it makes" in said("tone", thread="moss", brightness=1.0)
    assert said("roughness", reads_from="height") == "None"


def test_any_step_reads_any_fitting_thread(weave: Weave, evaluator: Evaluator) -> None:
    steps = (
        StepEntry(step="single", settings={"thread": "normal", "channel": "second", "name": "facing"}),
        StepEntry(step="roughness", settings={"reads_from": "facing", "low": 0.0, "high": 1.0, "invert": False, "local": 1.0}),
        StepEntry(step="height", settings={"reads_from": "facing", "depth_mm": 4.0}),
    )
    made = weave.model_copy(update={"steps": (*weave.steps, *steps)})
    normal, facing = (evaluator.ask(made, t, 64).pixels for t in ("normal", "facing"))
    assert np.allclose(facing[..., 0], normal[..., 1] * 0.5 + 0.5, atol=1e-6)
    rough = evaluator.ask(made, "roughness", 64).pixels[..., 0]
    assert np.corrcoef(rough.ravel(), facing.ravel())[0, 1] > 0.99
    assert evaluator.meaning(made, "height").depth == 4.0
    evaluator.computed.clear()
    constant = weave.with_settings(weave.first("roughness").id, {"reads_from": "constant", "high": 0.3})  # type: ignore[union-attr]
    assert np.unique(evaluator.ask(constant, "roughness", 48).pixels).tolist() == [np.float32(0.3)]
    assert {thread for _, thread in evaluator.computed} == {"roughness"}, "nothing that it does not read is made"


def test_a_step_that_is_not_there_any_more_is_said_and_the_rest_works(weave: Weave, evaluator: Evaluator) -> None:
    from silent_loom.web import describe

    odd = StepEntry(step="gilding", settings={"leaf": "gold"})
    made = weave.model_copy(update={"steps": (*weave.steps[:5], odd, *weave.steps[5:])})
    error = evaluator.plan(made).error()
    assert isinstance(error, WeaveError)
    assert "no step called 'gilding'" in str(error)
    assert evaluator.ask(made, "normal", 32).width == 32
    row = describe.weave(made, evaluator.plan(made), evaluator.costs)["rows"][5]
    assert (row["title"], row["known"], row["settings"]) == ("gilding", False, {"leaf": "gold"})


def test_ranges_are_declared_by_whoever_makes_a_thread(weave: Weave, evaluator: Evaluator) -> None:
    deep = weave.with_settings(weave.first("height").id, {"depth_mm": 25.0})  # type: ignore[union-attr]
    plan = evaluator.plan(deep)
    assert (plan.spec("height").low, plan.spec("height").high) == (-12.5, 12.5)
    shallow = StepEntry(step="height", settings={"depth_mm": 2.0}, amount=0.5)
    both = deep.model_copy(update={"steps": (*deep.steps, shallow)})
    assert evaluator.plan(both).spec("height").depth == 25, "half of each is there: the range of both"
    whole = deep.model_copy(update={"steps": (*deep.steps, shallow.model_copy(update={"amount": 1.0}))})
    assert evaluator.plan(whole).spec("height").depth == 2
    assert evaluator.meaning(whole, "height", below=deep.first("height").id).depth == 25  # type: ignore[union-attr]
    assert threads.spec("height").depth == 10
    assert evaluator.plan(Weave()).spec("height").depth == 10


MOVES = {
    "straighten": {"corners": [[0.05, 0.02], [0.97, 0.06], [0.94, 0.98], [0.03, 0.95]]},
    "seamless": {},
    "breakup": {"turns": "quarters"},
    "repair": {"layers": [{"threads": "all", "strokes": [{"points": [[300, 300, 1]], "radius_mm": 90, "offset_mm": [200, 50]}]}]},
    "clean": {"regions": [{"kind": "brush", "points": [[0.4, 0.4]], "radius": 0.05}]},
}


@pytest.mark.parametrize("name", sorted(MOVES))
def test_directions_turn_as_normals_do_and_packed_channels_stay_apart(name: str) -> None:
    step = registry.step(name)
    assert isinstance(step, CarryStep)
    s = registry.settings_of(name, MOVES[name])
    n = 192
    wraps = name in ("breakup", "repair", "clean")
    slopes = np.stack([spectrum(n, 1.5, 1), spectrum(n, 1.5, 2)], -1) * 0.3
    up = np.concatenate([-slopes, np.ones((n, n, 1), np.float32)], -1)
    normal = Image((up / np.linalg.norm(up, axis=2, keepdims=True)).astype(np.float32), Kind.NORMAL, (1000.0, 1000.0), wraps)
    flow = Image(np.ascontiguousarray(slopes, np.float32), Kind.VECTOR, (1000.0, 1000.0), wraps)
    planes = np.stack([spectrum(n, 1.5, k) for k in range(3, 8)], -1)
    packed = Image(planes, Kind.CHANNELS, (1000.0, 1000.0), wraps)
    base = as_colour(spectrum(n, 1.2, 9), wraps=wraps)
    before = Geometry((1000.0, 1000.0), wraps, (n, n))
    after = step.geometry(s, before, None)  # type: ignore[arg-type]
    decision = step.decide(s, {"base": base}, before, IDLE)
    texels = after.at_longer_side(n if name != "seamless" else round(n * 0.8))
    sheet = Sheet(before, after, (float(texels[0]), float(texels[1])), None)  # type: ignore[arg-type]
    moved, turned, stacked = (carried(step, s, "helper", i, decision, sheet, IDLE) for i in (normal, flow, packed))
    assert (turned.kind, turned.pixels.shape[2], stacked.kind, stacked.pixels.shape[2]) == (Kind.VECTOR, 2, Kind.CHANNELS, 5)
    want = -moved.pixels[..., :2] / moved.pixels[..., 2:]
    assert np.abs(turned.pixels - want).max() < 2e-4
    alone = carried(step, s, "helper", Image(planes[..., 2:3].copy(), Kind.DATA, (1000.0, 1000.0), wraps), decision, sheet, IDLE)
    assert np.array_equal(stacked.pixels[..., 2], alone.pixels[..., 0])


def test_kinds_are_shown_and_mixed_by_their_own_rules() -> None:
    flow = Image(np.full((2, 2, 2), [1.0, -1.0], np.float32), Kind.VECTOR)
    assert shown(flow, threads.helper("flow", Kind.VECTOR))[0, 0].tolist() == [1.0, 0.0, 0.5]
    packed = Image(np.full((2, 2, 2), 0.25, np.float32), Kind.CHANNELS)
    assert shown(packed, threads.helper("p", Kind.CHANNELS, channels=2))[0, 0].tolist() == [0.25, 0.25, 0.0]
    over = Image(np.full((2, 2, 2), 0.75, np.float32), Kind.CHANNELS)
    assert (mix(packed, over, "multiply", 0.5, None).pixels == 0.5).all(), "never blended as colour is"
    colours = label_colours(np.arange(64, dtype=np.float32).reshape(8, 8)).reshape(-1, 3)
    assert len(np.unique(np.round(colours, 3), axis=0)) == 64
    near = np.abs(colours[1:] - colours[:-1]).max(1)
    assert near.min() > 0.05, "neighbouring numbers look different"
    with pytest.raises(ValueError, match="2 to 8 channels"):
        Image(np.zeros((2, 2, 9), np.float32), Kind.CHANNELS)
    with pytest.raises(WeaveError, match="name of a thread"):
        threads.check_name("two words")


def test_a_wider_sheet_keeps_its_helper_threads(photo: Picture, weave: Weave) -> None:
    evaluator = Evaluator(OnePicture(photo), decision_size=128)
    single = StepEntry(step="single", settings={"name": "moss"})
    made = weave.model_copy(update={"steps": (*weave.steps[:3], single, *weave.steps[3:])})
    moss = evaluator.ask(made, "moss", 64)
    assert moss.wraps
    assert moss.kind is Kind.DATA
    assert threads.order(evaluator.plan(made).threads)[-1] == "moss"


def test_what_steps_can_do_is_in_the_list_and_somebody_can_do_it() -> None:
    told = {what for step in registry.steps().values() for what in step.can}
    assert told == set(ABLE)
