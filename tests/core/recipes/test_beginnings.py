"""Weaves that begin from recipes, and stored ones in the form of today."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from silent_loom.core.base.errors import FileError, SettingError, WeaveError
from silent_loom.core.ways.woven import pairs_from, put_through, read_weave, with_pairs
from silent_loom.core.weave import registry
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows import edit
from silent_loom.core.weave.rows.model import Dial, Drive, SourceRef, StepEntry, Weave
from silent_loom.core.weave.rows.recipes import Recipe, _made, begun, recipes
from silent_loom.core.weave.rows.upgrade import parsed, upgraded
from tests.conftest import DIGEST

REF = SourceRef(name="p.png", format="png", width=640, height=480, bytes=1)


def names(weave: Weave) -> list[str]:
    return [e.step for e in weave.rows()]


def test_every_recipe_names_steps_that_there_are() -> None:
    assert set(recipes()) == {"photo", "photo_by_light", "set", "sheet"}
    for recipe in recipes().values():
        assert all(registry.known(step) for step in recipe.step_names())


def test_a_set_gets_what_it_does_not_have() -> None:
    def of(*threads: str, **more: object) -> list[str]:
        maps = [{"thread": t, "source": DIGEST} for t in threads]
        return names(begun("set", {"maps": maps}, **more))  # type: ignore[arg-type]

    assert of("base", "specular_colour")[:2] == ["mapset", "convert"]
    assert of("base") == ["mapset", "height", "normal", "roughness", "metallic", "occlusion"]
    assert of("base", "normal", "height") == ["mapset", "roughness", "metallic", "occlusion"]
    assert of("normal") == ["mapset", "integrate", "occlusion"]
    assert of("height", when=["open"]) == ["mapset", "seamless", "normal", "occlusion"]
    with pytest.raises(WeaveError, match="it needs maps"):
        begun("set")
    with pytest.raises(WeaveError, match="no recipe called 'soup'"):
        begun("soup")
    with pytest.raises(SettingError, match=r"height\.depth_mm"):
        begun("photo", {"photo": DIGEST}, {"height": {"depth_mm": -1}})


def test_a_recipe_may_hold_groups_with_dials() -> None:
    told = Recipe.model_validate(
        {
            "name": "walls",
            "title": "Walls",
            "rows": [
                {"step": "blank"},
                {
                    "name": "Relief",
                    "rows": [{"step": "height"}, {"step": "normal"}],
                    "dials": [{"title": "Depth", "drives": [{"row": "height", "setting": "depth_mm", "low": 1, "high": 5}]}],
                },
            ],
        }
    )
    rows = _made(told.rows, {}, {}, (), set())
    weave = Weave(steps=rows)
    assert names(weave) == ["blank", "height", "normal"]
    assert with_pairs(weave, pairs_from(["relief.depth=1"])).group(weave.find("relief")).dials[0].value == 1


def test_settings_and_dials_are_named_by_their_paths(weave: Weave) -> None:
    made, group = edit.grouped(weave, [weave.first("height").id, weave.first("normal").id], "The relief!")  # type: ignore[union-attr]
    drive = Drive(row=made.first("normal").id, setting="strength", low=0, high=2)  # type: ignore[union-attr]
    made = edit.with_dial(made, group, Dial(title="How steep", drives=(drive,)))
    done = with_pairs(made, pairs_from(["the_relief/height.depth_mm=3", "the_relief.how_steep=0.25", "tone.hue=10"]))
    assert done.first("height").settings["depth_mm"] == 3  # type: ignore[union-attr]
    assert done.group(group).dials[0].value == 0.25
    for text, words in (
        ("the_relief/tone.hue=1", "no row called 'tone'"),
        ("the_relief.hue=1", "no such dial"),
        ("photo.source=x", "said by the command itself"),
        ("tone.hue", "STEP.SETTING=VALUE"),
    ):
        with pytest.raises(WeaveError, match=words):
            with_pairs(made, pairs_from([text]))


def test_a_saved_weave_takes_another_photo(tmp_path: Path, weave: Weave) -> None:
    path = tmp_path / "weave.json"
    path.write_text(weave.model_dump_json())
    read = read_weave(path)
    assert read == weave
    other = put_through(read, "b" * 64, REF)
    assert other.first("photo").settings["source"] == "b" * 64  # type: ignore[union-attr]
    with pytest.raises(WeaveError, match="takes a photo"):
        put_through(begun("sheet"), DIGEST, REF)
    path.write_text('{"steps": [{"stop": 1}]}')
    with pytest.raises(FileError, match=r"this is no weave: steps\.0"):
        read_weave(path)
    with pytest.raises(FileError, match="cannot be read"):
        read_weave(tmp_path / "none.json")


def test_stored_settings_are_upgraded_by_their_own_step(
    weave: Weave, evaluator: Evaluator, monkeypatch: pytest.MonkeyPatch
) -> None:
    old = weave.first("tone").model_copy(update={"version": 1, "settings": {"lift": 0.5}})  # type: ignore[union-attr]
    group = edit.grouped(weave.with_entry(old), [old.id], "Colour")[0]
    assert "tone.lift" in str(evaluator.plan(group).error())

    def upgrade(self: object, settings: dict[str, object], from_version: int) -> dict[str, object]:
        assert from_version == 1
        return {"brightness": settings["lift"]}

    tone = type(registry.step("tone"))
    monkeypatch.setattr(tone, "version", 2)
    monkeypatch.setattr(tone, "upgrade", upgrade)
    made = upgraded(group)
    assert made.entry(old.id).settings == {"brightness": 0.5}
    assert made.entry(old.id).version == 2
    assert evaluator.plan(made).error() is None
    broken = upgraded(group.with_entry(old.model_copy(update={"settings": {}})))
    assert broken.entry(old.id).version == 1, "what cannot be upgraded stays as it was"
    assert upgraded(made) is made


def test_a_row_that_cannot_be_read_closes_nothing(weave: Weave, evaluator: Evaluator) -> None:
    from silent_loom.web import describe

    wrong = StepEntry(step="height", on=False, settings={"depth_furlongs": 1})
    made = weave.model_copy(update={"steps": (*weave.steps, wrong)})
    drawn = describe.weave(made, evaluator.plan(made), evaluator.costs)
    assert "height.depth_furlongs" in drawn["rows"][-1]["error"]
    assert drawn["rows"][-2]["error"] == ""
    assert evaluator.plan(made).error() is None, "it is off"


def test_what_is_stored_names_the_version_of_each_step(weave: Weave) -> None:
    text = edit.grouped(weave, [weave.rows()[4].id], "Colour")[0].model_dump_json()
    noted = {e.step: e.version for e in parsed(text).rows()}
    assert noted == {name: registry.step(name).version for name in noted}
    assert parsed(text).model_dump_json() == text
    before = json.loads(weave.model_dump_json())
    for row in before["steps"]:
        del row["version"]
    older = parsed(json.dumps(before))
    same = [e for e in weave.rows() if registry.step(e.step).version == 1]
    assert same == [e for e in older.rows() if registry.step(e.step).version == 1]
    height = older.first("height")
    assert height is not None
    assert height.settings["guard"] == 0, "a height that knew of no guard has none"
    with pytest.raises(ValueError, match="steps"):
        parsed('{"steps": 5}')
