"""A phrase taken apart: which words are understood, what each means, and which are not."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace
from typing import Literal

import numpy as np

from silent_loom.core.base.srgb import encode_srgb
from silent_loom.core.words.lexicon import Lexicon, Qualifier, Surface, lexicon

Part = Literal["surface", "metal", "colour", "quality", "lies on", "how much", "small word"]
How = Literal["on", "between"]
_SMALL = """
a an the of and with in on by from to for some its it is are as at under over between among made like looking coloured colored
surface texture material that which has have covered full them
"""
SMALL = frozenset(_SMALL.split())
"""Words that hold a phrase together and say nothing of the surface."""
LINKS = {"with": "with", "and": "with", "covered": "with", "under": "under", "on": "on", "over": "on", "between": "between"}
LINKS |= {"among": "between", "in": "in"}
"""Small words that say how two nouns belong together."""
OVER = ("on", "between", "in")
"""After these follows what the first noun lies on."""
NOUNS = ("surface", "lies on", "both")


@dataclass(frozen=True)
class Understood:
    """Some words of a phrase, and what they mean."""

    words: str
    part: Part
    means: str


@dataclass
class Thing:
    """Something that is spoken of: the surface, or what lies on it, with its colours and qualities.

    Attributes
    ----------
    name : str
        Of the cover, or the words for another surface that lies on the first one.
    share : float
        How much of it, against what is usual.
    how : str
        On the surface, or between its elements.
    surface : Surface, optional
        What lies there, if it is no cover.
    forms : list of str
        What was done to it, if it is a metal.
    metal : tuple of float
        Linear reflectance of the metal it is made of.
    """

    name: str = ""
    colours: list[tuple[str, tuple[float, float, float]]] = field(default_factory=list)
    qualities: list[tuple[Qualifier, float]] = field(default_factory=list)
    share: float = 1.0
    how: How = "on"
    surface: Surface | None = None
    forms: list[str] = field(default_factory=list)
    metal: tuple[float, ...] = ()


@dataclass
class Named:
    """A noun as it stands in a phrase: what was said of it, the small word before it, and how much."""

    text: str
    thing: Thing
    link: str
    strength: float


@dataclass
class Reading:
    """A phrase as it is understood.

    Attributes
    ----------
    surface : Surface or None
    main : Thing
        The surface's colours and qualities.
    lying : list of Thing
        What lies on it or between its elements.
    understood, unknown : list
        For whoever asked.
    """

    phrase: str
    surface: Surface | None = None
    surface_words: str = ""
    main: Thing = field(default_factory=Thing)
    lying: list[Thing] = field(default_factory=list)
    understood: list[Understood] = field(default_factory=list)
    unknown: list[str] = field(default_factory=list)


def tokens(phrase: str) -> list[str]:
    """Words of a phrase in small letters; commas stand by themselves, as they part one thing from the next.

    >>> tokens("Wet, black slate")
    ['wet', ',', 'black', 'slate']
    """
    return re.findall(r"[^\W_]+(?:[-'’][^\W_]+)*|[,;.]", phrase.lower())


def read(phrase: str, known: Lexicon | None = None) -> Reading:
    """Take a phrase apart.

    The longest words that mean something are taken first ('riveted plate' before 'plate'). Colours and qualities belong to the
    next noun; after the surface was named, and no noun follows, to the surface. Of two surfaces one lies on the other where a
    word says so: 'sand on old boards' means boards, 'mud with pebbles' means mud, 'grass between cobbles' means cobbles. Without
    such a word the last one is meant: 'leather belt'.

    >>> told = read("grass between wet cobbles")
    >>> told.surface_words, [(t.name, t.how) for t in told.lying]
    ('cobbles', [('grass', 'between')])
    """
    words = known or lexicon()
    parts = _settled(list(_matched(tokens(phrase), words)), words)
    made = Reading(phrase.strip())
    waiting = Thing()
    named: list[Named] = []
    link = ""
    strength = 1.0
    for text, part in parts:
        match part:
            case "unknown":
                made.unknown.append(text)
            case "stop":
                link = link or ","
            case "small word":
                link = LINKS.get(text, link)
                if text == "between" and named and not _follows(parts, text):
                    made.lying[-1:] = [replace(t, how="between") for t in made.lying[-1:]]
            case "how much":
                strength *= words.how_much[text]
                made.understood.append(Understood(text, "how much", "more" if strength > 1 else "less"))
            case "colour":
                waiting.colours.append((text, words.colours[text]))
                made.understood.append(Understood(text, "colour", _hex(words.colours[text])))
            case "form" | "quality":
                if text in words.forms:
                    waiting.forms.append(text)
                if text in words.qualifiers:
                    waiting.qualities.append((words.qualifiers[text], strength))
                says = words.qualifiers[text].says if text in words.qualifiers else text
                made.understood.append(Understood(text, "quality", says))
                strength = 1.0
            case "metal":
                waiting.metal = words.surfaces[text].reflectance
                made.understood.append(Understood(text, "metal", _hex(shown(waiting.metal))))
            case _:  # a noun: something that lies on a surface, or a surface, or either
                _place(made, named, Named(text, waiting, link, strength), part, words)
                waiting, strength, link = Thing(), 1.0, ""
    if named:
        _choose(made, named, words)
    made.main.colours += waiting.colours
    made.main.qualities += waiting.qualities
    made.main.forms += waiting.forms
    between = {t.name for t in made.lying if t.how == "between"}
    made.understood = [
        replace(u, means="lies between") if u.part == "lies on" and u.means in between else u for u in made.understood
    ]
    return made


def _follows(parts: list[tuple[str, str]], text: str) -> bool:
    """Whether a noun comes after the last time a word is said."""
    last = max(i for i, (t, _) in enumerate(parts) if t == text)
    return any(part in NOUNS for _, part in parts[last + 1 :])


def _place(made: Reading, named: list[Named], noun: Named, part: str, words: Lexicon) -> None:
    """Take a noun for something that lies on the surface, or keep it as a surface that may be the one that is meant."""
    lies = part == "lies on" or (part == "both" and noun.link in ("with", "under"))
    if noun.link in OVER and named and not made.surface_words:
        below = named.pop()  # what was named first lies on what follows
        made.lying.append(_lying(below, words, "between" if noun.link in ("between", "in") else "on"))
        made.understood.append(Understood(below.text, "lies on", made.lying[-1].name))
        lies = part == "lies on"
    elif made.lying and noun.link in ("between", "in"):
        made.lying[-1] = replace(made.lying[-1], how="between")
    if lies:
        made.lying.append(_lying(noun, words))
        made.understood.append(Understood(noun.text, "lies on", made.lying[-1].name))
    elif named and noun.link == "with":
        made.lying.append(_lying(noun, words))
        made.understood.append(Understood(noun.text, "lies on", noun.text))
    else:
        named.append(noun)


def _lying(noun: Named, words: Lexicon, how: How = "on") -> Thing:
    cover = words.lying_on.get(noun.text)
    surface = None if cover else words.surfaces[noun.text]
    return replace(noun.thing, name=cover or noun.text, share=noun.strength, how=how, surface=surface)


def _choose(made: Reading, named: list[Named], words: Lexicon) -> None:
    """The last surface that was named is the one that is meant; the others still say what colour it has and how it is."""
    last = named[-1]
    made.surface_words, made.surface, made.main = last.text, words.surfaces[last.text], last.thing
    made.main.metal = made.main.metal or made.surface.reflectance
    made.understood.append(Understood(last.text, "surface", made.surface.makes[0].partition(":")[2]))
    for one in named[:-1]:
        made.main.colours = [*one.thing.colours, *made.main.colours]
        made.main.qualities = [*one.thing.qualities, *made.main.qualities]
        if words.surfaces[one.text] is not made.surface:
            made.unknown.append(one.text)


def _settled(parts: list[tuple[str, str]], words: Lexicon) -> list[tuple[str, str]]:
    """A metal before something made of metal says what it is made of; a word that may be a colour is one before other nouns."""
    for i, (text, part) in enumerate(parts[:-1]):
        if part not in NOUNS:
            continue
        noun = next((j for j in range(i + 1, len(parts)) if parts[j][1] not in ("quality", "form", "colour")), None)
        if noun is None or parts[noun][1] not in NOUNS:
            continue
        meant = words.surfaces.get(parts[noun][0])
        if meant is not None and text in words.surfaces and words.surfaces[text].reflectance and _metallic(meant, words):
            parts[i] = text, "metal"
        elif text in words.colours and noun == i + 1:
            parts[i] = text, "colour"
    return parts


def _metallic(surface: Surface, words: Lexicon) -> bool:
    return bool(surface.reflectance) or surface.makes[0] in words.forms.values()


def shown(reflectance: Sequence[float]) -> tuple[float, float, float]:
    """The colour of a metal, sRGB-encoded, 0…1.

    >>> shown((1.0, 1.0, 1.0))
    (1.0, 1.0, 1.0)
    """
    r, g, b = (round(float(v), 4) for v in encode_srgb(np.asarray(reflectance, np.float64)))
    return r, g, b


def _matched(parts: list[str], words: Lexicon) -> Iterable[tuple[str, str]]:
    longest, at = words.longest(), 0
    while at < len(parts):
        if parts[at] in ",;.":
            yield parts[at], "stop"
            at += 1
            continue
        for n in range(min(longest, len(parts) - at), 0, -1):
            text = " ".join(parts[at : at + n])
            part = _part(text, words) or (_part(_singular(text), words) and "singular")
            if part:
                text = _singular(text) if part == "singular" else text
                yield text, _part(text, words)
                at += n
                break
        else:
            yield parts[at], "small word" if parts[at] in SMALL else "unknown"
            at += 1


def _part(text: str, words: Lexicon) -> str:
    if text in words.surfaces and text in words.lying_on:
        return "both"
    for part, known in (
        ("surface", words.surfaces),
        ("lies on", words.lying_on),
        ("form", words.forms),
        ("quality", words.qualifiers),
        ("colour", words.colours),
        ("how much", words.how_much),
    ):
        if text in known:
            return part
    return ""


def _singular(text: str) -> str:
    return text[:-1] if text.endswith("s") and len(text) > 3 else f"{text}s"


def _hex(colour: tuple[float, float, float]) -> str:
    return "#" + "".join(f"{round(255 * v):02x}" for v in colour)
