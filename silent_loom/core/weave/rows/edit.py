"""Changes of a weave, each from one weave to the next: rows, groups and dials."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from silent_loom.core.base.errors import SettingError, WeaveError
from silent_loom.core.weave import registry
from silent_loom.core.weave.rows import tree
from silent_loom.core.weave.rows.model import AMOUNT, DEEPEST, Dial, Drive, Entry, GroupEntry, SourceRef, StepEntry, Weave, new_id


def titled(weave: Weave, row_id: str) -> str:
    """The words for a row on screen: the title of its step, or the name of a group.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> weave = woven_from("gravel")
    >>> titled(weave, weave.rows()[0].id)
    'Empty sheet'
    """
    entry = weave.at(row_id)
    if isinstance(entry, GroupEntry):
        return entry.name
    step = registry.known(entry.step)
    return step.title if step is not None else entry.step


def _with(weave: Weave, steps: tuple[Entry, ...]) -> Weave:
    made = weave.model_copy(update={"steps": steps})
    if any(len(p.parents) > DEEPEST for p in tree.walk(steps)):
        raise WeaveError(f"groups lie in groups at most {DEEPEST} deep", "weave", "Dissolve one of them.")
    return made


def switched(weave: Weave, row_id: str, on: bool) -> Weave:
    """A row or group switched on or off.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> weave = woven_from("gravel")
    >>> switched(weave, weave.rows()[0].id, False).rows()[0].on
    False
    """
    return weave.with_entry(weave.at(row_id).model_copy(update={"on": on}))


def added(weave: Weave, new: StepEntry, to: int, into: str = "") -> Weave:
    """A row put into a group, or into the outermost list, at a position.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> weave = woven_from("gravel")
    >>> new = weave.rows()[-1].model_copy(update={"id": "new"})
    >>> added(weave, new, 0).rows()[0].id
    'new'
    """
    registry.settings_of(new.step, new.settings)
    return _with(weave, tree.inserted(weave.steps, into, to, (new,)))


def removed(weave: Weave, row_id: str) -> Weave:
    """A row, or a group with all that is in it, taken away; dials no longer move what is gone.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> weave = woven_from("gravel")
    >>> len(weave.rows()) - len(removed(weave, weave.rows()[-1].id).rows())
    1
    """
    gone = {p.entry.id for p in tree.walk((weave.at(row_id),))}
    return _without_drives(_with(weave, tree.replaced(weave.steps, row_id, ())), gone)


def moved(weave: Weave, row_id: str, to: int, into: str = "") -> Weave:
    """A row or group put elsewhere.

    Parameters
    ----------
    to : int
        Position among the rows of its new place, itself no longer counted.
    into : str
        Id of a group, or empty for the outermost list.

    Raises
    ------
    WeaveError
        A group would lie in itself.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> weave = woven_from("gravel")
    >>> moved(weave, weave.steps[0].id, 1).steps[1] == weave.steps[0]
    True
    """
    entry = weave.at(row_id)
    if into and any(p.entry.id == into for p in tree.walk((entry,))):
        raise WeaveError("a group cannot be put into itself", titled(weave, row_id), "Choose another place.")
    made = _with(weave, tree.inserted(tree.replaced(weave.steps, row_id, ()), into, to, (entry,)))
    return _drives_within(made)


def grouped(weave: Weave, row_ids: Sequence[str], name: str) -> tuple[Weave, str]:
    """Neighbouring rows put into a new group where the first of them was; the weave and the id of the group.

    Raises
    ------
    WeaveError
        The rows do not lie side by side.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> weave = woven_from("gravel")
    >>> made, ident = grouped(weave, [weave.rows()[-1].id], "Last")
    >>> made.at(ident).name
    'Last'
    """
    if not row_ids:
        raise WeaveError("no rows are chosen", "group", "Choose some.")
    places = sorted((tree.at(weave.steps, r) for r in dict.fromkeys(row_ids)), key=lambda p: p.at)
    first = places[0]
    around = [tuple(g.id for g in p.parents) for p in places]
    if len(set(around)) > 1 or [p.at for p in places] != list(range(first.at, first.at + len(places))):
        raise WeaveError("these rows do not lie side by side", "group", "Choose neighbours of one list.")
    group = GroupEntry(name=name.strip()[:60] or "Group", rows=tuple(p.entry for p in places))
    steps = weave.steps
    for place in places[1:]:
        steps = tree.replaced(steps, place.entry.id, ())
    return _with(weave, tree.replaced(steps, first.entry.id, (group,))), group.id


def dissolved(weave: Weave, group_id: str) -> Weave:
    """A group's rows put where it was, as its dials leave them; its mask and amount go.

    Raises
    ------
    WeaveError
        It is no group.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> weave = woven_from("gravel")
    >>> made, ident = grouped(weave, [weave.rows()[-1].id], "Last")
    >>> len(made.steps), dissolved(made, ident) == weave
    (6, True)
    """
    from silent_loom.core.weave.rows.resolve import resolved

    group = weave.group(group_id)
    left = {r.id: r for r in resolved(weave) if isinstance(r, StepEntry)}
    rows: tuple[Entry, ...] = group.rows
    if group.dials:
        for place in list(tree.walk(rows)):
            if place.entry.id in left:
                rows = tree.replaced(rows, place.entry.id, (left[place.entry.id],))
    if not group.on:
        rows = tuple(r.model_copy(update={"on": False}) for r in rows)
    return _without_drives(_with(weave, tree.replaced(weave.steps, group_id, rows)), {d.id for d in group.dials} | {group_id})


def renamed(weave: Weave, group_id: str, name: str) -> Weave:
    """A group called otherwise.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> weave = woven_from("gravel")
    >>> made, ident = grouped(weave, [weave.rows()[-1].id], "Last")
    >>> renamed(made, ident, "Finish").at(ident).name
    'Finish'
    """
    if not name.strip():
        raise WeaveError("a group needs a name", "group", "Give it one.")
    return weave.with_entry(weave.group(group_id).model_copy(update={"name": name.strip()[:60]}))


def folded(weave: Weave, group_id: str, shut: bool) -> Weave:
    """A group folded or opened on screen.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> weave = woven_from("gravel")
    >>> made, ident = grouped(weave, [weave.rows()[-1].id], "Last")
    >>> folded(made, ident, True).at(ident).folded
    True
    """
    return weave.with_entry(weave.group(group_id).model_copy(update={"folded": shut}))


def noted(weave: Weave, row_id: str, note: str) -> Weave:
    """A weave with what is noted of a row or a group.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> weave = woven_from("gravel")
    >>> noted(weave, weave.rows()[0].id, "a first try").rows()[0].note
    'a first try'
    """
    return weave.with_entry(weave.at(row_id).model_copy(update={"note": note.strip()[:1000]}))


def pasted(weave: Weave, entries: Sequence[Entry], to: int, into: str, sources: Mapping[str, SourceRef]) -> Weave:
    """A weave with rows of another material put in; they get ids of their own, and their dials move them as before.

    Raises
    ------
    WeaveError
        A file behind one of them is not there.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> weave = woven_from("gravel")
    >>> len(pasted(weave, weave.steps[-1:], 0, "", {}).steps) - len(weave.steps)
    1
    """
    made = [_anew(e, {}) for e in entries]
    for row in (r for e in made for r in tree.steps_of(e)):
        for digest in digests(row.settings):
            if digest not in sources and digest not in weave.sources:
                raise WeaveError("a file behind it is not in this library", row.step, "Take in the material itself first.")
    steps = tree.inserted(weave.steps, into, to, made)
    used = {d: r for d, r in sources.items() if d not in weave.sources}
    return _with(weave.model_copy(update={"sources": {**weave.sources, **used}}), steps)


def check_settings(entries: Sequence[Entry]) -> None:
    """Refuse rows whose step does not have the settings that they name; what no step knows stays as it is.

    Raises
    ------
    SettingError

    >>> check_settings(())
    """
    for place in tree.walk(tuple(entries)):
        if isinstance(place.entry, StepEntry) and registry.known(place.entry.step) is not None:
            registry.settings_of(place.entry.step, place.entry.settings)


def _anew(entry: Entry, names: dict[str, str]) -> Entry:
    """The same row under a new id, with all that is in it."""
    for place in tree.walk((entry,)):
        names.setdefault(place.entry.id, new_id())
        for dial in getattr(place.entry, "dials", ()):
            names.setdefault(dial.id, new_id())
    if isinstance(entry, StepEntry):
        return entry.model_copy(update={"id": names[entry.id]})
    dials = tuple(
        d.model_copy(
            update={
                "id": names[d.id],
                "drives": tuple(
                    x.model_copy(update={"row": names.get(x.row, x.row), "setting": names.get(x.setting, x.setting)})
                    for x in d.drives
                ),
            }
        )
        for d in entry.dials
    )
    return entry.model_copy(update={"id": names[entry.id], "dials": dials, "rows": tuple(_anew(r, names) for r in entry.rows)})


def digests(values: Any) -> set[str]:
    """Files that settings name, however deep.

    >>> digests({"source": "ab" * 32, "width_mm": 100}) == {"ab" * 32}
    True
    """
    if isinstance(values, str):
        return {values} if len(values) == 64 and not set(values) - set("0123456789abcdef") else set()
    inside = values.values() if isinstance(values, Mapping) else values if isinstance(values, list | tuple) else ()
    return {d for v in inside for d in digests(v)}


def mixed(weave: Weave, row_id: str, values: dict[str, Any]) -> Weave:
    """A row or group with another amount, mix or mask.

    Raises
    ------
    WeaveError
        It moves pixels.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> weave = woven_from("gravel")
    >>> mixed(weave, weave.rows()[0].id, {"amount": 0.5}).rows()[0].amount
    0.5
    """
    entry = weave.at(row_id)
    if isinstance(entry, StepEntry) and (step := registry.known(entry.step)) is not None and step.geometric:
        raise WeaveError("a step that moves pixels is on or off, never mixed", step.title, "Switch it off instead.")
    if isinstance(entry, GroupEntry):
        values = {k: v for k, v in values.items() if k != "mix"}
    return weave.with_entry(type(entry).model_validate({**entry.model_dump(), **values}))


# --- dials ------------------------------------------------------------------------------------------------------


def with_dial(weave: Weave, group_id: str, dial: Dial) -> Weave:
    """A group with a new dial, or with one of its dials replaced by another of the same id.

    Raises
    ------
    WeaveError, SettingError
        It moves what does not lie in the group, or no setting of a row there that is a number or a switch.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> from silent_loom.core.weave.rows.model import Drive
    >>> weave = woven_from("gravel")
    >>> last = weave.rows()[-1].id
    >>> weave, group = grouped(weave, [last], "Last")
    >>> dial = Dial(title="Wear", drives=(Drive(row=last, setting="@amount", low=0, high=1),))
    >>> [d.title for d in with_dial(weave, group, dial).group(group).dials]
    ['Wear']
    """
    group = weave.group(group_id)
    for drive in dial.drives:
        _check_drive(group, drive)
    others = [d.id for d in group.dials]
    dials = tuple(dial if d.id == dial.id else d for d in group.dials) if dial.id in others else (*group.dials, dial)
    return weave.with_entry(GroupEntry.model_validate({**group.model_dump(), "dials": [d.model_dump() for d in dials]}))


def turned(weave: Weave, group_id: str, dial: str, value: Any) -> Weave:
    """A group with a dial, named by its id or its title, turned to a value.

    Raises
    ------
    SettingError
        There is no such dial, or it does not go that far.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> from silent_loom.core.weave.rows.model import Drive
    >>> weave = woven_from("gravel")
    >>> last = weave.rows()[-1].id
    >>> weave, group = grouped(weave, [last], "Last")
    >>> weave = with_dial(weave, group, Dial(title="Wear", drives=(Drive(row=last, setting="@amount", low=0, high=1),)))
    >>> turned(weave, group, "Wear", 0.25).group(group).dials[0].value
    0.25
    """
    group = weave.group(group_id)
    found = next((d for d in group.dials if dial in (d.id, d.title, tree.slug(d.title))), None)
    where = f"{tree.slug(group.name)}.{dial}"
    if found is None:
        named = ", ".join(tree.slug(d.title) for d in group.dials) or "none"
        raise SettingError("this group has no such dial", where, f"Its dials: {named}.")
    if isinstance(value, bool) or not isinstance(value, int | float) or not found.low <= value <= found.high:
        raise SettingError(f"a dial takes a number from {found.low:g} to {found.high:g}", where, "Choose one between them.")
    dials = tuple(d.model_copy(update={"value": float(value)}) if d is found else d for d in group.dials)
    return weave.with_entry(group.model_copy(update={"dials": dials}))


def set_values(weave: Weave, row_id: str, values: Mapping[str, Any]) -> Weave:
    """Settings of a step, or dials of a group, changed and checked.

    Raises
    ------
    WeaveError, SettingError

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> weave = woven_from("gravel")
    >>> row = next(r for r in weave.rows() if r.step == "normal")
    >>> set_values(weave, row.id, {"strength": 2.0}).at(row.id).settings["strength"]
    2.0
    """
    if isinstance(weave.at(row_id), GroupEntry):
        for dial, value in values.items():
            weave = turned(weave, row_id, dial, value)
        return weave
    return weave.with_settings(row_id, dict(values))


def without_dial(weave: Weave, group_id: str, dial_id: str) -> Weave:
    """A group without a dial; what it moved keeps its own values.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> from silent_loom.core.weave.rows.model import Drive
    >>> weave = woven_from("gravel")
    >>> last = weave.rows()[-1].id
    >>> weave, group = grouped(weave, [last], "Last")
    >>> dial = Dial(title="Wear", drives=(Drive(row=last, setting="@amount", low=0, high=1),))
    >>> without_dial(with_dial(weave, group, dial), group, dial.id) == weave
    True
    """
    group = weave.group(group_id)
    made = weave.with_entry(group.model_copy(update={"dials": tuple(d for d in group.dials if d.id != dial_id)}))
    return _without_drives(made, {dial_id})


def _check_drive(group: GroupEntry, drive: Drive) -> None:
    inside = {p.entry.id: p.entry for p in tree.walk(group.rows)}
    entry = inside.get(drive.row)
    if entry is None:
        raise WeaveError("a dial moves rows of its own group only", group.name, "Choose a row in the group.")
    if isinstance(entry, GroupEntry):
        if all(d.id != drive.setting for d in entry.dials):
            raise SettingError("this group has no such dial", f"{entry.name}.{drive.setting}", "Choose one of its dials.")
        return
    if drive.setting == AMOUNT:
        if registry.step(entry.step).geometric:
            raise SettingError("a step that moves pixels is on or off", entry.step, "Choose another row.")
        return
    info = registry.fields(entry.step).get(drive.setting)
    if info is None or info.annotation not in (float, int, bool):
        raise SettingError(
            "a dial moves numbers and switches", f"{entry.step}.{drive.setting}", "Choose a setting that is a number."
        )


def _without_drives(weave: Weave, gone: set[str]) -> Weave:
    """A weave whose dials move nothing of what is gone: rows, groups or dials by their ids."""
    for place in list(tree.walk(weave.steps)):
        group = place.entry
        if not isinstance(group, GroupEntry) or not group.dials:
            continue
        dials = tuple(
            d.model_copy(update={"drives": tuple(x for x in d.drives if x.row not in gone and x.setting not in gone)})
            for d in group.dials
        )
        if dials != group.dials:
            weave = weave.with_entry(weave.group(group.id).model_copy(update={"dials": dials}))
    return weave


def _drives_within(weave: Weave) -> Weave:
    """A weave whose dials move rows of their own group only; a row that was taken out of it is let go."""
    for place in list(tree.walk(weave.steps)):
        group = place.entry
        if not isinstance(group, GroupEntry) or not group.dials:
            continue
        inside = {p.entry.id for p in tree.walk(group.rows)}
        dials = tuple(d.model_copy(update={"drives": tuple(x for x in d.drives if x.row in inside)}) for d in group.dials)
        if dials != group.dials:
            weave = weave.with_entry(weave.group(group.id).model_copy(update={"dials": dials}))
    return weave
