"""Where a new row works: what changes a relief goes above the rows that read it, and a pattern does not take the height away."""

from __future__ import annotations

from silent_loom.core.weave import registry, threads
from silent_loom.core.weave.answers.drift import beside
from silent_loom.core.weave.answers.plan import Plan
from silent_loom.core.weave.rows import tree
from silent_loom.core.weave.rows.model import StepEntry, Weave


def fitting_place(plan: Plan, weave: Weave, new: StepEntry, to: int, into: str) -> tuple[StepEntry, int, str, str]:
    """A new row as it should go in, and where.

    Parameters
    ----------
    plan : Plan
        Of the weave without the row.
    new : StepEntry
    to, into
        Where the artist asked for it: a position, and the id of a group or nothing.

    Returns
    -------
    entry, to, into, words
        ``words`` say where it went instead, and are empty where it stays as it was asked for.

    Notes
    -----
    Below the asked place nothing changes. Above it, the first row that reads a relief for a map of the material (its normal,
    its occlusion …) is where a row that changes this relief has to be, or the map would no longer agree with it. Where the
    material lies on a model, what works on a sheet goes above the row that lays it on, and nothing else does. A pattern in
    a weave that has a height already makes a thread of its own, unless it is told to make the height.

    >>> from silent_loom.core.weave.answers.plan import planned
    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> weave = woven_from("gravel")
    >>> fitting_place(planned(weave, None), weave, StepEntry(step="tone"), 2, "")[1:]
    (2, '', '')
    """
    above = _above(plan, weave, to, into)
    new = _beside_the_height(plan, above, new)
    step = registry.step(new.step)
    settings = registry.settings_of(new.step, new.settings)
    reads, writes = step.reads(settings), step.writes(settings)
    onto = next((i for i in above if registry.can(plan.rows[i].entry.step, "lay on") and plan.rows[i].after.on), None)
    if onto is not None and step.works_on(settings) == "sheet" and (reads or step.geometric):
        at, group = beside(weave, new.id, plan.rows[onto].entry.id)
        return new, at, group, f"above {plan.rows[onto].step.title}, as it works on a sheet"
    if step.geometric:
        return new, to, into, ""
    if onto is not None:  # what is asked for on the model is not put back on the sheet
        above = [i for i in above if i > onto]
    lowest = max((i for i in above if set(reads) & set(plan.rows[i].writes) and not plan.rows[i].step.geometric), default=-1)
    for i in above:
        row = plan.rows[i]
        relief = [
            t for t in row.reads if t in writes and t not in row.writes and row.present.get(t, threads.spec(t)).unit == "mm"
        ]
        maps = [t for t in row.writes if t in threads.THREADS]
        if i > lowest and relief and maps and row.error is None and not row.step.geometric:
            at, group = beside(weave, new.id, row.entry.id)
            words = f"above {row.step.title}, which reads the {threads.spec(relief[0]).title.lower()}"
            return new, at, group, words
    return new, to, into, ""


def _above(plan: Plan, weave: Weave, to: int, into: str) -> list[int]:
    """Planned rows above a place, from the top down."""
    ids: list[str] = []
    for place in tree.walk(weave.steps):
        parent = place.parents[-1].id if place.parents else ""
        if parent == into and place.at >= to:
            break
        if into and ids and into not in {p.id for p in place.parents} and into in ids and place.entry.id != into:
            break  # the group has ended
        ids.append(place.entry.id)
    return [i for i, r in enumerate(plan.rows) if r.entry.id in ids]


def _beside_the_height(plan: Plan, above: list[int], new: StepEntry) -> StepEntry:
    if not registry.can(new.step, "pattern") or "into" in new.settings or not any("height" in plan.rows[i].writes for i in above):
        return new
    taken = {*threads.THREADS, *(t for r in plan.rows for t in (*r.present, *r.made))}
    name, n = new.step, 2
    while name in taken:
        name, n = f"{new.step}_{n}", n + 1
    return new.model_copy(update={"settings": {**new.settings, "into": name}})
