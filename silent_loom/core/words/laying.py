"""What lies on a surface or between its elements: moss, snow, stains, or another surface altogether."""

from __future__ import annotations

from typing import Any

from silent_loom.core.weave import registry
from silent_loom.core.weave.rows.model import Entry, GroupEntry, Mask, StepEntry, Weave
from silent_loom.core.weave.rows.recipes import RecipeGroup, RecipeRow, made
from silent_loom.core.words.asking import Asked
from silent_loom.core.words.colouring import recoloured, shifted
from silent_loom.core.words.lexicon import Lexicon
from silent_loom.core.words.reading import Thing

DRAWN_FOR = 1000.0
"""Millimetres of the repeat that covers are drawn for."""
LIES = "lies"
"""The mask by which most of what lies on a surface does so."""


def covered(weave: Weave, thing: Thing, words: Lexicon, share: float, own: Asked) -> GroupEntry:
    """Something out of the list of covers, in the colours and in the place that were said of it.

    Parameters
    ----------
    share : float
        How much of it, against what is usual.
    own : Asked
        What the words for it come to.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> from silent_loom.core.words.lexicon import lexicon
    >>> covered(woven_from("bricks"), Thing("moss", how="between"), lexicon(), 1.0, Asked()).name
    'Moss'
    """
    told = words.covers[thing.name]
    usual = told.dials[0].value if told.dials else 0.5
    group = _in_its_colours(cover(told, weave, min(1.0, usual * share)), thing, own)
    return _between(group) if thing.how == "between" and "joint" in _threads(weave) else group


def another(weave: Weave, thing: Thing, second: Weave) -> list[Entry]:
    """Another surface on the first: rows that say where it lies, and its own rows as a group that takes effect there.

    Single stones lie one by one, on what is below; everything else lies in patches, or in the joints.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> mask, pebbles = another(woven_from("dried-mud"), Thing("pebbles"), woven_from("pebbles"))[-2:]
    >>> pebbles.name, pebbles.mask.thread
    ('Pebbles', 'lies')
    """
    between = thing.how == "between" and "joint" in _threads(weave)
    entries, relief = _its_own(second)
    wheres = registry.able("where")
    rows: list[Entry] = []
    if between:
        values: dict[str, Any] = {"by": "thread", "thread": "joint", "start": 0.15, "end": 0.6}
        mix = "add"
    elif "dense" in registry.fields(relief.step):
        loose = {"dense": min(1.0, 0.42 * thing.share), "heap": 0.0}
        entries = _with_settings(entries, relief.id, loose)
        alone = {**relief.settings, **loose, "into": "lying"}
        rows.append(StepEntry(step=relief.step, settings=alone, note=f"where {thing.name} lie"))
        values = {"by": "thread", "thread": "lying", "start": 0.44, "end": 0.54}
        mix = "add"
    else:
        wide = _width(weave)
        values = {"by": "noise", "scale_mm": 0.3 * wide, "second": 0.6, "soft_mm": 0.008 * wide, "seed": 301}
        values["share"] = min(0.9, 0.45 * thing.share)
        mix = "replace"
    rows.append(StepEntry(step=wheres, settings={**values, "name": LIES}))
    entries = _mixed(entries, relief.id, mix)
    name = thing.name[:1].upper() + thing.name[1:]
    return [*rows, GroupEntry(name=name[:60], rows=entries, mask=Mask(thread=LIES), folded=True)]


def _its_own(second: Weave) -> tuple[tuple[Entry, ...], StepEntry]:
    """The rows of a surface without its sheet and its finished maps, and the one that makes its relief."""
    ends = {registry.maker("normal"), registry.maker("occlusion")}
    kept = tuple(e for e in second.steps if not (isinstance(e, StepEntry) and (registry.can(e.step, "sheet") or e.step in ends)))
    relief = next(r for r in Weave(steps=kept).rows() if registry.can(r.step, "pattern"))
    return kept, relief


def _with_settings(entries: tuple[Entry, ...], row: str, values: dict[str, Any]) -> tuple[Entry, ...]:
    return Weave(steps=entries).with_settings(row, values).steps


def _mixed(entries: tuple[Entry, ...], row: str, mix: Any) -> tuple[Entry, ...]:
    alone = Weave(steps=entries)
    return alone.with_entry(alone.entry(row).model_copy(update={"mix": mix})).steps


def _between(group: GroupEntry) -> GroupEntry:
    """A cover that lies in the joints, wherever else it would have lain."""
    rows: list[Entry] = []
    for row in group.rows:
        if isinstance(row, StepEntry) and registry.can(row.step, "where") and row.settings.get("name") == LIES:
            joints = {"by": "thread", "thread": "joint", "start": 0.15, "end": 0.6, "name": LIES}
            row = row.model_copy(update={"settings": joints})
        rows.append(row)
    driven = {r.id for r in rows if isinstance(r, StepEntry) and registry.can(r.step, "where")}
    dials = tuple(d.model_copy(update={"drives": tuple(x for x in d.drives if x.row not in driven)}) for d in group.dials)
    return group.model_copy(update={"rows": tuple(rows), "dials": tuple(d for d in dials if d.drives)})


def _threads(weave: Weave) -> set[str]:
    return {t for r in weave.rows() for t in registry.step(r.step).writes(registry.settings_of(r.step, r.settings))}


def _width(weave: Weave) -> float:
    """Millimetres of the repeat, across."""
    sheet = next((r for r in weave.rows() if registry.can(r.step, "sheet")), None)
    return float(getattr(registry.settings_of(sheet.step, sheet.settings), "width_mm", DRAWN_FOR)) if sheet else DRAWN_FOR


def within(dial: Any, share: float) -> float:
    """Where a dial stands at a share of its range; shares beyond it are its ends.

    >>> from types import SimpleNamespace
    >>> within(SimpleNamespace(low=2.0, high=4.0), 0.5)
    3.0
    """
    return float(dial.low + min(max(share, 0.0), 1.0) * (dial.high - dial.low))


def cover(told: RecipeGroup, weave: Weave, share: float) -> GroupEntry:
    """What lies on a surface, drawn for the size of its sheet, its first dial at a share.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> from silent_loom.core.words.lexicon import lexicon
    >>> told = lexicon().covers["wet"]
    >>> cover(told, woven_from("gravel"), 0.25).dials[0].value
    0.25
    """
    k = _width(weave) / DRAWN_FOR
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


def _in_its_colours(group: GroupEntry, thing: Thing, want: Asked) -> GroupEntry:
    """A cover in the colours that were said of it."""
    alone = Weave(steps=(group,))
    rows = [r for r in alone.rows() if registry.can(r.step, "dye")][:1]
    if thing.colours:
        alone = recoloured(alone, rows, thing.colours[0][1])
    if (want.light, want.chroma, want.warm) != (0.0, 1.0, 0.0):
        alone = shifted(alone, rows, 0.6 * want.light, want.chroma, want.warm)
    return alone.group(group.id)


def put_before_ends(weave: Weave, rows: list[Entry]) -> Weave:
    """Rows put in above those that read the finished relief: normals, occlusion.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> put_before_ends(woven_from("gravel"), [StepEntry(step="noise")]).steps[-3].step
    'noise'
    """
    ends = [registry.maker("normal"), registry.maker("occlusion")]
    at = next((i for i, e in enumerate(weave.steps) if isinstance(e, StepEntry) and e.step in ends), len(weave.steps))
    return weave.model_copy(update={"steps": (*weave.steps[:at], *rows, *weave.steps[at:])})
