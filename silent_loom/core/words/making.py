"""The weave that a phrase asks for: a recipe or pattern, its colours, finish and scale, and what lies on it."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

from silent_loom.core.weave import registry
from silent_loom.core.weave.rows import tree
from silent_loom.core.weave.rows.beginnings import woven_from
from silent_loom.core.weave.rows.dials import knobs, reseeded, turned
from silent_loom.core.weave.rows.model import Drive, Entry, GroupEntry, Mask, StepEntry, Weave
from silent_loom.core.weave.rows.saved import shipped_recipe
from silent_loom.core.words.asking import Asked, asked, in_colour, otherwise, spoken
from silent_loom.core.words.colouring import main_dyes, recoloured, shifted
from silent_loom.core.words.laying import another, cover, covered, put_before_ends, within
from silent_loom.core.words.lexicon import Lexicon
from silent_loom.core.words.reading import Reading, Thing

NOT_LENGTHS = frozenset({"depth_mm"})


def woven(reading: Reading, makes: str, words: Lexicon, number: int = 0) -> Weave:
    """The weave that a phrase asks for, out of one of the recipes or patterns of its surface.

    Parameters
    ----------
    makes : str
        ``recipe:NAME`` or ``pattern:NAME``.
    number : int
        Another one of the same kind: other seeds (see `reseeded`), and whatever was not said a little otherwise (see
        `otherwise`).

    Raises
    ------
    WeaveError, SettingError

    >>> from silent_loom.core.words.lexicon import lexicon
    >>> from silent_loom.core.words.reading import read
    >>> [row.step for row in woven(read("gravel"), "pattern:gravel", lexicon()).rows()][:2]
    ['blank', 'stones']
    """
    surface, main = reading.surface, reading.main
    want = otherwise(asked(spoken(main, surface, makes, words)), main, number)
    known = surface is not None and makes == surface.makes[0]
    usual = surface.dials if surface is not None else {}
    weave = turned_to(beginning_of(makes), {**usual, **want.dials})
    weave = _coloured(_sized(weave, want), in_colour(main, surface), want, surface.dyes if surface is not None and known else ())
    dials = {k.name for k in knobs(weave)} & {*usual, *want.dials}
    shares = {n: s for n, s in want.covers.items() if not any(tree.slug(d) in dials for d in (n, *_same_as(n)))}
    rows: list[Entry] = [cover(words.covers[n], weave, s) for n, s in shares.items()]
    for thing in reading.lying:
        if thing.surface is not None:
            rows += another(weave, thing, _alone(thing, words, number))
        elif (turned_up := _by_dial(weave, thing, want.more)) is not None:
            weave = turned_up
        else:
            rows.append(covered(weave, thing, words, thing.share * want.more, asked(thing.qualities)))
    weave = put_before_ends(weave, [*_metal(weave, main), *rows, *_finish(weave, want)])
    return reseeded(weave, number)


def beginning_of(makes: str) -> Weave:
    """A recipe or a pattern as it ships.

    >>> len(beginning_of("pattern:gravel").steps) > 3
    True
    """
    kind, _, name = makes.partition(":")
    return shipped_recipe(name).weave if kind == "recipe" else woven_from(name)


def turned_to(weave: Weave, dials: Mapping[str, float]) -> Weave:
    """Dials set to shares of their range, as far as there are such dials.

    >>> turned_to(woven_from("gravel"), {"no such dial": 1.0}) == woven_from("gravel")
    False
    """
    known = {k.name: k for k in knobs(weave)}
    return turned(weave, {k: within(known[k].dial, v) for k, v in dials.items() if k in known})


def _by_dial(weave: Weave, thing: Thing, more: float) -> Weave | None:
    """A recipe's own dial for what lies on the surface, turned up; None where it has none, or the words say more than that."""
    dial = next((k.dial for k in knobs(weave) if k.name == tree.slug(thing.name)), None)
    if dial is None or thing.colours or thing.how == "between":
        return None
    stands = (dial.value - dial.low) / (dial.high - dial.low)
    share = min(0.4 * thing.share * more, 1.0)
    return turned(weave, {tree.slug(thing.name): within(dial, stands + (1 - stands) * share)})


def _alone(thing: Thing, words: Lexicon, number: int) -> Weave:
    """Another surface that is spoken of, by itself, in its own colours; a pattern where there is one, as it fits every sheet."""
    assert thing.surface is not None
    makes = next((m for m in thing.surface.makes if m.startswith("pattern:")), thing.surface.makes[0])
    want = otherwise(asked(spoken(thing, thing.surface, makes, words)), thing, number)
    weave = turned_to(beginning_of(makes), {**thing.surface.dials, **want.dials})
    return _coloured(_sized(weave, want), in_colour(thing, thing.surface), want, ())


