"""A weave made ready: every row with its step, its settings and the sheet around it, before anything is computed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from silent_loom.core.base.errors import NotMade, WeaveError
from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.parallel import Task
from silent_loom.core.weave import registry, threads
from silent_loom.core.weave.answers import masks
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.rows import tree
from silent_loom.core.weave.rows.model import StepEntry, Weave
from silent_loom.core.weave.rows.resolve import GroupEnd, resolved
from silent_loom.core.weave.settings import Settings
from silent_loom.core.weave.step import AnyStep, Geometry, MapStep, Sheet, Sources
from silent_loom.core.weave.threads import NOUNS, ThreadSpec


@dataclass(frozen=True)
class Row:
    """One step of a weave, made ready."""

    entry: StepEntry
    step: AnyStep
    settings: Settings
    before: Geometry
    after: Geometry
    reads: tuple[str, ...]
    writes: tuple[str, ...]
    present: Mapping[str, ThreadSpec]
    """Threads that exist above the row."""
    makers: Mapping[str, int]
    """Which row above it makes or carries each of them last."""
    made: Mapping[str, ThreadSpec]
    """What the threads mean that it writes."""
    error: WeaveError | None = None
    settings_key: str = ""
    """The settings, in one canonical piece of text."""
    laid: Geometry | None = None
    """Where it makes a repeating sheet that is laid on the model: that sheet."""
    first: int = -1
    """Where it ends a group that is mixed as a whole: position of the group's first row."""

    @property
    def ends_group(self) -> bool:
        return self.first >= 0

    def mixes(self, thread: str) -> bool:
        """Whether what it makes of a thread meets what was there, and does not simply take its place."""
        only = None if self.ends_group or self.error is not None else self.step.mixed(self.settings)
        partly = self.entry.mask is not None or self.entry.amount < 1 or self.entry.mix != "replace"
        return partly and (only is None or thread in only)


@dataclass(frozen=True)
class Plan:
    """Every step that is on, in order, with the sheet before and after it."""

    rows: tuple[Row, ...]
    geometry: Geometry
    threads: Mapping[str, ThreadSpec]
    """Threads of the finished sheet."""
    makers: Mapping[str, int]
    """Which row makes or carries each of them last."""
    keys: dict[Any, str] = field(default_factory=dict, compare=False, repr=False)
    """Keys found so far; a plan never changes."""
    inputs: dict[Any, Any] = field(default_factory=dict, compare=False, repr=False)
    """What values are made of, as far as somebody asked: see `inputs.Inputs`."""

    def maker(self, at: int, thread: str) -> int:
        """Index of the last row above ``at`` that writes or carries a thread, or −1."""
        return (self.rows[at].makers if at < len(self.rows) else self.makers).get(thread, -1)

    def threads_at(self, at: int) -> Mapping[str, ThreadSpec]:
        """Threads that exist above the row at a position, or of the finished sheet."""
        return self.rows[at].present if at < len(self.rows) else self.threads

    def spec(self, thread: str, at: int | None = None) -> ThreadSpec:
        """What a thread means on the finished sheet, or above the row at a position."""
        return self.threads_at(len(self.rows) if at is None else at).get(thread) or threads.spec(thread)

    def source_texels(self) -> int | None:
        """Texels along the longer side of the finished sheet that its sources hold; None where nothing comes from a file."""
        found = [max(r.after.native) / max(r.after.size_mm) for r in self.rows if r.after.native and not r.before.native]
        return round(max(found) * max(self.geometry.size_mm)) if found else None

    def lossless_texels(self) -> int | None:
        """Texels along the longer side from which on nothing is lost: those of its sources, and two for the finest thing of its
        patterns; None where nothing is as fine as anything."""
        finest = [r.step.finest(r.settings) for r in self.rows if r.error is None and r.entry.amount > 0]
        drawn = [round(2 * max(self.geometry.size_mm) / f) for f in finest if f > 0]
        return max([*drawn, *([n] if (n := self.source_texels()) is not None else [])], default=None)

    def unused(self) -> list[str]:
        """Helper threads that are made and that nothing below reads: no step, no mask. What is delivered is never among them."""
        read: set[str] = set()
        for row in self.rows:
            read.update(row.reads)
            if row.entry.mask is not None:
                read.add(row.entry.mask.thread)
        made = {t for row in self.rows for t in row.writes}
        return threads.order(t for t in made - read if t in self.threads and t not in threads.THREADS)

    def error(self) -> WeaveError | None:
        return next((r.error for r in self.rows if r.error), None)


