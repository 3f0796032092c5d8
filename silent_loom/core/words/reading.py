"""A phrase taken apart: which words are understood, what each means, and which are not."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Literal

from silent_loom.core.words.lexicon import Lexicon, Qualifier, Surface, lexicon

Part = Literal["surface", "colour", "quality", "lies on", "how much", "small word"]
_SMALL = """
a an the of and with in on by from to for some its it is are as at under over between made like looking coloured colored surface
texture material that which has have covered
"""
SMALL = frozenset(_SMALL.split())
"""Words that hold a phrase together and say nothing of the surface."""
_SIDES = frozenset(("with", "under", "covered", "and"))


@dataclass(frozen=True)
class Understood:
    """Some words of a phrase, and what they mean."""

    words: str
    part: Part
    means: str


@dataclass
class Thing:
    """Something that is spoken of: the surface, or what lies on it, with its colours and qualities."""

    name: str = ""
    colours: list[tuple[str, tuple[float, float, float]]] = field(default_factory=list)
    qualities: list[tuple[Qualifier, float]] = field(default_factory=list)
    share: float = 1.0


@dataclass
class Reading:
    """A phrase as it is understood.

    Attributes
    ----------
    surface : Surface or None
    main : Thing
        The surface's colours and qualities.
    lying : list of Thing
        What lies on it, by the name of its cover.
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
    next noun; after the surface was named, and no noun follows, to the surface. The last surface that is named is the one that is
    meant, unless something lies on it: 'sand on old boards' means boards.

    >>> [u for u in read("wet black slate").__dataclass_fields__][:2]
    ['phrase', 'surface']
    """
    words = known or lexicon()
    found = _settled(list(_matched(tokens(phrase), words)), words)
    made = Reading(phrase.strip())
    waiting = Thing()
    named: list[tuple[str, Surface, Thing]] = []
    on_it = False
    strength = 1.0
    for text, part in found:
        if part == "unknown":
            made.unknown.append(text)
        elif part == "stop" or part == "small word":
            on_it = on_it or text in _SIDES or text == "on"
            if text == "on" and named and not made.lying:
                _put_below(made, named, words)
        elif part == "how much":
            strength *= words.how_much[text]
            made.understood.append(Understood(text, "how much", "more" if strength > 1 else "less"))
        elif part == "colour":
            waiting.colours.append((text, words.colours[text]))
            made.understood.append(Understood(text, "colour", _hex(words.colours[text])))
        elif part == "quality":
            waiting.qualities.append((words.qualifiers[text], strength))
            made.understood.append(Understood(text, "quality", words.qualifiers[text].says))
            strength = 1.0
        elif part == "both":  # a surface and something that may lie on another
            if named or on_it:
                made.lying.append(_taken(waiting, words.lying_on[text], strength))
                made.understood.append(Understood(text, "lies on", words.lying_on[text]))
            else:
                named.append((text, words.surfaces[text], waiting))
            waiting, strength = Thing(), 1.0
        elif part == "lies on":
            made.lying.append(_taken(waiting, words.lying_on[text], strength))
            made.understood.append(Understood(text, "lies on", words.lying_on[text]))
            waiting, strength = Thing(), 1.0
        elif part == "surface":
            named.append((text, words.surfaces[text], waiting))
            waiting, strength = Thing(), 1.0
    if named:
        made.surface_words, made.surface, made.main = named[-1]
        made.understood.append(Understood(made.surface_words, "surface", made.surface.makes[0].partition(":")[2]))
        for text, surface, thing in named[:-1]:  # 'leather belt': what is not meant still says what colour and how
            made.main.colours = [*thing.colours, *made.main.colours]
            made.main.qualities = [*thing.qualities, *made.main.qualities]
            made.unknown.append(text) if surface is not made.surface else None
    made.main.colours += waiting.colours
    made.main.qualities += waiting.qualities
    return made


def _settled(found: list[tuple[str, str]], words: Lexicon) -> list[tuple[str, str]]:
    """A word that may be a colour or a noun is a colour right before a noun: 'gold veins'."""
    nouns = ("surface", "lies on", "both")
    for i, (text, part) in enumerate(found[:-1]):
        if part in nouns and text in words.colours and found[i + 1][1] in nouns:
            found[i] = text, "colour"
    return found


def _put_below(made: Reading, named: list[tuple[str, Surface, Thing]], words: Lexicon) -> None:
    """'Sand on boards': what was taken for the surface lies on the one that follows."""
    text, _, thing = named[-1]
    if text in words.lying_on:
        named.pop()
        made.lying.append(_taken(thing, words.lying_on[text], 1.0))
        made.understood.append(Understood(text, "lies on", words.lying_on[text]))


def _taken(waiting: Thing, name: str, strength: float) -> Thing:
    return Thing(name, waiting.colours, waiting.qualities, strength)


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