def _same_as(name: str) -> tuple[str, ...]:
    return {
        "streaks": ("rust runs",),
        "worn": ("rubbed",),
        "flakes": ("bare",),
        "crazing": ("crazed",),
        "chips": ("chipped",),
    }.get(name, ())


def _sized(weave: Weave, want: Asked) -> Weave:
    """Patterns that make the relief drawn larger or deeper, and settings of the first one moved."""
    reliefs = [r for r in weave.rows() if registry.can(r.step, "pattern") and r.settings.get("into", "height") == "height"]
    for i, row in enumerate(reliefs):
        values = registry.settings_of(row.step, row.settings).model_dump()
        changed: dict[str, Any] = {}
        for name, info in registry.fields(row.step).items():
            extra = info.json_schema_extra
            if isinstance(extra, dict) and extra.get("unit") == "mm" and isinstance(values[name], int | float):
                factor = want.depth * math.sqrt(want.scale) if name in NOT_LENGTHS else want.scale
                changed[name] = values[name] * factor
            if i == 0 and name in want.settings and isinstance(values[name], int | float):
                changed[name] = min(max(values[name] + want.settings[name], _bound(info, "ge", 0.0)), _bound(info, "le", 1.0))
        changed = {k: v for k, v in changed.items() if v != values[k]}
        if changed:
            weave = _let_go(
                weave.with_settings(row.id, _allowed(row.step, changed)),
                row.id,
                {k: v / values[k] for k, v in changed.items() if values[k]},
            )
    return weave


def _bound(info: Any, which: str, otherwise: float) -> float:
    return next((float(getattr(m, which)) for m in info.metadata if hasattr(m, which)), otherwise)


def _allowed(step: str, values: dict[str, Any]) -> dict[str, Any]:
    fields = registry.fields(step)
    return {k: min(max(v, _bound(fields[k], "ge", v)), _bound(fields[k], "le", v)) for k, v in values.items()}


def _let_go(weave: Weave, row: str, factors: dict[str, float]) -> Weave:
    """Dials that move these settings move them as much further."""
    for place in list(tree.walk(weave.steps)):
        group = place.entry
        if not isinstance(group, GroupEntry) or not any(
            d.row == row and d.setting in factors for x in group.dials for d in x.drives
        ):
            continue

        def further(d: Drive) -> Drive:
            k = factors.get(d.setting, 1.0) if d.row == row else 1.0
            return d.model_copy(update={"low": d.low * k, "high": d.high * k})

        now = weave.group(group.id)
        dials = tuple(x.model_copy(update={"drives": tuple(further(d) for d in x.drives)}) for x in now.dials)
        weave = weave.with_entry(now.model_copy(update={"dials": dials}))
    return weave


def _coloured(weave: Weave, colour: Sequence[float], want: Asked, named: Sequence[str]) -> Weave:
    rows = main_dyes(weave, named)
    if len(colour):
        weave = recoloured(weave, rows, colour)
    if (want.light, want.chroma, want.warm) != (0.0, 1.0, 0.0):
        weave = shifted(weave, rows, want.light, want.chroma, want.warm)
    return weave


def _metal(weave: Weave, main: Thing) -> list[Entry]:
    """A row that makes bare metal of what is painted, where a metal is meant; nothing where the pattern is one."""
    if not main.metal:
        return []
    own = [r.settings for r in weave.rows() if registry.can(r.step, "grade") and r.settings.get("into") == "metallic"]
    if max((max(s.get("start", 0.0), s.get("end", 0.0)) for s in own), default=0.0) > 0.6:
        return []
    bare = {"thread": "height", "into": "metallic", "start": 1.0, "end": 1.0}
    return [StepEntry(step=registry.able("grade"), settings=bare, note="bare metal")]


def _finish(weave: Weave, want: Asked) -> list[Entry]:
    """Rows that make a finish that was asked for; joints keep their own."""
    threads = {t for r in weave.rows() for t in _written(r)}
    spared = Mask(thread="joint", inverted=True) if "joint" in threads else None
    rows: list[Entry] = []
    by = "mottle" if "mottle" in threads else "height"
    grades = registry.able("grade")
    if want.rough is not None:
        start, end = want.rough
        values = {"thread": by, "low": 0.2, "high": 0.8, "start": start, "end": end, "into": "roughness"}
        rows.append(StepEntry(step=grades, settings=values, mask=spared, amount=0.9, note="finish"))
    if want.metal is not None:
        values = {"thread": by, "start": want.metal, "end": want.metal, "into": "metallic"}
        rows.append(StepEntry(step=grades, settings=values, mask=spared, note="metal"))
    return rows


def _written(row: StepEntry) -> tuple[str, ...]:
    return registry.step(row.step).writes(registry.settings_of(row.step, row.settings))