def flat_part(plan: Plan, weave: Weave) -> Weave:
    """The rows of a weave that work on the flat sheet: those above the one that lays it on a model, all where none does.

    Of a group that holds that row, none is left.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> weave = woven_from("gravel")
    >>> flat_part(planned(weave, None), weave) == weave
    True
    """
    onto = next((r.entry.id for r in plan.rows if r.before.on is None and r.after.on is not None), None)
    if onto is None:
        return weave
    at = next(k for k, entry in enumerate(weave.steps) if onto in {e.id for e in tree.steps_of(entry)})
    return weave.model_copy(update={"steps": weave.steps[:at]})


class NoSettings(Settings):
    """Settings of what is no step of its own."""


class _NotKnown(MapStep[NoSettings]):
    """Stands in where a stored row names a step that there is not."""

    name = title = "?"
    sentence = ""
    Settings = NoSettings

    def run(self, s: NoSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task) -> dict[str, Image]:
        return {}


_NOTHING = _NotKnown()
_NO_SETTINGS = NoSettings()


def planned(weave: Weave, sources: Sources) -> Plan:
    """Make every row ready; nothing is computed, though sources may be opened for their size.

    A row that cannot run (a wrong setting, a missing thread) carries its error; rows above it still work.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> len(planned(woven_from("gravel"), None).rows) == len(woven_from("gravel").rows())
    True
    """
    rows: list[Row] = []
    places: list[int] = []  # where the resolved rows that are passed over would stand
    geometry = Geometry()
    present: dict[str, ThreadSpec] = {}
    makers: dict[str, int] = {}
    for entry in resolved(weave):
        places.append(len(rows))
        if isinstance(entry, GroupEnd):
            row: Row | None = _ended(entry, rows, places[entry.first], geometry, present, makers)
        else:
            row = _ready(entry, geometry, present, makers, sources)
        if row is None:
            continue
        rows.append(row)
        geometry = row.after
        touched = present if row.step.geometric else row.writes
        if touched:  # a thread that its row could not make keeps that row: whoever asks for it is told why
            makers = {**makers, **dict.fromkeys(touched, len(rows) - 1)}
        if row.error is None and row.made:
            present = {**present, **row.made}
    return Plan(tuple(rows), geometry, present, makers)


def _ready(
    entry: StepEntry, before: Geometry, present: Mapping[str, ThreadSpec], makers: Mapping[str, int], sources: Sources
) -> Row | None:
    """One row; None when its settings change nothing."""
    step = registry.known(entry.step)
    if step is None:
        error = WeaveError(
            f"there is no step called '{entry.step}' here",
            "weave",
            "It is kept; open the material where that step exists, or remove the row.",
        )
        return Row(entry, _NOTHING, _NO_SETTINGS, before, before, (), (), present, makers, {}, error)
    found: WeaveError | None = None
    try:
        settings = registry.settings_of(entry.step, entry.settings)
    except WeaveError as wrong:
        settings, found = step.Settings.model_construct(), wrong
    if found is None and step.idle(settings):
        return None
    reads, writes = step.reads(settings), step.writes(settings)
    gone = {t for t in step.does_without(settings) if t not in present}
    if gone and set(writes) - gone:
        reads, writes = (tuple(t for t in names if t not in gone) for names in (reads, writes))
    after, made = before, {}
    if found is None:
        found = _fits(entry, step, settings, reads, writes, present)
    if found is None:
        made = _made(entry, step, settings, writes, present)
        found = _agrees(step, made, present)
    if found is None:
        try:
            after = step.geometry(settings, _sheet_for(step, settings, before), sources)
        except WeaveError as wrong:
            found = wrong
    laid = None
    if found is None:
        found = _place(step, settings, reads, before)
    if found is None and before.on is not None and step.works_on(settings) == "sheet":
        laid, after = after, before
        if not laid.wraps:
            found = WeaveError("what it makes does not repeat, so it cannot be laid on", step.title, "Move it further up.")
    key = settings.model_dump_json()
    return Row(entry, step, settings, before, after, reads, writes, present, makers, made, found, key, laid)


def _sheet_for(step: AnyStep, settings: Settings, before: Geometry) -> Geometry:
    """The sheet that a row starts from: on a model, one as the material was on before it was laid on, where the row needs one."""
    if before.on is None or step.works_on(settings) != "sheet":
        return before
    return Geometry(before.on.sheet_mm, True)


