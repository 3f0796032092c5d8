"""Every pattern that ships: it repeats, is the same at every size and on every machine, and is a complete material."""

from __future__ import annotations

from functools import cache
from pathlib import Path

import numpy as np
import pytest

from bench.patterns import alike, alone, evaluator
from silent_loom.core.base.errors import SettingError, WeaveError
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.look.meters.seam_meter import seams
from silent_loom.core.moving.resample import reduce_area
from silent_loom.core.weave import registry, threads
from silent_loom.core.weave.rows.beginnings import beginning, beginnings, woven_from
from silent_loom.core.weave.rows.model import GroupEntry
from tools.golden_patterns import FILE, SIDE, small

EVERY = list(beginnings())
FIRST_OF_A_STEP = list({b.step: name for name, b in reversed(beginnings().items())}.values())


@cache
def heights(name: str) -> tuple[Image, Image]:
    """The pattern's own relief at 256 and at 1024, or where rings are finer than its texels at 2048."""
    asked, weave = evaluator(), alone(name)
    return asked.ask(weave, "height", 256), asked.ask(weave, "height", 2048 if name == "planks" else 1024)


def test_there_are_enough_and_none_is_told_twice() -> None:
    assert len(EVERY) >= 40
    assert len({b.title for b in beginnings().values()}) == len(EVERY)
    steps = {n for n in registry.steps() if registry.can(n, "pattern")}
    assert {b.step for b in beginnings().values()} == steps


@pytest.mark.parametrize("name", EVERY)
def test_it_begins_as_a_complete_material(name: str) -> None:
    weave, asked = woven_from(name), evaluator()
    plan = asked.plan(weave)
    assert plan.error() is None
    assert {"base", "height", "normal", "roughness", "metallic", "occlusion"} <= set(plan.threads)
    assert plan.geometry.wraps
    assert plan.geometry.size_mm == beginnings()[name].size_mm
    maps = asked.ask_many(weave, [t for t in threads.THREADS if t in plan.threads], 64)
    for thread, image in maps.items():
        meaning = plan.spec(thread)
        assert np.isfinite(image.pixels).all()
        if image.kind is not Kind.NORMAL:
            assert meaning.low - 1e-3 <= image.pixels.min(), thread
            assert image.pixels.max() <= meaning.high + 1e-3, thread
    light = maps["base"].pixels.mean()
    assert 0.005 < light < 0.85
    assert 0.02 < maps["roughness"].pixels.mean() < 0.99


@pytest.mark.parametrize("name", EVERY)
def test_it_repeats(name: str) -> None:
    """Half its detail lies across the edges as much as anywhere else."""
    x, y = seams(heights(name)[1], search=False)
    assert max(x.figure, y.figure) <= 1.02


@pytest.mark.parametrize("name", [n for n in EVERY if n != "brushed-steel"])
def test_a_small_picture_is_a_large_one_seen_from_afar(name: str) -> None:
    small_one, large = heights(name)
    down: Floats = reduce_area(large.pixels, small_one.width, small_one.height)[..., 0]
    assert alike(small_one.plane(), down) >= 0.97


def test_pictures_are_the_same_on_every_machine() -> None:
    """Perceptual tolerance: four code values at the worst place of a picture of 24 texels, half a one on the whole."""
    kept = np.load(Path(FILE))
    assert set(kept.files) == set(EVERY), "run: python -m tools.golden_patterns"
    for name in EVERY:
        off = np.abs(small(name).astype(int) - kept[name].astype(int))
        assert off.max() <= 4, name
        assert off.mean() <= 0.5, name
        assert kept[name].shape[:2] == (SIDE, SIDE)


@pytest.mark.parametrize("name", FIRST_OF_A_STEP)
def test_another_seed_is_another_one_of_its_kind(name: str) -> None:
    regular = {"gradient", "ribs", "studs", "stencil"}
    asked = evaluator()
    one, again, other = (asked.ask(woven_from(name, seed=s), "base", 96).pixels for s in (3, 3, 4))
    assert np.array_equal(one, again)
    if beginnings()[name].step not in regular:
        assert not np.array_equal(one, other)
        spread = one.std((0, 1)).mean() / other.std((0, 1)).mean()
        assert 0.4 < spread < 2.5


def test_a_wider_repeat_holds_more_of_it() -> None:
    asked = evaluator()
    narrow, wide = woven_from("bricks"), woven_from("bricks", size_mm=(2400, 960))
    ids = [int(asked.ask(w, "id", 192).pixels.max()) for w in (narrow, wide)]
    assert ids == [60, 120]


def test_dials_move_what_they_say() -> None:
    weave = woven_from("bricks")
    colour = next(e for e in weave.steps if isinstance(e, GroupEntry) and e.name == "Colour")
    finish = next(e for e in weave.steps if isinstance(e, GroupEntry) and e.name == "Finish")
    asked = evaluator()

    def with_dial(group: GroupEntry, title: str, value: float) -> tuple[float, float]:
        dials = tuple(d.model_copy(update={"value": value}) if d.title == title else d for d in group.dials)
        turned = weave.with_entry(group.model_copy(update={"dials": dials}))
        base, rough = (asked.ask(turned, t, 64).pixels for t in ("base", "roughness"))
        return float(base.mean()), float(rough.mean())

    before = asked.ask(weave, "base", 64).pixels.mean(), asked.ask(weave, "roughness", 64).pixels.mean()
    for title in ("Mottled", "Varied", "Dirt"):
        assert with_dial(colour, title, 0.5)[0] == pytest.approx(before[0], rel=1e-5)
        assert with_dial(colour, title, 1.0)[0] < before[0] < with_dial(colour, title, 0.0)[0]
    assert with_dial(finish, "Matt", 0.0)[1] < before[1] - 0.2
    assert with_dial(finish, "Matt", 0.5)[1] == pytest.approx(before[1], rel=1e-5)


def test_what_there_is_not_is_told() -> None:
    with pytest.raises(WeaveError, match="no pattern called 'brickz'"):
        beginning("brickz")
    with pytest.raises(SettingError, match="It takes: bond"):
        woven_from("bricks", settings={"size": 3})
    with pytest.raises(SettingError, match="bond"):
        woven_from("bricks", settings={"bond": "sideways"})
