"""Stored weaves in the form of today: settings that changed since are upgraded by their own step."""

from __future__ import annotations

import json
from typing import Any

from silent_loom.core.base.bounded_json import check_depth
from silent_loom.core.weave import registry
from silent_loom.core.weave.rows import tree
from silent_loom.core.weave.rows.model import StepEntry, Weave


def parsed(text: str | bytes) -> Weave:
    """A weave from its stored text, in the form of today.

    Rows that say nothing of a version were stored before versions were noted: their settings are of version 0.

    Raises
    ------
    ValueError
        It is no JSON, or no weave (pydantic's `ValidationError`).

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> weave = woven_from("gravel")
    >>> parsed(weave.model_dump_json()) == weave
    True
    """
    try:
        body: Any = json.loads(text)
        check_depth(body)
    except RecursionError:
        raise ValueError("it is nested too deep") from None
    todo = list(body["steps"]) if isinstance(body, dict) and isinstance(body.get("steps"), list) else []
    while todo:
        row = todo.pop()
        if isinstance(row, dict) and "step" in row:
            row.setdefault("version", 0)
        elif isinstance(row, dict) and isinstance(row.get("rows"), list):
            todo += row["rows"]
    return upgraded(Weave.model_validate(body))


def upgraded(weave: Weave) -> Weave:
    """A weave with the settings of every row in the form of today; what no step knows stays as it is.

    Settings that a step cannot upgrade stay, too: the row then says what is wrong with it.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> weave = woven_from("gravel")
    >>> upgraded(weave) == weave
    True
    """
    steps = weave.steps
    for place in list(tree.walk(steps)):
        entry = place.entry
        if not isinstance(entry, StepEntry):
            continue
        step = registry.known(entry.step)
        if step is None or entry.version >= step.version:
            continue
        try:
            settings = step.upgrade(dict(entry.settings), entry.version)
        except (KeyError, TypeError, ValueError):
            continue
        steps = tree.replaced(steps, entry.id, (entry.model_copy(update={"settings": settings, "version": step.version}),))
    return weave if steps is weave.steps else weave.model_copy(update={"steps": steps})