def _place(step: AnyStep, settings: Settings, reads: tuple[str, ...], before: Geometry) -> WeaveError | None:
    """What is wrong with where a row works, if anything: on the sheet, or on the model."""
    works_on = step.works_on(settings)
    if works_on == "model" and before.on is None:
        return WeaveError(
            "it works on a model, and here everything still lies on a sheet", step.title, "Move it below the row that lays it on."
        )
    if works_on == "sheet" and before.on is not None and (reads or step.geometric):
        return WeaveError(
            "it works on a sheet, and here everything lies on a model", step.title, "Move it above the row that lays it on."
        )
    return None


def _fits(
    entry: StepEntry,
    step: AnyStep,
    settings: Settings,
    reads: tuple[str, ...],
    writes: tuple[str, ...],
    present: Mapping[str, ThreadSpec],
) -> WeaveError | None:
    """What is wrong with what a row reads, or writes into, if anything."""
    used = {*reads, *writes}
    for name, info in type(settings).model_fields.items():
        extra = info.json_schema_extra
        kinds = extra.get("kinds") if isinstance(extra, dict) else None
        thread = getattr(settings, name)
        if kinds and thread in used and thread in present and present[thread].kind not in kinds:  # type: ignore[operator]
            wanted = " or ".join(NOUNS[Kind(str(k))] for k in kinds)  # type: ignore[union-attr]
            meaning = present[thread]
            title = info.title or name.replace("_", " ")
            takes = "takes" if thread in reads else "has to be"
            return WeaveError(
                f"{title.lower()} {takes} {wanted}, and {meaning.title.lower()} is {NOUNS[meaning.kind]}",
                step.title,
                "Choose another thread.",
            )
    missing = next((t for t in reads if t not in present), None)
    if missing is not None:
        return NotMade(
            f"it needs {threads.spec(missing).title.lower()}, which no step above it makes",
            step.title,
            "Move it down, or add a step that makes it above.",
        )
    if step.geometric and not present:
        return NotMade("nothing comes into it", step.title, "Switch a step on above it that brings something in.")
    if words := step.objects(settings, present):
        return WeaveError(words, step.title, "Choose other threads.")
    return masks.check(entry.mask, present, step.title) if entry.mask is not None else None


def _made(
    entry: StepEntry, step: AnyStep, settings: Settings, writes: tuple[str, ...], present: Mapping[str, ThreadSpec]
) -> dict[str, ThreadSpec]:
    """What the threads mean that a row writes: as it declares, else as they were, else as the table says."""
    declared = {s.name: s for s in step.makes_of(settings, present)}
    partly = entry.mask is not None or entry.amount < 1 or entry.mix != "replace"
    made = {}
    for name in writes:
        meaning = declared.get(name) or present.get(name) or threads.spec(name)
        if partly and name in declared and name in present and present[name].kind == meaning.kind:
            added = entry.mix in ("add", "combine", "subtract") and meaning.unit == present[name].unit == "mm"
            # Both are there, each somewhere; reliefs that are added go as far as both together
            meaning = present[name].sum_with(meaning, entry.amount) if added else meaning.wider(present[name])
        made[name] = meaning
    return made


def _agrees(step: AnyStep, made: Mapping[str, ThreadSpec], present: Mapping[str, ThreadSpec]) -> WeaveError | None:
    """A thread keeps its kind all the way down."""
    for name, meaning in made.items():
        before = present.get(name) or threads.THREADS.get(name)
        if before is not None and before.kind is not meaning.kind:
            return WeaveError(
                f"it makes {NOUNS[meaning.kind]} of {before.title.lower()}, which is {NOUNS[before.kind]}",
                step.title,
                "Give what it makes another name.",
            )
    return None


def _ended(
    end: GroupEnd, rows: list[Row], first: int, here: Geometry, present: Mapping[str, ThreadSpec], makers: Mapping[str, int]
) -> Row | None:
    """The row that mixes what a group made with what came into it; None when the group holds nothing that works."""
    inside = rows[first:]
    if not inside:
        return None
    entry = StepEntry(id=end.id, step="group", mask=end.mask, amount=end.amount)
    error = masks.check(end.mask, inside[0].present, end.name) if end.mask is not None else None
    if error is None and any(r.step.geometric or r.after != r.before for r in inside):
        error = WeaveError(
            "a group that moves pixels is on or off, never mixed", end.name, "Take its mask away and its amount back to 100 %."
        )
    writes = () if error else tuple(dict.fromkeys(t for r in inside for t in r.writes if t in present))
    before = inside[0].present
    made = {t: present[t].wider(before[t]) if t in before else present[t] for t in writes}
    step = _GROUP
    return Row(entry, step, _NO_SETTINGS, here, here, (), writes, present, makers, made, error, "", None, first)


class _GroupMix(_NotKnown):
    name = title = "group"


_GROUP = _GroupMix()
