"""What the words for a thing come to: qualities put together, its colour, what makes it, and how further results differ."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

from silent_loom.core.weave.rows import tree
from silent_loom.core.words.lexicon import Lexicon, Qualifier, Surface, rgb
from silent_loom.core.words.reading import Reading, Thing, shown


@dataclass
class Asked:
    """What all qualities of a thing come to."""

    light: float = 0.0
    chroma: float = 1.0
    warm: float = 0.0
    scale: float = 1.0
    depth: float = 1.0
    rough: tuple[float, float] | None = None
    metal: float | None = None
    dials: dict[str, float] = field(default_factory=dict)
    settings: dict[str, float] = field(default_factory=dict)
    covers: dict[str, float] = field(default_factory=dict)
    more: float = 1.0


@dataclass(frozen=True)
class Aside:
    """How a further result differs from the first."""

    light: float = 0.0
    chroma: float = 1.0
    warm: float = 0.0
    scale: float = 1.0
    depth: float = 1.0
    more: float = 1.0


def asked(qualities: Sequence[tuple[Qualifier, float]]) -> Asked:
    """Every deed of some qualities put together; what is said last has the last word where both cannot be.

    >>> from silent_loom.core.words.lexicon import lexicon
    >>> asked([(lexicon().qualifiers["wet"], 1.0)]).covers
    {'wet': 1.0}
    """
    total = Asked()
    for quality, much in qualities:
        for deed in quality.does:
            match deed["do"]:
                case "light":
                    total.light += deed["by"] * much
                case "chroma":
                    total.chroma *= deed["times"] ** much
                case "warm":
                    total.warm += deed["by"] * much
                case "scale":
                    total.scale *= deed["times"] ** much
                case "depth":
                    total.depth *= deed["times"] ** much
                case "rough":
                    total.rough = deed["start"], deed["end"]
                case "metal":
                    total.metal = float(deed["value"])
                case "dial":
                    total.dials[tree.slug(deed["name"])] = min(1.0, float(deed["value"]) * much)
                case "setting":
                    total.settings[deed["name"]] = total.settings.get(deed["name"], 0.0) + deed["by"] * much
                case "cover":
                    total.covers[deed["name"]] = min(1.0, max(total.covers.get(deed["name"], 0.0), deed["share"] * much))
    return total


def spoken(thing: Thing, surface: Surface | None, makes: str, words: Lexicon) -> list[tuple[Qualifier, float]]:
    """What is said of a thing, after what its noun says by itself; without words whose pattern shows them already.

    >>> from silent_loom.core.words.lexicon import lexicon
    >>> from silent_loom.core.words.reading import read
    >>> told, words = read("hammered brass"), lexicon()
    >>> [q.says for q, _ in spoken(told.main, told.surface, "pattern:hammered-copper", words)]
    []
    """
    own = [(words.qualifiers[w], 1.0) for w in (surface.said if surface is not None else ())]
    seen = {f for f in thing.forms if thing.metal and words.forms[f] == makes and f != "polished"}
    return [*own, *((q, s) for q, s in thing.qualities if not seen & set(q.words))]


def in_colour(thing: Thing, surface: Surface | None) -> Sequence[float]:
    """The colour that is meant for a thing, sRGB-encoded; nothing where it keeps its own.

    >>> in_colour(Thing(metal=(1.0, 1.0, 1.0)), None)
    (1.0, 1.0, 1.0)
    """
    if thing.colours:
        return [sum(c[i] for _, c in thing.colours) / len(thing.colours) for i in range(3)]
    if thing.metal:
        return shown(thing.metal)
    if surface is not None and surface.colour:
        return rgb(surface.colour)
    return ()


def made_by(reading: Reading, words: Lexicon) -> tuple[str, ...]:
    """Recipes and patterns for the surface of a phrase, the best one first: what was done to a metal decides.

    >>> from silent_loom.core.words.lexicon import lexicon
    >>> from silent_loom.core.words.reading import read
    >>> made_by(read("cast bronze"), lexicon())[0]
    'pattern:cast-iron'
    """
    if reading.main.metal and reading.main.forms:
        return tuple(dict.fromkeys(words.forms[f] for f in reading.main.forms))
    return reading.surface.makes if reading.surface is not None else ()


DIFFERENT = (
    Aside(),
    Aside(light=0.05, warm=0.012, scale=0.72, more=0.6),
    Aside(light=-0.06, chroma=1.2, scale=1.35, depth=1.2, more=1.5),
    Aside(warm=-0.014, chroma=0.8, depth=0.75, scale=0.9, more=0.85),
    Aside(light=-0.03, warm=0.02, scale=1.15, depth=1.3, more=1.2),
    Aside(light=0.08, chroma=0.75, scale=0.85, depth=0.85, more=0.7),
)
"""How further results differ from the first, one after the other."""


def otherwise(want: Asked, thing: Thing, number: int) -> Asked:
    """What is asked for a further result: what was not said is a little otherwise, what was said stays as it was said.

    >>> otherwise(Asked(), Thing(), 0) == Asked()
    True
    >>> otherwise(Asked(scale=1.6), Thing(), 1).scale
    1.6
    """
    aside = DIFFERENT[number % len(DIFFERENT)]
    paint = not thing.colours and not thing.metal
    return replace(
        want,
        light=want.light + (aside.light if paint and not want.light else 0.3 * aside.light if not thing.metal else 0.0),
        chroma=want.chroma * (aside.chroma if paint and want.chroma == 1.0 else 1.0),
        warm=want.warm + (aside.warm if paint and not want.warm else 0.0),
        scale=want.scale if want.scale != 1.0 else aside.scale,
        depth=want.depth if want.depth != 1.0 else aside.depth,
        more=aside.more,
    )


def differs(want: Asked, thing: Thing, number: int) -> str:
    """In words, how a further result differs from what was asked.

    >>> differs(Asked(), Thing(), 0), differs(Asked(), Thing(), 1)
    ('', 'paler, warmer, finer')
    >>> differs(Asked(scale=1.6), Thing(metal=(1.0, 0.8, 0.3)), 2)
    'deeper'
    """
    now = otherwise(want, thing, number)
    told = [
        (now.light - want.light, "paler", "darker"),
        (now.warm - want.warm, "warmer", "cooler"),
        (now.scale - want.scale, "coarser", "finer"),
        (now.depth - want.depth, "deeper", "flatter"),
    ]
    return ", ".join(more if value > 0 else less for value, more, less in told if abs(value) > 1e-9)
