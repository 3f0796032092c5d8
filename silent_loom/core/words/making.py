"""The weave that a phrase asks for: a recipe or pattern, its colours, finish and scale, and what lies on it."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from silent_loom.core.weave import registry
from silent_loom.core.weave.rows import tree
from silent_loom.core.weave.rows.beginnings import woven_from
from silent_loom.core.weave.rows.dials import knobs, reseeded, turned
from silent_loom.core.weave.rows.model import Drive, Entry, GroupEntry, Mask, StepEntry, Weave
from silent_loom.core.weave.rows.recipes import RecipeGroup, RecipeRow, made
from silent_loom.core.weave.rows.saved import shipped_recipe
from silent_loom.core.words.colouring import main_dyes, recoloured, shifted
from silent_loom.core.words.lexicon import Lexicon, Qualifier
from silent_loom.core.words.reading import Reading, Thing

DRAWN_FOR = 1000.0
"""Millimetres of the repeat that covers are drawn for."""
NOT_LENGTHS = frozenset({"depth_mm"})


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


def woven(reading: Reading, makes: str, words: Lexicon, number: int = 0) -> Weave:
    """The weave that a phrase asks for, out of one of the recipes or patterns of its surface.

    Parameters
    ----------
    makes : str
        ``recipe:NAME`` or ``pattern:NAME``.
    number : int
        Another one of the same kind: see `reseeded`.

    Raises
    ------
    WeaveError, SettingError

    >>> from silent_loom.core.words.lexicon import lexicon
    >>> from silent_loom.core.words.reading import read
    >>> [row.step for row in woven(read("gravel"), "pattern:gravel", lexicon()).rows()][:2]
    ['blank', 'stones']
    """
    kind, _, name = makes.partition(":")
    weave = shipped_recipe(name).weave if kind == "recipe" else woven_from(name)
    surface, want = reading.surface, asked(reading.main.qualities)
    known = {k.name: k for k in knobs(weave)}
    usual = surface.dials if surface is not None else {}
    dials = {k: v for k, v in {**usual, **want.dials}.items() if k in known}
    weave = turned(weave, {k: _within(known[k].dial, v) for k, v in dials.items()})
    weave = _sized(weave, want)
    weave = _coloured(weave, reading.main, want, () if surface is None or makes != surface.makes[0] else surface.dyes)
    shares = {n: s for n, s in want.covers.items() if not any(tree.slug(d) in dials for d in (n, *_same_as(n)))}
    rows = [cover(words.covers[n], weave, s) for n, s in shares.items()]
    for thing in reading.lying:
        dial = tree.slug(thing.name)
        if dial in known and not thing.colours and not thing.qualities:
            now = next(k.dial for k in knobs(weave) if k.name == dial)
            stands = (now.value - now.low) / (now.high - now.low)
            weave = turned(weave, {dial: _within(now, stands + (1 - stands) * min(0.5 * thing.share, 1.0))})
            continue
        own = asked(thing.qualities)
        group = cover(words.covers[thing.name], weave, min(1.0, _usual(words.covers[thing.name]) * thing.share))
        rows.append(_cover_coloured(group, thing, own))
    weave = _put_before_ends(weave, [*rows, *_finish(weave, want)])
    return reseeded(weave, number)


def _same_as(name: str) -> tuple[str, ...]:
    return {
        "streaks": ("rust runs",),
        "worn": ("rubbed",),
        "flakes": ("bare",),
        "crazing": ("crazed",),
        "chips": ("chipped",),
    }.get(name, ())


def _within(dial: Any, share: float) -> float:
    return float(dial.low + min(max(share, 0.0), 1.0) * (dial.high - dial.low))


def _usual(group: RecipeGroup) -> float:
    return group.dials[0].value if group.dials else 0.5


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


def _coloured(weave: Weave, thing: Thing, want: Asked, named: Sequence[str]) -> Weave:
    rows = main_dyes(weave, named)
    if thing.colours:
        mixed = [sum(c[i] for _, c in thing.colours) / len(thing.colours) for i in range(3)]
        weave = recoloured(weave, rows, mixed)
    if (want.light, want.chroma, want.warm) != (0.0, 1.0, 0.0):
        weave = shifted(weave, rows, want.light, want.chroma, want.warm)
    return weave


def cover(told: RecipeGroup, weave: Weave, share: float) -> GroupEntry:
    """What lies on a surface, drawn for the size of its sheet, its first dial at a share.

    >>> from silent_loom.core.words.lexicon import lexicon
    >>> told = lexicon().covers["wet"]
    >>> cover(told, woven_from("gravel"), 0.25).dials[0].value
    0.25
    """
    sheet = next((r for r in weave.rows() if registry.can(r.step, "sheet")), None)
    width = float(getattr(registry.settings_of(sheet.step, sheet.settings), "width_mm", DRAWN_FOR)) if sheet else DRAWN_FOR
    k = width / DRAWN_FOR
    rows = tuple(r.model_copy(update={"settings": _scaled(r, k)}) for r in told.rows if isinstance(r, RecipeRow))
    dials = tuple(
        d.model_copy(update={"value": d.low + share * (d.high - d.low)}) if i == 0 else d for i, d in enumerate(told.dials)
    )
    (group,) = made((told.model_copy(update={"rows": rows, "dials": dials, "folded": True}),))
    assert isinstance(group, GroupEntry)
    return group


def _scaled(row: RecipeRow, k: float) -> dict[str, Any]:
    fields = registry.fields(row.step)
    found = {}
    for name, value in row.settings.items():
        extra = fields[name].json_schema_extra if name in fields else None
        long = isinstance(extra, dict) and extra.get("unit") == "mm" and isinstance(value, int | float)
        found[name] = round(value * k, 5) if long else value
    return found


def _cover_coloured(group: GroupEntry, thing: Thing, want: Asked) -> GroupEntry:
    """A cover in the colours that were said of it."""
    alone = Weave(steps=(group,))
    rows = [r for r in alone.rows() if registry.can(r.step, "dye")][:1]
    if thing.colours:
        alone = recoloured(alone, rows, thing.colours[0][1])
    if (want.light, want.chroma, want.warm) != (0.0, 1.0, 0.0):
        alone = shifted(alone, rows, 0.6 * want.light, want.chroma, want.warm)
    return alone.group(group.id)


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


def _put_before_ends(weave: Weave, rows: list[Entry]) -> Weave:
    """Rows put in above those that read the finished relief: normals, occlusion."""
    ends = [registry.maker("normal"), registry.maker("occlusion")]
    at = next((i for i, e in enumerate(weave.steps) if isinstance(e, StepEntry) and e.step in ends), len(weave.steps))
    return weave.model_copy(update={"steps": (*weave.steps[:at], *rows, *weave.steps[at:])})
