"""Words to surfaces: what is understood, what is said not to be, and that every word makes a complete material."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bench.patterns import evaluator
from silent_loom.core.base.errors import LoomError
from silent_loom.core.weave.rows.dials import knobs
from silent_loom.core.weave.rows.model import GroupEntry, Weave
from silent_loom.core.words.colouring import main_dyes, of_oklab, oklab, recoloured
from silent_loom.core.words.describer import LocalDescriber
from silent_loom.core.words.lexicon import lexicon
from silent_loom.core.words.making import woven
from silent_loom.core.words.reading import read

WORDS = lexicon()
MAKES = sorted({m for s in WORDS.surfaces.values() for m in s.makes})


def first(phrase: str) -> Weave:
    return LocalDescriber().describe(phrase, 1).suggestions[0].weave


def light(weave: Weave, thread: str = "base") -> float:
    return float(evaluator().ask(weave, thread, 48).pixels.mean())


def test_there_are_enough_words() -> None:
    assert len({id(s) for s in WORDS.surfaces.values()}) >= 40
    assert len({q.says for q in WORDS.qualifiers.values()}) >= 60
    assert {"rebeccapurple", "darkslategray", "papayawhip", "aliceblue", "lightgoldenrodyellow"} <= set(WORDS.colours)
    assert len(WORDS.colours) >= 200
    assert set(WORDS.lying_on.values()) <= set(WORDS.covers)


def test_a_phrase_is_taken_apart() -> None:
    told = read("wet black slate with pale lichen")
    assert told.surface is WORDS.surfaces["slate"]
    assert [q.says for q, _ in told.main.qualities] == ["wet"]
    assert [c for c, _ in told.main.colours] == ["black"]
    assert [(t.name, [q.says for q, _ in t.qualities]) for t in told.lying] == [("lichen", ["pale"])]
    assert told.unknown == []
    after = read("faded red sailcloth, coarse")
    assert {q.says for q, _ in after.main.qualities} == {"faded", "coarse"}
    assert after.surface is WORDS.surfaces["sailcloth"]


def test_the_longest_words_count_and_a_colour_before_a_noun_is_a_colour() -> None:
    assert read("riveted plate").surface_words == "riveted plate"
    assert read("hexagon tiles").surface is not read("tiles").surface
    veins = read("pale pink marble with gold veins")
    assert [(t.name, [c for c, _ in t.colours]) for t in veins.lying] == [("veins", ["gold"])]
    assert [t.name for t in read("sand on old boards").lying] == ["sand"]
    assert read("sand on old boards").surface is WORDS.surfaces["old boards"]
    assert read("sand").surface is WORDS.surfaces["sand"]


@pytest.mark.parametrize(
    ("phrase", "surface", "lying"),
    [
        ("mud with pebbles", "mud", [("pebbles", "on")]),
        ("pebbles on sand", "sand", [("pebbles", "on")]),
        ("grass between wet cobbles", "cobbles", [("grass", "between")]),
        ("moss between bricks", "bricks", [("moss", "between")]),
        ("cobbles with moss between", "cobbles", [("moss", "between")]),
        ("pebbles in mud", "mud", [("pebbles", "between")]),
        ("planks under snow", "planks", [("snow", "on")]),
        ("leather belt", "leather", []),
    ],
)
def test_of_two_surfaces_one_lies_on_the_other(phrase: str, surface: str, lying: list[tuple[str, str]]) -> None:
    told = read(phrase)
    assert told.surface is WORDS.surfaces[surface]
    assert [(t.name, t.how) for t in told.lying] == lying


def test_what_lies_between_lies_in_the_joints_and_single_stones_lie_one_by_one() -> None:
    asked = evaluator()
    plain, grown = first("cobbles"), first("cobbles with grass between")
    joint = asked.ask(plain, "joint", 256).plane()
    before, after = (asked.ask(w, "base", 256).pixels for w in (plain, grown))
    changed = np.abs(after - before).max(2) > 0.02
    assert changed[joint > 0.7].mean() > 0.9
    assert changed[joint < 0.05].mean() < 0.1
    green = after[joint > 0.7].mean(0)
    assert green[1] > 1.2 * green[2]
    assert green[1] > green[0]
    mud, stony = first("mud"), first("mud with pebbles")
    rise = asked.ask(stony, "height", 256).plane() - asked.ask(mud, "height", 256).plane()
    share = float((np.abs(rise) > 0.5).mean())
    assert 0.03 < share < 0.6, "some stones, and mud between them"
    assert rise.max() > 3
    assert not [str(r.error) for r in asked.plan(stony).rows if r.error]


@pytest.mark.parametrize("animal", ["zebra", "tiger", "leopard", "giraffe", "cow", "snake", "toad", "fox"])
def test_an_animal_is_known_by_its_pattern_whatever_it_is_called(animal: str) -> None:
    assert read(f"{animal} skin").surface is read(f"{animal} fur").surface is read(animal).surface
    assert read("zebra skin").surface is not read("skin").surface


@pytest.mark.parametrize(
    "phrase", ["brushed gold", "hammered brass", "polished silver", "cast bronze", "copper", "riveted brass plate"]
)
def test_metals_have_their_own_reflectance(phrase: str) -> None:
    told = read(phrase)
    asked, weave = evaluator(), first(phrase)
    base, metal = asked.ask(weave, "base", 96).pixels.mean((0, 1)), asked.ask(weave, "metallic", 96).pixels
    assert np.median(metal) > 0.9
    wanted = np.array(told.main.metal)
    assert np.abs(base / base.max() - wanted / wanted.max()).max() < 0.13, "its hue"
    assert 0.5 < base.max() / wanted.max() < 1.2, "its strength"


def test_what_was_done_to_a_metal_says_what_it_looks_like() -> None:
    made = {
        w: LocalDescriber().describe(f"{w} brass", 1).suggestions[0].from_ for w in ("brushed", "hammered", "cast", "riveted")
    }
    assert len(set(made.values())) == 4
    assert made["hammered"] == "pattern:hammered-copper"
    assert read("gold veins in marble").lying[0].colours[0][0] == "gold"
    assert not read("gold fur").main.metal


def test_further_results_differ_in_what_was_not_said() -> None:
    told = LocalDescriber().describe("concrete", 4)
    assert [bool(s.differs) for s in told.suggestions] == [False, True, True, True]
    lightness = [light(s.weave) for s in told.suggestions]
    assert max(lightness) - min(lightness) > 0.04
    said = LocalDescriber().describe("coarse blue pebbles", 3).suggestions
    assert all("coars" not in s.differs and "fine" not in s.differs for s in said)
    bases = [evaluator().ask(s.weave, "base", 48).pixels.mean((0, 1)) for s in said]
    assert all(b[2] > 1.15 * b[0] for b in bases), "blue stays blue"


def test_what_is_not_understood_is_said() -> None:
    told = read("zorbly slate with quux")
    assert told.unknown == ["zorbly", "quux"]
    with pytest.raises(LoomError, match="no surface is named"):
        LocalDescriber().describe("zorbly and quux")
    with pytest.raises(LoomError, match="nothing was said"):
        LocalDescriber().describe("  ")
    with pytest.raises(LoomError, match="400"):
        LocalDescriber().describe("slate " * 100)


@given(st.text(max_size=120))
def test_any_text_is_read_without_a_fault(text: str) -> None:
    told = read(text)
    assert all(word for word in told.unknown)


@pytest.mark.parametrize("makes", MAKES)
def test_every_surface_is_a_complete_material_whatever_is_said_of_it(makes: str) -> None:
    name = next(w for w, s in WORDS.surfaces.items() if makes in s.makes)
    weave = woven(read(f"wet rusty dark green coarse {name} with snow"), makes, WORDS, 2)
    plan = evaluator().plan(weave)
    assert plan.error() is None
    assert not [str(r.error) for r in plan.rows if r.error]
    assert {"base", "height", "normal", "roughness", "metallic", "occlusion"} <= set(plan.threads)
    assert plan.geometry.wraps


@pytest.mark.parametrize("word", sorted({q.words[0] for q in WORDS.qualifiers.values()}))
def test_every_quality_changes_something(word: str) -> None:
    """On one surface or another: a wall has nothing that could be knotted, a paper nothing that could be pitted."""
    asked = evaluator()
    for surface in ("bricks", "planks", "sailcloth", "wallpaper", "rope", "hull"):
        plain, said = first(surface), first(f"{word} {surface}")
        plan = asked.plan(said)
        assert not [str(r.error) for r in plan.rows if r.error], surface
        for thread in ("base", "roughness", "height", "metallic"):
            if not np.array_equal(asked.ask(plain, thread, 48).pixels, asked.ask(said, thread, 48).pixels):
                return
    raise AssertionError(f"{word} changes nothing")


@pytest.mark.parametrize("name", sorted(WORDS.covers))
def test_everything_that_may_lie_on_a_surface_lies_there(name: str) -> None:
    noun = next(w for w, n in [*WORDS.lying_on.items(), *((c, c) for c in WORDS.covers)] if n == name)
    if noun not in WORDS.lying_on:
        pytest.skip("only a quality brings it")
    plain, with_it = first("pebbles"), first(f"pebbles with {noun}")
    asked = evaluator()
    assert any(
        not np.array_equal(asked.ask(plain, t, 64).pixels, asked.ask(with_it, t, 64).pixels)
        for t in ("base", "height", "roughness")
    )


def test_words_do_what_they_say() -> None:
    assert light(first("pale bricks")) > light(first("bricks")) > light(first("dark bricks"))
    assert light(first("glossy bricks"), "roughness") < light(first("bricks"), "roughness") - 0.1
    assert light(first("chalky bricks"), "roughness") > light(first("bricks"), "roughness")
    assert light(first("metallic bricks"), "metallic") > 0.5
    base = evaluator().ask(first("blue tiles"), "base", 48).pixels.mean((0, 1))
    assert base[2] > 1.5 * base[0]
    coarse, fine = (evaluator().ask(first(f"{w} pebbles"), "id", 96).pixels.max() for w in ("coarse", "fine"))
    assert fine > 2 * coarse
    deep, flat = (evaluator().plan(first(f"{w} cobbles")).spec("height").depth for w in ("rugged", "shallow"))
    assert deep > 3 * flat


def test_much_and_little() -> None:
    def snow(words: str) -> float:
        return light(first(f"cobbles with {words} snow"))

    assert snow("a little") < snow("some") < snow("a lot of")


def test_several_results_differ_and_each_is_the_same_again() -> None:
    one, two = (LocalDescriber().describe("mossy stone wall", 5).suggestions for _ in range(2))
    assert [s.from_ for s in one] == [s.from_ for s in two]
    pictures = [evaluator().ask(s.weave, "base", 48).pixels.tobytes() for s in one]
    assert len(set(pictures)) == 5
    assert pictures == [evaluator().ask(s.weave, "base", 48).pixels.tobytes() for s in two]


def test_what_is_there_already_comes_first() -> None:
    hits = LocalDescriber().describe("wet slate roof with lichen").hits
    assert hits[0].name == "slate-roof"
    assert [h.words for h in hits] == sorted((h.words for h in hits), reverse=True)


def test_dials_of_a_recipe_answer_before_rows_are_added() -> None:
    weave = first("mossy slate")
    moss = next(k for k in knobs(weave) if k.name == "moss")
    assert moss.dial.value > 0.5
    assert [e.name for e in weave.steps if isinstance(e, GroupEntry)] == ["Keeper's roof"]


@given(st.tuples(*(st.floats(0, 1) for _ in range(3))))
def test_oklab_there_and_back(colour: tuple[float, float, float]) -> None:
    assert of_oklab(oklab(colour)) == pytest.approx(colour, abs=2e-4)


def test_oklab_of_known_colours() -> None:
    assert oklab((1, 1, 1)) == pytest.approx([1, 0, 0], abs=1e-4)
    assert oklab((1, 0, 0)) == pytest.approx([0.62796, 0.22486, 0.12585], abs=1e-4)


def test_joints_keep_their_colour() -> None:
    weave = first("bricks")
    rows = main_dyes(weave)
    blue = recoloured(weave, rows, (0.1, 0.2, 0.8))
    others = [r for r in weave.rows() if r.step == "dye" and r.id not in {m.id for m in rows}]
    assert any(r.mask is not None and r.mask.thread == "joint" for r in others)
    assert all(blue.entry(r.id) == r for r in others)
