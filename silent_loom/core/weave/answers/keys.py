"""Keys of values: equal exactly when nothing that a value is made of has changed."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from typing import Any

from silent_loom.core.weave.answers.inputs import InputsOf, Place
from silent_loom.core.weave.answers.plan import Plan


def key_of(plan: Plan, place: Place, inputs: InputsOf) -> str:
    """Key of a value.

    Raises
    ------
    NotMade, WeaveError
        No row makes the thread there, or the one that would cannot run.

    >>> from silent_loom.core.weave.answers.evaluate import Evaluator
    >>> from silent_loom.core.weave.rows.model import StepEntry, Weave
    >>> evaluator = Evaluator(None)
    >>> of = lambda colour: evaluator.key(Weave(steps=(StepEntry(step="blank", settings={"colour": colour}),)), "base", 64)
    >>> of("#806040") == of("#806040"), of("#806040") == of("#806041")
    (True, False)
    """
    known, todo = plan.keys, [place]
    while todo:  # from above, so that no key asks for one that is not there yet
        at = todo[-1]
        if at not in known:
            made_of = inputs(plan, at)
            missing = [p for p in (*made_of.places(), *made_of.decides_on.values()) if p not in known]
            if missing:
                todo += missing
                continue
            known[at] = _made(plan, at, inputs)
        todo.pop()
    return known[place]


def _made(plan: Plan, place: Place, inputs: InputsOf) -> str:
    made_of, (_, thread, texels) = inputs(plan, place), place
    row = plan.rows[made_of.row]
    parts: list[Any] = [row.step.name, row.step.version, row.settings_key, thread, texels, row.after.size_mm]
    if row.after.on is not None:
        parts.append(repr(row.after.on))
    if row.step.geometric or row.ends_group:
        parts += [plan.keys[p] for p in made_of.reads.values()]
    else:
        parts += [[t, plan.keys[p]] for t, p in made_of.reads.items()]
    if (mixing := made_of.mixing) is not None:
        parts += [row.entry.mix, row.entry.amount]
        if mixing.mask is not None and row.entry.mask is not None:
            parts += [plan.keys[mixing.mask], row.entry.mask.model_dump_json()]
        parts.append(plan.keys[mixing.before] if mixing.before is not None else None)
    if row.step.decides:
        parts.append(decision_key(plan, made_of.row, made_of.decides_on, inputs))
    return _hash(*parts)


def decision_key(plan: Plan, i: int, decides_on: Mapping[str, Place], inputs: InputsOf) -> str:
    """Key of what the row at a position decides on these places.

    >>> from silent_loom.core.weave.answers.plan import planned
    >>> from silent_loom.core.weave.rows.model import StepEntry, Weave
    >>> plan = planned(Weave(steps=(StepEntry(step="blank"), StepEntry(step="light"))), None)
    >>> len(decision_key(plan, 1, {}, lambda plan, place: None))
    32
    """
    name = ("decision", i)
    if name not in plan.keys:
        row = plan.rows[i]
        reads = [[t, key_of(plan, p, inputs)] for t, p in decides_on.items()]
        said = "decision", row.step.name, row.step.version, row.settings_key, row.before.size_mm, reads
        plan.keys[name] = _hash(*said)
    return plan.keys[name]


def _hash(*parts: Any) -> str:
    return hashlib.sha256(json.dumps(parts, sort_keys=True, default=str).encode()).hexdigest()[:32]
