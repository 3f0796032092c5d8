"""Walking and changing a tree of rows and groups, by loops: however deep it is, nothing calls itself."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from silent_loom.core.base.errors import WeaveError

if TYPE_CHECKING:
    from silent_loom.core.weave.rows.model import Entry, GroupEntry, StepEntry


@dataclass(frozen=True)
class Place:
    """A row or group, and where it is.

    Attributes
    ----------
    entry : StepEntry or GroupEntry
    parents : tuple of GroupEntry
        The groups that it lies in, from the outermost one.
    at : int
        Its position among its neighbours.
    """

    entry: Entry
    parents: tuple[GroupEntry, ...]
    at: int


def is_group(entry: Entry) -> bool:
    """Whether a row holds rows.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> is_group(woven_from("gravel").rows()[0])
    False
    """
    return hasattr(entry, "rows")


def walk(entries: Sequence[Entry]) -> Iterator[Place]:
    """Every row and group in the order in which they work, a group before its rows.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> len(list(walk(woven_from("gravel").steps)))
    15
    """
    todo = [Place(e, (), i) for i, e in reversed(list(enumerate(entries)))]
    while todo:
        place = todo.pop()
        yield place
        rows = getattr(place.entry, "rows", ())
        inside = (*place.parents, place.entry) if rows else ()
        todo += [Place(e, inside, i) for i, e in reversed(list(enumerate(rows)))]  # type: ignore[arg-type]


def steps_of(entry: Entry) -> list[StepEntry]:
    """The steps of a group, or a step by itself.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> [len(steps_of(e)) for e in woven_from("gravel").steps][:2]
    [1, 2]
    """
    return [p.entry for p in walk((entry,)) if not is_group(p.entry)]  # type: ignore[misc]


def at(entries: Sequence[Entry], row_id: str) -> Place:
    """Where a row is.

    Raises
    ------
    WeaveError
        When there is no such row.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> steps = woven_from("gravel").steps
    >>> at(steps, steps[1].id).entry == steps[1]
    True
    """
    for place in walk(entries):
        if place.entry.id == row_id:
            return place
    raise WeaveError("this row is no longer there", row_id, "Load the material again.")


def slug(words: str) -> str:
    """A name as it stands in a path: small letters, digits and underscores.

    >>> slug("Wet & worn, 2")
    'wet_worn_2'
    """
    return re.sub(r"[^a-z0-9]+", "_", words.lower()).strip("_") or "group"


def path_of(entries: Sequence[Entry], row_id: str) -> str:
    """The path of a row: names of the groups that it lies in, and its own, numbered where neighbours share it.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> weave = woven_from("gravel")
    >>> path_of(weave.steps, weave.rows()[-1].id)
    'occlusion'
    """
    place = at(entries, row_id)
    chain = (*place.parents, place.entry)
    parts = []
    for i, entry in enumerate(chain):
        neighbours = entries if i == 0 else chain[i - 1].rows  # type: ignore[union-attr]
        same = [e.id for e in neighbours if _name(e) == _name(entry)]
        number = same.index(entry.id)
        parts.append(f"{_name(entry)}#{number + 1}" if number else _name(entry))
    return "/".join(parts)


def _name(entry: Entry) -> str:
    return slug(entry.name) if is_group(entry) else entry.step  # type: ignore[union-attr]


def find(entries: Sequence[Entry], row: str) -> str:
    """Id of a row by its id or its path.

    A path names the groups from the outermost one, and last the step (or the group itself); ``#2`` is the second of a name.

    Raises
    ------
    WeaveError
        When there is none; what there is at that place is said.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> weave = woven_from("gravel")
    >>> find(weave.steps, "normal") == next(r.id for r in weave.rows() if r.step == "normal")
    True
    """
    if any(p.entry.id == row for p in walk(entries)):
        return row
    here: Sequence[Entry] = entries
    found: Entry | None = None
    for part in row.strip("/").split("/"):
        name, _, number = part.partition("#")
        same = [e for e in here if _name(e) == name]
        which = int(number) - 1 if number.isdigit() else 0
        if not 0 <= which < len(same):
            names = ", ".join(dict.fromkeys(_name(e) for e in here)) or "nothing"
            raise WeaveError(f"there is no row called '{part}'", row, f"There is {names}.")
        found = same[which]
        here = getattr(found, "rows", ())
    assert found is not None
    return found.id


def replaced(entries: Sequence[Entry], row_id: str, by: Sequence[Entry]) -> tuple[Entry, ...]:
    """The tree with one row or group replaced by none, one or several.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> steps = woven_from("gravel").steps
    >>> len(steps) - len(replaced(steps, steps[0].id, ()))
    1
    """
    place = at(entries, row_id)
    made: Sequence[Entry] = by
    where = place.at
    for parent in reversed(place.parents):
        rows = (*parent.rows[:where], *made, *parent.rows[where + 1 :])
        made = (parent.model_copy(update={"rows": rows}),)
        where = at(entries, parent.id).at
    return (*entries[:where], *made, *entries[where + 1 :])


def inserted(entries: Sequence[Entry], into: str, to: int, new: Sequence[Entry]) -> tuple[Entry, ...]:
    """The tree with rows put into a group (or the outermost list, without an id) at a position, as far as there is one.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> steps = woven_from("gravel").steps
    >>> inserted(steps[1:], "", 0, steps[:1]) == steps
    True
    """
    if not into:
        to = max(0, min(to, len(entries)))
        return (*entries[:to], *new, *entries[to:])
    group = at(entries, into).entry
    if not is_group(group):
        raise WeaveError("rows can only be put into a group", into, "Choose a group.")
    rows: tuple[Entry, ...] = group.rows  # type: ignore[union-attr]
    to = max(0, min(to, len(rows)))
    return replaced(entries, into, (group.model_copy(update={"rows": (*rows[:to], *new, *rows[to:])}),))
