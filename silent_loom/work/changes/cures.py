"""A finding of the photo report mended by the step it names."""

from __future__ import annotations

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.report.finding import Finding
from silent_loom.core.weave import registry
from silent_loom.core.weave.rows import edit, tree
from silent_loom.core.weave.rows.model import StepEntry, Weave


def cured(weave: Weave, findings: list[Finding], code: str) -> tuple[Weave, str, str]:
    """A weave with a finding mended, the id of the row that does it, and the words for the history; the row is added where it is
    missing, below what brings the photo in.

    Raises
    ------
    WeaveError
        There is no such finding, or nothing mends it by itself.
    """
    found = next((f for f in findings if f.code == code and f.cure), None)
    if found is None or found.cure is None:
        raise WeaveError("there is nothing to mend by itself here", code, "See what it says.")
    entry, words = weave.first(found.cure.step), f"Report: {found.cure.words}"
    if entry is not None:
        now = registry.settings_of(entry.step, entry.settings).model_dump()
        settings = registry.plain(found.cure.changes(now))
        return weave.with_entry(entry.model_copy(update={"on": True})).with_settings(entry.id, settings), entry.id, words
    bringing = [p for p in tree.walk(weave.steps) if isinstance(p.entry, StepEntry) and _begins(p.entry.step)]
    entry = StepEntry(step=found.cure.step, settings=registry.plain(found.cure.settings))
    at, into = len(weave.steps), ""
    if bringing:
        last = bringing[-1]
        at, into = last.at + 1, last.parents[-1].id if last.parents else ""
    return edit.added(weave, entry, at, into), entry.id, words


def _begins(step: str) -> bool:
    """Whether a step belongs to how a photo comes in, above everything that mends it."""
    return registry.can(step, "straighten") or registry.can(step, "photo")
