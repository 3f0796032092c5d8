"""The words that are understood, as data in the folder ``recipes/words``."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cache
from importlib import resources
from typing import Any

from PIL import ImageColor
from pydantic import BaseModel, ConfigDict, Field

from silent_loom.core.weave.rows.recipes import RecipeGroup

WORN = ("skin", "hide", "fur", "pelt", "coat", "stripes", "spots", "print", "pattern")
"""What may follow the name of an animal."""


class Surface(BaseModel):
    """A kind of surface.

    Attributes
    ----------
    makes : tuple of str
        ``recipe:NAME`` or ``pattern:NAME``, the best one first.
    dials : mapping
        Where dials stand unless the phrase says otherwise.
    dyes : tuple of str
        Paths of the rows whose colours a colour word means; told from the weave without any.
    colour : str
        As ``#rrggbb``, where the surface has another one than what it is made of: grass out of fur.
    said : tuple of str
        Qualities that belong to the word itself, as if they had been said before it.
    animal : bool
        Its words may be followed by what an animal wears: 'zebra' and 'zebra skin' are one.
    reflectance : tuple of float
        Of a metal at normal incidence: linear red, green and blue, 0…1. Nothing for what is no metal.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    words: tuple[str, ...]
    makes: tuple[str, ...]
    dials: dict[str, float] = {}
    dyes: tuple[str, ...] = ()
    colour: str = Field("", pattern=r"^(#[0-9a-f]{6})?$")
    said: tuple[str, ...] = ()
    animal: bool = False
    reflectance: tuple[float, ...] = ()


class Qualifier(BaseModel):
    """What a word changes: each deed is read by `making`."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    words: tuple[str, ...]
    says: str
    does: tuple[dict[str, Any], ...]


class HowMuch(BaseModel):
    """A word that makes the next one stronger or weaker."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    words: tuple[str, ...]
    times: float


@dataclass(frozen=True)
class Lexicon:
    """Every word that is understood, in small letters.

    Attributes
    ----------
    colours : mapping
        To red, green and blue, 0…1, sRGB-encoded: the names of CSS Color 4, and common ones.
    lying_on : mapping
        Nouns of what lies on a surface, to the name of what makes it.
    covers : mapping
        Groups of rows for a repeat of a metre.
    forms : mapping
        What was done to a metal, to the pattern that shows it: 'brushed', 'hammered'.
    """

    surfaces: Mapping[str, Surface]
    qualifiers: Mapping[str, Qualifier]
    colours: Mapping[str, tuple[float, float, float]]
    lying_on: Mapping[str, str]
    how_much: Mapping[str, float]
    covers: Mapping[str, RecipeGroup]
    forms: Mapping[str, str]

    def longest(self) -> int:
        """Words of the longest phrase that means something."""
        every = (*self.surfaces, *self.qualifiers, *self.colours, *self.lying_on, *self.how_much, *self.forms)
        return max(len(words.split()) for words in every)


@cache
def lexicon() -> Lexicon:
    """The words that ship.

    >>> len(lexicon().__dataclass_fields__) > 2
    True
    """
    folder = resources.files("silent_loom.core") / "recipes" / "words"

    def told(name: str) -> Any:
        return json.loads((folder / f"{name}.json").read_text("utf-8"))

    said = told("qualifiers")
    metals = told("metals")
    kinds = [Surface.model_validate(one) for one in (*told("surfaces")["surfaces"], *metals["metals"])]
    surfaces = {w: s for s in kinds for w in s.words}
    surfaces |= {f"{w} {worn}": s for s in kinds if s.animal for w in s.words for worn in WORN}
    qualifiers = {w: q for one in said["qualifiers"] for q in [Qualifier.model_validate(one)] for w in q.words}
    amounts = {w: h.times for one in said["how_much"] for h in [HowMuch.model_validate(one)] for w in h.words}
    named = {name: rgb(str(value)) for name, value in ImageColor.colormap.items()}
    common = {name: rgb(value) for name, value in told("colours")["colours"].items()}
    covers = {name: RecipeGroup.model_validate(c["group"]) for name, c in told("lying_on")["covers"].items()}
    return Lexicon(surfaces, qualifiers, {**named, **common}, said["lying_on"], amounts, covers, metals["forms"])


def rgb(value: str) -> tuple[float, float, float]:
    """A colour as CSS writes it, sRGB-encoded, 0…1.

    >>> rgb("#ff0000")
    (1.0, 0.0, 0.0)
    """
    r, g, b = ImageColor.getrgb(value)[:3]
    return r / 255, g / 255, b / 255
