"""From stored rows to plain ones: groups opened, dials turned into settings. Whatever evaluates knows neither."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from silent_loom.core.weave import registry
from silent_loom.core.weave.rows import tree
from silent_loom.core.weave.rows.formula import value_of
from silent_loom.core.weave.rows.model import AMOUNT, Dial, Drive, GroupEntry, Mask, StepEntry, Weave


@dataclass(frozen=True)
class GroupEnd:
    """Where a group that takes effect in part ends: what its rows made is mixed with what came into it.

    Attributes
    ----------
    id, name
        Of the group.
    first : int
        Position of the group's first row among the resolved ones.
    """

    id: str
    name: str
    first: int
    mask: Mask | None
    amount: float


Resolved = StepEntry | GroupEnd


def resolved(weave: Weave) -> list[Resolved]:
    """The rows that are on, in order, their settings as dials leave them, and the ends of groups that are mixed as a whole.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> len(resolved(woven_from("gravel"))) == len(woven_from("gravel").rows())
    True
    """
    rows: list[Resolved] = []
    open_groups: list[tuple[GroupEntry, int]] = []
    turned: dict[str, dict[str, float]] = {}

    def close(until: int) -> None:
        while len(open_groups) > until:
            group, first = open_groups.pop()
            if (group.mask is not None or group.amount < 1) and first < len(rows):
                rows.append(GroupEnd(group.id, group.name, first, group.mask, group.amount))

    for place in tree.walk(weave.steps):
        if not all(g.on for g in place.parents) or not place.entry.on:
            continue
        close(len(place.parents))
        entry = place.entry
        if isinstance(entry, GroupEntry):
            open_groups.append((entry, len(rows)))
            mine = turned.get(entry.id, {})  # a dial may turn the dial of a group inside, named by its id
            for dial in entry.dials:  # an inner dial comes later and has the last word
                if dial.id in mine:
                    dial = dial.model_copy(update={"value": min(max(mine[dial.id], dial.low), dial.high)})
                for drive in dial.drives:
                    turned.setdefault(drive.row, {})[drive.setting] = driven(dial, drive)
            continue
        values = dict(turned.get(entry.id, {}))
        amount = min(max(values.pop(AMOUNT, entry.amount), 0.0), 1.0)
        driven_to = {**entry.settings, **_fitting(entry.step, values)}
        rows.append(
            entry.model_copy(update={"settings": driven_to, "amount": amount}) if values or amount != entry.amount else entry
        )
    close(0)
    return rows


def driven(dial: Dial, drive: Drive) -> float:
    """What a setting comes to as a dial stands.

    >>> d = Dial(title="Wear", value=0.25, drives=(Drive(row="a", setting="amount", low=10, high=30),))
    >>> driven(d, d.drives[0])
    15.0
    """
    t = (dial.value - dial.low) / (dial.high - dial.low)
    if drive.formula:
        return value_of(drive.formula, t, dial.value, drive.low, drive.high)
    if drive.curve:
        t = float(np.interp(t, [x for x, _ in drive.curve], [y for _, y in drive.curve]))
    return drive.low + t * (drive.high - drive.low)


def _fitting(step: str, values: dict[str, float]) -> dict[str, Any]:
    """Driven values as the settings take them: whole numbers where these are whole, switches above the middle."""
    fields = registry.fields(step)
    made: dict[str, Any] = {}
    for name, value in values.items():
        info = fields.get(name)
        kind = info.annotation if info is not None else None
        for bound in info.metadata if info is not None else ():  # a formula may go beyond what the setting takes
            value = max(value, getattr(bound, "ge", value))
            value = min(value, getattr(bound, "le", value))
        made[name] = value > 0.5 if kind is bool else round(value) if kind is int else value
    return made


def steered(weave: Weave) -> dict[str, dict[str, str]]:
    """Which dial moves which setting: names of dials by row and setting.

    >>> from silent_loom.core.weave.rows.saved import shipped_recipe
    >>> len(steered(shipped_recipe("slate-roof").weave)) > 0
    True
    """
    found: dict[str, dict[str, str]] = {}
    for place in tree.walk(weave.steps):
        for dial in getattr(place.entry, "dials", ()):
            for drive in dial.drives:
                found.setdefault(drive.row, {})[drive.setting] = dial.title
    return found
