"""Stored weaves in the form of today: settings that changed since are upgraded by their own step."""

from __future__ import annotations

from silent_loom.core.weave import registry
from silent_loom.core.weave.rows import tree
from silent_loom.core.weave.rows.model import StepEntry, Weave


def upgraded(weave: Weave) -> Weave:
    """A stored weave with the settings of every row in the form of today; what no step knows stays as it is.

    Settings that a step cannot upgrade stay, too: the row then says what is wrong with it.
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
        if settings != entry.settings:
            steps = tree.replaced(steps, entry.id, (entry.model_copy(update={"settings": settings, "version": step.version}),))
    return weave if steps is weave.steps else weave.model_copy(update={"steps": steps})


def stamped(weave: Weave) -> Weave:
    """A weave to be stored: every row names the version of its step, unless its settings are older still."""
    steps = weave.steps
    for place in list(tree.walk(steps)):
        entry = place.entry
        if isinstance(entry, StepEntry) and entry.version == 0 and (step := registry.known(entry.step)) is not None:
            steps = tree.replaced(steps, entry.id, (entry.model_copy(update={"version": step.version}),))
    return weave if steps is weave.steps else weave.model_copy(update={"steps": steps})
