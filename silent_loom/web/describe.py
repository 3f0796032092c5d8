"""What the pages need to know of steps and weaves, made from their declarations."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cache
from typing import Any, Literal, get_args, get_origin

from pydantic.fields import FieldInfo

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.weave import registry, threads
from silent_loom.core.weave.answers.costs import Costs
from silent_loom.core.weave.answers.drift import Drift, beside, can_rise, drifts, made_below
from silent_loom.core.weave.answers.masks import KINDS
from silent_loom.core.weave.answers.plan import Plan, Row
from silent_loom.core.weave.rows import tree
from silent_loom.core.weave.rows.model import GroupEntry, MixMode, StepEntry, Weave
from silent_loom.core.weave.rows.resolve import driven, steered
from silent_loom.core.weave.threads import ThreadSpec

DRAWN = (
    "curve",
    "corners",
    "colour",
    "source",
    "grid",
    "regions",
    "strokes",
    "kept",
    "grey",
    "maps",
    "thread",
    "sizes",
    "over",
    "ramp",
    "edits",
    "sun",
    "draft",
    "path",
    "model",
)
"""Shapes that have controls of their own."""


def _bound(info: FieldInfo, name: str) -> float | None:
    return next((getattr(m, name) for m in info.metadata if getattr(m, name, None) is not None), None)


def _field(name: str, info: FieldInfo) -> dict[str, Any]:
    extra = info.json_schema_extra if isinstance(info.json_schema_extra, dict) else {}
    kind, choices = "number", None
    annotation: Any = info.annotation
    if get_origin(annotation) is Literal:
        kind, choices = "choice", list(get_args(annotation))
    elif annotation is bool:
        kind = "switch"
    elif annotation is str:
        kind = "text"
    optional = type(None) in get_args(annotation)
    return {
        "name": name,
        "title": info.title or name.replace("_mm", "").replace("_", " ").capitalize(),
        "says": info.description or "",
        "kind": extra.get("shape") if extra.get("shape") in DRAWN else kind,
        "shape": extra.get("shape") or "",
        "choices": choices,
        "unit": extra.get("unit") or "",
        "low": _bound(info, "ge"),
        "high": _bound(info, "le"),
        "soft": extra.get("soft"),
        "step": extra.get("step"),
        "log": bool(extra.get("log")),
        "when": extra.get("when"),
        "names": extra.get("names") or {},
        "empty": extra.get("empty") or "",
        "kinds": extra.get("kinds") or [],
        "also": extra.get("also") or [],
        "new": bool(extra.get("new")),
        "ends": extra.get("ends"),
        "dialled": annotation in (float, int, bool),
        "optional": optional,
        "default": info.get_default(),
    }


@cache
def steps() -> list[dict[str, Any]]:
    """Every step with its settings, for the controls on screen."""
    return [
        {
            "name": step.name,
            "title": step.title,
            "says": step.sentence,
            "geometric": step.geometric,
            "family": registry.families()[registry.family(step.name)],
            "words": list(step.words_for_it),
            "can": sorted(step.can),
            "panel": step.panel,
            "presets": [{"title": p.title, "settings": dict(p.settings), "kind": p.kind} for p in step.presets],
            "fields": [_field(n, i) for n, i in registry.fields(step.name).items()],
        }
        for step in registry.steps().values()
    ]


def _thread(meaning: ThreadSpec, made: bool) -> dict[str, Any]:
    return {
        "name": meaning.name,
        "title": meaning.title,
        "short": meaning.short or meaning.title,
        "dye": meaning.dye,
        "kind": str(meaning.kind),
        "unit": meaning.unit,
        "low": meaning.low,
        "high": meaning.high,
        "says": meaning.says,
        "channels": len(meaning.neutral),
        "masks": meaning.kind in KINDS,
        "made": made,
    }


def _knots(entry: StepEntry, row: Row | None) -> dict[str, str]:
    """Where a row touches threads, and how."""
    step = registry.known(entry.step)
    knots: dict[str, str] = {}
    if step is not None:
        try:
            settings = row.settings if row is not None else registry.settings_of(entry.step, entry.settings)
        except WeaveError:
            settings = step.Settings.model_construct()
        for t in step.reads(settings):
            knots[t] = "reads"
        for t in step.writes(settings):
            knots[t] = "both" if t in knots else "writes"
        if step.geometric:
            knots = dict.fromkeys(row.present if row else ("base",), "carries")
    if entry.mask:
        knots.setdefault(entry.mask.thread, "reads")
    return knots


def _step_row(weave: Weave, entry: StepEntry, row: Row | None) -> dict[str, Any]:
    step = registry.known(entry.step)
    error = str(row.error) if row and row.error else ""
    try:
        settings = row.settings if row is not None else registry.settings_of(entry.step, entry.settings)
        values = settings.model_dump(mode="json") if step is not None else dict(entry.settings)
        words = step.words(settings) if step is not None else ""
    except WeaveError as wrong:
        values, words, error = dict(entry.settings), "", error or str(wrong)
    digest = entry.settings.get("source")
    if registry.can(entry.step, "photo") and digest in weave.sources:
        words = weave.sources[digest].name
    return {
        **entry.model_dump(exclude={"settings"}),
        "settings": values,
        "title": step.title if step is not None else entry.step,
        "words": words,
        "knots": _knots(entry, row),
        "known": step is not None,
        "error": error if step is not None else error or f"There is no step called '{entry.step}' here.",
    }


def _group_row(weave: Weave, group: GroupEntry, planned: dict[str, Row], row: Row | None) -> dict[str, Any]:
    """A group as a row: the knots of all that is in it together."""
    knots: dict[str, str] = {}
    for entry in tree.steps_of(group):
        for thread, kind in _knots(entry, planned.get(entry.id)).items():
            knots[thread] = kind if knots.get(thread, kind) == kind else "both"
    if group.mask:
        knots.setdefault(group.mask.thread, "reads")
    dials = [
        {**d.model_dump(), "drives": [{**x.model_dump(), "now": driven(d, x), "path": _path(weave, x.row)} for x in d.drives]}
        for d in group.dials
    ]
    count = len(tree.steps_of(group))
    return {
        **group.model_dump(exclude={"rows", "dials"}),
        "group": True,
        "step": "",
        "mix": "replace",
        "settings": {},
        "dials": dials,
        "title": group.name,
        "words": f"{count} step{'s' if count != 1 else ''}",
        "knots": knots,
        "known": True,
        "error": str(row.error) if row and row.error else "",
    }


def _out_of_order(weave: Weave, plan: Plan, row: Row | None, drifted: list[Drift]) -> dict[str, Any]:
    """What is wrong with where a row stands, in words, and the presses that put it right."""
    if row is None or row.ends_group:
        return {"order": "", "cures": []}
    titles = {r.entry.id: r.step.title for r in plan.rows}
    if (below := made_below(plan, row)) is not None:
        thread, maker = below
        to, into = beside(weave, row.entry.id, maker.entry.id, below=True)
        name = plan.spec(thread).title.lower()
        cure = _move(f"Move it below {maker.step.title}", row.entry.id, to, into)
        return {"error": f"It needs {name}, which {maker.step.title} makes further down.", "order": "", "cures": [cure]}
    mine = [d for d in drifted if d.changer == row.entry.id]
    if not mine:
        return {"order": "", "cures": []}
    first = min(mine, key=lambda d: [r.entry.id for r in plan.rows].index(d.reader))
    maps = _listed(list(dict.fromkeys(plan.spec(d.thread).title for d in mine)))
    source = plan.spec(first.source).title.lower()
    one = len({d.thread for d in mine}) == 1
    words = f"{maps} {'was' if one else 'were'} made above, before this row changes the {source}; its work is missing there."
    cures = []
    if can_rise(plan, row.entry.id, first.reader):
        to, into = beside(weave, row.entry.id, first.reader)
        cures.append(_move(f"Move this row above {titles[first.reader]}", row.entry.id, to, into))
    readers = list(dict.fromkeys(d.reader for d in mine))
    again = [weave.at(i).model_dump(mode="json") for i in readers]
    names = _listed([titles[i] for i in readers])
    cures.append(
        {"words": f"Read {names} again at the end", "change": {"kind": "paste", "entries": again, "to": len(weave.steps)}}
    )
    return {"order": words, "cures": cures}


def _move(words: str, row_id: str, to: int, into: str) -> dict[str, Any]:
    return {"words": words, "change": {"kind": "move", "step_id": row_id, "to": to, "into": into}}


def _listed(names: list[str]) -> str:
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"


def _path(weave: Weave, row_id: str) -> str:
    return tree.path_of(weave.steps, row_id)


def _by_row(told: Sequence[tuple[str, float]]) -> dict[str, float]:
    """What each row costs, all of its threads together."""
    found: dict[str, float] = {}
    for key, value in told:
        row_id = key.partition(":")[0]
        found[row_id] = found.get(row_id, 0) + value
    return found


def weave(weave: Weave, plan: Plan, costs: Costs) -> dict[str, Any]:
    """A weave ready to draw: rows with their knots, groups before their rows, threads with their dyes."""
    planned = {r.entry.id: r for r in plan.rows}
    names = threads.order([*plan.threads, *(t.name for t in threads.THREADS.values() if t.always)])
    moved, spent = steered(weave), costs.told()
    seconds, sizes = _by_row(spent), _by_row(costs.memory())
    drifted = drifts(plan)
    rows = []
    above: list[str] = []  # threads that there are where a row stands; one that is off has those of the rows above it
    for place in tree.walk(weave.steps):
        entry, row = place.entry, planned.get(place.entry.id)
        if row is not None and isinstance(entry, StepEntry):
            above = list(row.present)
        here = above
        if row is not None and row.error is None:
            above = list({**row.present, **row.made})
        if isinstance(entry, GroupEntry):
            told = _group_row(weave, entry, planned, row)
            told["seconds"] = round(sum(seconds.get(e.id, 0.0) for e in tree.steps_of(entry)), 4)
            told["bytes"] = int(sum(sizes.get(e.id, 0) for e in tree.steps_of(entry)))
        else:
            told = _step_row(weave, entry, row)
            told["seconds"] = round(seconds.get(entry.id, 0.0), 4)
            told["bytes"] = int(sizes.get(entry.id, 0))
        told |= _out_of_order(weave, plan, row, drifted)
        in_use = entry.on and all(g.on for g in place.parents)
        rows.append(
            {
                **told,
                "group": isinstance(entry, GroupEntry),
                "idle": row is None and in_use and not isinstance(entry, GroupEntry),
                "parents": [g.id for g in place.parents],
                "at": place.at,
                "above": here,
                "path": _path(weave, entry.id),
                "steered": moved.get(entry.id, {}),
                "hidden": any(g.folded for g in place.parents),
                "resting": not in_use,
            }
        )
    return {
        "rows": rows,
        "threads": [_thread(plan.spec(t), t in plan.threads) for t in names],
        "size_mm": plan.geometry.size_mm,
        "sources": {d: r.name for d, r in weave.sources.items()},
        "unused": [plan.spec(t).title for t in plan.unused()],
        "wraps": plan.geometry.wraps,
        "on": _on(weave, plan),
        "native": next((list(r.after.native) for r in plan.rows if r.after.native), None),
    }


def _on(weave: Weave, plan: Plan) -> dict[str, Any] | None:
    """The model that the finished material lies on, if any."""
    on = plan.geometry.on
    if on is None:
        return None
    named = {"model": on.model, "uv": on.uv, "unit": on.unit, "up": on.up}
    return {**named, "name": weave.sources[on.model].name if on.model in weave.sources else ""}


MIXES = list(get_args(MixMode))
