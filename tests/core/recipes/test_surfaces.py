"""Every recipe that ships: it makes a complete material that repeats, looks alike at every size, and its dials do something."""

from __future__ import annotations

from functools import cache

import numpy as np
import pytest

from bench.patterns import alike, evaluator
from silent_loom.core.base.images import Image, Kind
from silent_loom.core.look.meters.seam_meter import seams
from silent_loom.core.moving.resample import reduce_area
from silent_loom.core.weave import registry, threads
from silent_loom.core.weave.rows import tree
from silent_loom.core.weave.rows.dials import knobs, turned
from silent_loom.core.weave.rows.model import Weave
from silent_loom.core.weave.rows.recipes import Recipe
from silent_loom.core.weave.rows.saved import of_recipe, open_slots, shipped, shipped_recipe

EVERY = list(shipped())
MADE = [n for n in EVERY if not shipped()[n].slots]


@cache
def base(name: str, size: int) -> Image:
    return evaluator().ask(shipped()[name].weave, "base", size)


def test_there_are_enough_for_photos_and_from_nothing() -> None:
    assert len(EVERY) >= 20
    assert len(EVERY) - len(MADE) >= 11
    assert len({r.title for r in shipped().values()}) == len(EVERY)
    words = {w for r in shipped().values() for w in (r.title.lower(), *r.words)}
    for wanted in ("plaster", "gravel", "leather", "bark", "ceramic", "cement", "carpet", "foam", "stripes", "torn", "net"):
        assert any(wanted in w for w in words), wanted


@pytest.mark.parametrize("name", EVERY)
def test_it_is_a_whole_recipe(name: str) -> None:
    told = shipped()[name]
    found = knobs(told.weave)
    assert len(found) >= 4
    assert len({k.name for k in found}) == len(found)
    assert found[0].depth == 0
    for k in found:
        assert k.dial.drives, k.name
        inside = {p.entry.id for p in tree.walk(told.weave.group(k.group).rows)}
        assert {d.row for d in k.dial.drives} <= inside, k.name
    assert told.facts()["photos"] == len(told.slots) <= 1


@pytest.mark.parametrize("name", MADE)
def test_it_makes_a_complete_material(name: str) -> None:
    weave, asked = shipped()[name].weave, evaluator()
    plan = asked.plan(weave)
    assert plan.error() is None
    assert not [r.error for r in plan.rows if r.error]
    assert {"base", "height", "normal", "roughness", "metallic", "occlusion"} <= set(plan.threads)
    maps = asked.ask_many(weave, [t for t in threads.THREADS if t in plan.threads], 96)
    for thread, image in maps.items():
        meaning = plan.spec(thread)
        assert np.isfinite(image.pixels).all()
        if image.kind is not Kind.NORMAL:
            assert meaning.low - 1e-3 <= image.pixels.min(), thread
            assert image.pixels.max() <= meaning.high + 1e-3, thread
    assert 0.005 < maps["base"].pixels.mean() < 0.9
    assert maps["height"].pixels.std() > 0


@pytest.mark.parametrize("name", MADE)
def test_it_repeats_and_looks_alike_from_afar(name: str) -> None:
    """At 512 here, at 1024 and against 4096 in ``python -m bench.recipes``."""
    large = base(name, 512)
    x, y = seams(large, search=False)
    assert max(x.figure, y.figure) <= 1.05
    small = base(name, 256)
    down = reduce_area(large.pixels, small.width, small.height)
    light = [p @ np.array([0.2126, 0.7152, 0.0722], np.float32) for p in (small.pixels, down)]
    assert alike(*light) >= 0.9


@pytest.mark.parametrize("name", MADE)
def test_every_dial_of_its_own_moves_something(name: str) -> None:
    told, asked = shipped()[name], evaluator()
    plan = asked.plan(told.weave)
    seen = [t for t in ("base", "roughness", "height", "metallic") if t in plan.threads]

    def looks(weave: Weave, size: int) -> list[bytes]:
        return [asked.ask(weave, t, size).pixels.tobytes() for t in seen]

    for k in [k for k in knobs(told.weave) if k.depth == 0]:
        low, high = (turned(told.weave, {k.dial.id: v}) for v in (k.dial.low, k.dial.high))
        # Hair and fine scratches are their mean at so few texels
        assert looks(low, 64) != looks(high, 64) or looks(low, 320) != looks(high, 320), k.name


def test_three_papers_are_states_of_one() -> None:
    papers = [shipped()[f"wallpaper-{s}"].weave for s in ("new", "aged", "distressed")]
    first = papers[0]
    for other in papers[1:]:
        assert [p.entry.id for p in tree.walk(other.steps)][1:] != []
        same = {k.name: k.dial.value for k in knobs(first)}
        asked = evaluator()
        brought = turned(other, {k.name: same[k.name] for k in knobs(other) if k.depth == 0})
        one, two = (asked.ask(w, "base", 64).pixels for w in (first, brought))
        assert np.array_equal(one, two)


def test_ids_are_the_same_tomorrow() -> None:
    raw = {
        "name": "x",
        "title": "X",
        "rows": [
            {"step": "blank"},
            {"name": "All", "rows": [{"pattern": "bricks"}, {"step": "tone"}], "dials": [{"title": "Bright", "drives": []}]},
        ],
    }
    one, two = (of_recipe(Recipe.model_validate(raw)).weave for _ in range(2))
    assert one == two
    group = next(e for e in one.steps if hasattr(e, "rows"))
    assert [p.entry.id for p in tree.walk((group,))] == [p.entry.id for p in tree.walk((two.at(group.id),))]


def test_slots_are_open_and_named_when_they_are_not_filled() -> None:
    told = shipped_recipe("photo-stone")
    assert len(open_slots(told.weave)) == 1
    assert registry.can(told.weave.entry(told.slots[0]).step, "photo")
    error = evaluator().plan(told.weave).error()
    assert error is not None
