"""Rows in the wrong order: maps read before their source changed, and maps that are wanted before they are made."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from silent_loom.core.base.errors import NotMade
from silent_loom.core.weave import threads
from silent_loom.core.weave.answers.plan import Plan, Row
from silent_loom.core.weave.rows import tree
from silent_loom.core.weave.rows.model import Weave


@dataclass(frozen=True)
class Drift:
    """A map that was read off another one which changes afterwards.

    Attributes
    ----------
    thread : str
        The finished map that no longer agrees.
    source : str
        What it was read from.
    reader, changer : str
        Ids of the row that reads, and of the first row below it that changes the source.
    """

    thread: str
    source: str
    reader: str
    changer: str


def drifts(plan: Plan) -> list[Drift]:
    """Maps of the finished sheet that were read off a relief before it had its last form.

    Colour that changes after a height was read from it is how artists work, so only what is read off the relief counts. Steps
    that move pixels carry both alike.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> from silent_loom.core.weave.answers.plan import planned
    >>> drifts(planned(woven_from("gravel"), None))
    []
    """
    changed: dict[str, list[int]] = {}
    read: dict[str, dict[str, int]] = {}  # of each map, the row at which it was read off each relief
    for i, row in enumerate(plan.rows):
        if row.error is not None or row.step.geometric:
            continue
        reliefs = [t for t in row.reads if row.present.get(t, threads.spec(t)).unit == "mm" and t not in row.writes]
        partly = {t for t in row.writes if row.mixes(t) or t in row.reads}
        for name in row.writes:
            before = read.get(name, {}) if name in partly else {}
            if not row.ends_group:  # what lays a height and a normal over both at once leaves them in step
                before = {t: i if t in row.writes else at for t, at in before.items()}
            read[name] = {**dict.fromkeys(reliefs, i), **before} if name in threads.THREADS else before
            changed.setdefault(name, []).append(i)
    found = []
    for name, sources in read.items():
        for source, at in sources.items():
            later = [j for j in changed.get(source, []) if j > at]
            if name in plan.threads and later:
                found.append(Drift(name, source, plan.rows[at].entry.id, plan.rows[later[0]].entry.id))
    return found


def made_below(plan: Plan, row: Row) -> tuple[str, Row] | None:
    """A thread that a row needs and nothing above it makes, and the first row below it that does.

    >>> from silent_loom.core.weave.answers.plan import planned
    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> plan = planned(woven_from("gravel"), None)
    >>> made_below(plan, plan.rows[0]) is None
    True
    """
    if not isinstance(row.error, NotMade):
        return None
    at = plan.rows.index(row)
    wanted = [*row.reads, *([row.entry.mask.thread] if row.entry.mask is not None else [])]
    for thread in wanted:
        if thread not in row.present:
            maker = next((r for r in plan.rows[at + 1 :] if thread in r.writes), None)
            if maker is not None:
                return thread, maker
    return None


def can_rise(plan: Plan, row_id: str, above: str) -> bool:
    """Whether a row finds all that it reads where another one stands.

    >>> from silent_loom.core.weave.answers.plan import planned
    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> plan = planned(woven_from("gravel"), None)
    >>> can_rise(plan, plan.rows[-1].entry.id, plan.rows[0].entry.id)
    False
    """
    rows = {r.entry.id: i for i, r in enumerate(plan.rows)}
    if row_id not in rows or above not in rows:
        return False
    row, there = plan.rows[rows[row_id]], plan.rows[rows[above]].present
    wanted = [*row.reads, *([row.entry.mask.thread] if row.entry.mask is not None else [])]
    return all(t in there for t in wanted)


def beside(weave: Weave, row_id: str, other: str, *, below: bool = False) -> tuple[int, str]:
    """Where a row goes that is put right above or below another one: position, itself no longer counted, and group.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> weave = woven_from("gravel")
    >>> beside(weave, weave.steps[0].id, weave.steps[-1].id, below=True) == (len(weave.steps) - 1, "")
    True
    """
    places = {p.entry.id: p for p in tree.walk(weave.steps)}
    inside = {p.id for p in places[row_id].parents} if row_id in places else set()
    place = places[other]
    # Not into a group that the row is not in: a group stays what it was
    outer = next((g for g in place.parents if g.id not in inside), None)
    if outer is not None:
        place = places[outer.id]
    parent = place.parents[-1] if place.parents else None
    siblings: Iterable[str] = (e.id for e in (parent.rows if parent is not None else weave.steps))
    at = [s for s in siblings if s != row_id].index(place.entry.id)
    return at + below, parent.id if parent is not None else ""
