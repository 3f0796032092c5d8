"""Recipes that artists save: slots emptied and filled, and materials brought up to date without losing anything."""

from __future__ import annotations

import pytest

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.ways.woven import through_again
from silent_loom.core.weave.rows import edit, tree
from silent_loom.core.weave.rows.following import followed
from silent_loom.core.weave.rows.model import Dial, Drive, GroupEntry, SourceRef, StepEntry, Weave
from silent_loom.core.weave.rows.recipes import starting_weave
from silent_loom.core.weave.rows.saved import emptied, filled, open_slots
from tests.conftest import DIGEST

REF = SourceRef(name="p.png", format="png", width=640, height=480, bytes=1)
OTHER, THIRD = "b" * 64, "c" * 64


def test_what_lies_on_one_photo_stays_with_it() -> None:
    weave = starting_weave(DIGEST, REF, straighten={"corners": [[0, 0], [1, 0], [1, 1], [0, 1]], "width_mm": 800.0})
    made = emptied(weave)
    assert open_slots(made) == [weave.rows()[0].id]
    assert made.sources == {}
    straighten = made.entry(weave.find("straighten"))
    assert straighten.settings == {"width_mm": 800.0}
    assert [r.id for r in made.rows()] == [r.id for r in weave.rows()]
    again = filled(made, [(OTHER, REF)])
    assert again.rows()[0].settings["source"] == OTHER
    assert set(again.sources) == {OTHER}


def test_maps_brought_in_beside_a_photo_come_along() -> None:
    weave = starting_weave(DIGEST, REF)
    over = StepEntry(step="over", settings={"maps": [{"thread": "base", "source": OTHER}]})
    weave = edit.added(weave, over, 99).model_copy(update={"sources": {DIGEST: REF, OTHER: REF}})
    assert set(emptied(weave).sources) == {OTHER}


def test_slots_take_as_many_photos_as_there_are_or_one() -> None:
    two = Weave(steps=(StepEntry(id="p1", step="photo"), StepEntry(id="p2", step="photo")))
    assert [r.settings["source"] for r in filled(two, [(OTHER, REF)]).rows()] == [OTHER, OTHER]
    assert [r.settings["source"] for r in filled(two, [(OTHER, REF), (THIRD, REF)]).rows()] == [OTHER, THIRD]
    with pytest.raises(WeaveError, match="wants 2 photos"):
        filled(two, [])
    with pytest.raises(WeaveError, match="wants 2 photos, not 3"):
        filled(two, [(OTHER, REF)] * 3)
    with pytest.raises(WeaveError, match="takes no photo"):
        filled(Weave(steps=(StepEntry(step="blank"),)), [(OTHER, REF)])


# --- three of them: the recipe then, the recipe now, the material ------------------------------------------------------

DIAL = Dial(id="d1", title="Coarse", value=0.25, drives=(Drive(row="n1", setting="scale_mm", low=50, high=250),))
THEN = Weave(
    steps=(
        StepEntry(id="b1", step="blank", settings={"width_mm": 500.0}),
        GroupEntry(id="g1", name="All", rows=(StepEntry(id="n1", step="noise"), StepEntry(id="t1", step="tone")), dials=(DIAL,)),
    )
)


def now() -> Weave:
    made = THEN.with_settings("t1", {"contrast": 20.0, "hue": 10.0})
    return edit.added(made, StepEntry(id="r1", step="roughness", settings={"low": 0.1}), 9)


def test_nothing_changed_here_is_the_recipe_as_it_is_now() -> None:
    assert followed(THEN, THEN, now()) == now()
    assert followed(THEN, THEN, THEN) == THEN


def test_what_was_changed_here_stays_and_the_rest_follows() -> None:
    mine = THEN.with_settings("t1", {"contrast": -5.0}).with_settings("b1", {"width_mm": 900.0})
    mine = edit.set_values(mine, "g1", {"d1": 0.8})
    mine = edit.switched(mine, "n1", False)
    made = followed(mine, THEN, now())
    assert made.entry("t1").settings == {"contrast": -5.0, "hue": 10.0}
    assert made.entry("b1").settings["width_mm"] == 900.0
    assert made.group("g1").dials[0].value == 0.8
    assert not made.at("n1").on
    assert made.entry("r1").settings == {"low": 0.1}


def test_rows_of_the_artist_s_own_keep_their_place_and_those_taken_out_stay_out() -> None:
    mine = edit.added(THEN, StepEntry(id="x1", step="tone", settings={"hue": 3.0}), 1, "g1")
    mine = edit.added(mine, StepEntry(id="x2", step="metallic"), 1)
    mine = edit.removed(mine, "t1")
    made = followed(mine, THEN, now())
    assert [p.entry.id for p in tree.walk(made.steps)] == ["b1", "x2", "g1", "n1", "x1", "r1"]


def test_photos_of_the_material_stay_its_own() -> None:
    recipe = emptied(starting_weave(DIGEST, REF))
    mine = filled(recipe, [(OTHER, REF)])
    newer = recipe.with_settings(recipe.find("height"), {"depth_mm": 3.0})
    made = followed(mine, recipe, newer)
    assert made.rows()[0].settings["source"] == OTHER
    assert made.sources[OTHER] == REF
    assert made.entry(made.find("height")).settings["depth_mm"] == 3.0


def test_a_setting_put_back_here_is_not_brought_again() -> None:
    then = THEN.with_settings("t1", {"hue": 40.0})
    row = then.entry("t1")
    mine = then.with_entry(row.model_copy(update={"settings": {}}))
    assert followed(mine, then, then.with_settings("t1", {"contrast": 5.0})).entry("t1").settings == {"contrast": 5.0}


def test_where_the_light_came_from_belongs_to_one_photo() -> None:
    ref = SourceRef(name="deck.png", format="png", width=640, height=480, bytes=1000)
    weave = starting_weave("ab" * 32, ref)
    height = weave.able("depth")
    assert height is not None
    told = weave.with_settings(height.id, {"light_deg": 40.0, "depth_mm": 7.0})
    kept = emptied(told).able("depth")
    assert kept is not None
    assert ("light_deg" in kept.settings, kept.settings["depth_mm"]) == (False, 7.0)
    again = through_again(told, "cd" * 32, ref).able("depth")
    assert again is not None
    assert again.settings.get("light_deg") is None
    alike = through_again(told, "cd" * 32, ref, keep_corners=True).able("depth")
    assert alike is not None
    assert alike.settings["light_deg"] == 40.0
