"""A material that was made of a recipe, brought up to date: what the artist changed in it stays."""

from __future__ import annotations

from typing import Any

from silent_loom.core.weave import registry
from silent_loom.core.weave.rows import tree
from silent_loom.core.weave.rows.model import Entry, GroupEntry, StepEntry, Weave

_KEPT = ("on", "amount", "mask", "mix", "note", "name", "folded")


def followed(material: Weave, then: Weave, now: Weave) -> Weave:
    """What the recipe says now, with everything that was changed in the material since it was made.

    Rows are matched by their ids. A merge of three: what material and recipe both changed is as the artist has it; what only the
    recipe changed is as the recipe has it. Rows that the artist added stay after the row that they stood behind; rows that the
    artist took out stay out.

    Parameters
    ----------
    material : Weave
    then, now : Weave
        The recipe as it was when the material was made, and as it is.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> weave = woven_from("gravel")
    >>> followed(weave, weave, weave) == weave
    True
    """
    mine, old = ({p.entry.id: p.entry for p in tree.walk(w.steps)} for w in (material, then))
    made = now
    for place in list(tree.walk(now.steps)):
        ident = place.entry.id
        if ident in old and ident not in mine:
            if any(p.entry.id == ident for p in tree.walk(made.steps)):
                made = made.model_copy(update={"steps": tree.replaced(made.steps, ident, ())})
        elif ident in old and ident in mine and type(mine[ident]) is type(place.entry):
            made = made.with_entry(_changed(made.at(ident), old[ident], mine[ident]))
    for place in tree.walk(material.steps):
        ident = place.entry.id
        if ident in old or any(p.entry.id == ident for p in tree.walk(made.steps)):
            continue
        made = made.model_copy(update={"steps": _added(made, material, place)})
    used = {**now.sources, **material.sources}
    return made.model_copy(update={"sources": used})


def _changed(new: Entry, old: Entry, mine: Entry) -> Entry:
    update: dict[str, Any] = {
        k: getattr(mine, k) for k in _KEPT if hasattr(mine, k) and getattr(mine, k) != getattr(old, k, None)
    }
    if isinstance(new, GroupEntry) and isinstance(old, GroupEntry) and isinstance(mine, GroupEntry):
        before, here = ({d.id: d for d in g.dials} for g in (old, mine))
        turned = {k: d.value for k, d in here.items() if k in before and d.value != before[k].value}
        kept = [d.model_copy(update={"value": min(max(turned[d.id], d.low), d.high)}) if d.id in turned else d for d in new.dials]
        update["dials"] = (*kept, *(d for k, d in here.items() if k not in before))
    elif isinstance(new, StepEntry) and isinstance(old, StepEntry) and isinstance(mine, StepEntry) and new.step == mine.step:
        fields = registry.fields(new.step)
        own = {k: v for k, v in mine.settings.items() if old.settings.get(k) != v and k in fields}
        back = [k for k in old.settings if k not in mine.settings]  # set back to what the step says itself
        update["settings"] = {**{k: v for k, v in new.settings.items() if k not in back}, **own}
    return new.model_copy(update=update)


def _added(made: Weave, material: Weave, place: tree.Place) -> tuple[Entry, ...]:
    """The rows with one more of the artist's own, where it stood."""
    there = {p.entry.id for p in tree.walk(made.steps)}
    parent = place.parents[-1] if place.parents else None
    into = parent.id if parent is not None and parent.id in there else ""
    siblings = material.steps if parent is None else parent.rows
    rows = made.steps if not into else made.group(into).rows
    before = [e.id for e in siblings[: place.at]]
    at = next((i + 1 for i in range(len(rows) - 1, -1, -1) if rows[i].id in before), 0 if not before else len(rows))
    entry = place.entry
    if isinstance(entry, GroupEntry):  # rows of the recipe that the artist put into it stay where the recipe has them
        entry = entry.model_copy(update={"rows": tuple(r for r in entry.rows if r.id not in there)})
    return tree.inserted(made.steps, into, at, (entry,))
