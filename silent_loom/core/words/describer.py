"""From words to surfaces: what any service for this has to give, and the small one that ships."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Protocol

from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.weave.rows.beginnings import beginnings
from silent_loom.core.weave.rows.model import Weave
from silent_loom.core.weave.rows.saved import SavedRecipe, shipped
from silent_loom.core.words.asking import asked, differs, made_by, spoken
from silent_loom.core.words.lexicon import lexicon
from silent_loom.core.words.making import woven
from silent_loom.core.words.reading import Reading, read, tokens

LONGEST = 400
"""Characters of a phrase."""


@dataclass(frozen=True)
class Suggestion:
    """A surface that answers a phrase.

    Attributes
    ----------
    title : str
    from_ : str
        What it is made of: ``recipe:NAME`` or ``pattern:NAME``.
    weave : Weave
        Makes every map, and repeats.
    differs : str
        From the first one, in words.
    """

    title: str
    from_: str
    weave: Weave
    differs: str = ""


@dataclass(frozen=True)
class Hit:
    """Something that is there already and answers to the words: its kind ('recipe', 'pattern'), name and title."""

    kind: str
    name: str
    title: str
    words: int


@dataclass(frozen=True)
class Described:
    """The answer to a phrase: what was understood, what was not, what is there already, and surfaces made for it."""

    reading: Reading
    hits: tuple[Hit, ...]
    suggestions: tuple[Suggestion, ...]

    def as_dict(self) -> dict[str, Any]:
        """For JSON, without the weaves."""
        return {
            "phrase": self.reading.phrase,
            "understood": [vars(u) for u in self.reading.understood],
            "not_understood": self.reading.unknown,
            "there_already": [vars(h) for h in self.hits],
            "results": [{"title": s.title, "made_of": s.from_, "differs": s.differs} for s in self.suggestions],
        }


class Describer(Protocol):
    """Whatever makes surfaces out of words. One that asks a service elsewhere can stand here in place of the local one."""

    def describe(self, phrase: str, count: int = 4, task: Task = IDLE) -> Described:
        """Surfaces for a phrase.

        Raises
        ------
        LoomError
            Nothing in it names a surface, or the phrase is empty or endless.
        """
        ...


class LocalDescriber:
    """Reads words by a list of its own, with no network: see `read` and `woven`.

    Parameters
    ----------
    recipes : sequence of SavedRecipe
        The artist's own, looked through beside those that ship.
    """

    def __init__(self, recipes: Sequence[SavedRecipe] = ()) -> None:
        self._recipes = recipes

    def describe(self, phrase: str, count: int = 4, task: Task = IDLE) -> Described:
        """See `Describer`."""
        if not phrase.strip():
            raise LoomError("nothing was said", "words", "For example: wet black slate with pale lichen")
        if len(phrase) > LONGEST:
            raise LoomError(f"this is longer than {LONGEST} characters", "words", "Say it shorter.")
        reading = read(phrase)
        # What a surface is called says more than how it is: 'old' slate is no old wall paper
        named = [reading.surface_words, *(u.words for u in reading.understood if u.part == "lies on"), *reading.unknown]
        hits = self.hits(" ".join(named) if reading.surface is not None else phrase)
        if reading.surface is None:
            some = ", ".join(list(lexicon().surfaces)[:60:6])
            if not hits:
                raise LoomError("no surface is named in these words", phrase.strip()[:80], f"Name one, such as {some}.")
            return Described(reading, hits, ())
        makes = made_by(reading, lexicon())
        made: list[Suggestion] = []
        for k in range(max(1, count)):
            task.report(k / max(1, count), f"{k + 1} of {count}")
            which = makes[k % len(makes)]
            want = asked(spoken(reading.main, reading.surface, which, lexicon()))
            other = differs(want, reading.main, k)
            made.append(Suggestion(_titled(phrase), which, woven(reading, which, lexicon(), k), other))
        return Described(reading, hits, tuple(made))

    def hits(self, phrase: str) -> tuple[Hit, ...]:
        """Recipes and patterns whose own words are in a phrase, the one with most of them first."""
        found = []
        for kind, name, title, words in self._known():
            same = shared(phrase, " ".join((title, *words)))
            if same:
                found.append(Hit(kind, name, title, same))
        return tuple(sorted(found, key=lambda h: (-h.words, h.kind != "recipe", h.title))[:12])

    def _known(self) -> list[tuple[str, str, str, tuple[str, ...]]]:
        recipes = [("recipe", r.name, r.title, r.words) for r in (*self._recipes, *shipped().values()) if not r.slots]
        return [*recipes, *(("pattern", b.name, b.title, b.words) for b in beginnings().values())]


def shared(one: str, other: str) -> int:
    """How many words two texts share, a plural for its singular.

    >>> shared("old roof slates", "Keeper's roof slate")
    2
    """
    first, second = ({w.removesuffix("s") for w in tokens(text) if len(w) > 1} for text in (one, other))
    return len(first & second)


def _titled(phrase: str) -> str:
    words = " ".join(phrase.split())[:120]
    return words[:1].upper() + words[1:]
