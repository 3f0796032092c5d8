"""Changes of single rows: their settings, whether they are on, where they stand, how they are mixed."""

from __future__ import annotations

import json
from collections.abc import Collection
from typing import Any, Literal

from pydantic import Field

from silent_loom.core.base.errors import LoomError, SettingError
from silent_loom.core.form.uv.moved import moved
from silent_loom.core.report.whole_repeats import follow_grid
from silent_loom.core.weave import registry
from silent_loom.core.weave.answers.placing import fitting_place
from silent_loom.core.weave.rows import edit
from silent_loom.core.weave.rows.model import Entry, GroupEntry, Mask, MixMode, StepEntry, Weave
from silent_loom.core.weave.rows.ready import ready, with_ready
from silent_loom.core.weave.rows.upgrade import parsed
from silent_loom.work.changes.change import Changed, PlacedChange, RowChange, Seen


class SettingsChange(RowChange):
    """Set settings of a row, or dials of a group. A grid on the sheet follows corners that are moved on the photo."""

    kind: Literal["settings"] = "settings"
    settings: dict[str, Any] = {}

    def made(self, seen: Seen) -> Changed:
        row = self.row(seen)
        after = edit.set_values(seen.weave, row, self.settings)
        if registry.can(getattr(after.at(row), "step", ""), "straighten"):
            after = follow_grid(seen.evaluator, seen.weave, after)
        return after, f"{seen.title(row)}: {self._words(seen.weave, row)}"

    def _words(self, weave: Weave, row: str) -> str:
        entry = weave.at(row)
        fields = {} if isinstance(entry, GroupEntry) else registry.fields(entry.step)
        dials = {d.id: d.title for d in getattr(entry, "dials", ())}
        words = []
        for key, value in self.settings.items():
            info = fields.get(key)
            title = dials.get(key) or (info.title if info else None) or key.replace("_mm", "").replace("_", " ")
            short = "changed"
            if isinstance(value, float):
                short = f"{value:.4g}"
            elif isinstance(value, str | int | bool):
                short = str(value)
            words.append(f"{title} {short}")
        return ", ".join(words)[:200]


class Switch(RowChange):
    """Switch a row or group on or off."""

    kind: Literal["switch"] = "switch"
    on: bool = True

    def made(self, seen: Seen) -> Changed:
        row = self.row(seen)
        return edit.switched(seen.weave, row, self.on), f"{seen.title(row)} switched {'on' if self.on else 'off'}"


class Move(RowChange, PlacedChange):
    """Put a row or group elsewhere."""

    kind: Literal["move"] = "move"

    def made(self, seen: Seen) -> Changed:
        row = self.row(seen)
        return edit.moved(seen.weave, row, self.to, self.group(seen)), f"{seen.title(row)} moved"


class Add(PlacedChange):
    """Add a row of a step. It goes where it works, unless it is to go exactly where it is asked for."""

    kind: Literal["add"] = "add"
    step: str
    settings: dict[str, Any] = {}
    exact: bool = Field(False, description="A new row goes exactly where it is asked for, not where it works.")

    def made(self, seen: Seen) -> Changed:
        new, to, into, words = StepEntry(step=self.step, settings=self.settings), self.to, self.group(seen), ""
        registry.settings_of(new.step, new.settings)
        plan = seen.evaluator.plan(seen.weave)
        new = new.model_copy(update={"settings": {**registry.fresh_names(new.step, plan.threads), **new.settings}})
        if not self.exact:
            new, to, into, words = fitting_place(plan, seen.weave, new, to, into)
        title = registry.step(self.step).title
        return edit.added(seen.weave, new, to, into), f"{title} added{f' {words}' if words else ''}"


class AddReady(RowChange):
    """Add a group of rows that stands ready, below what it needs."""

    kind: Literal["ready"] = "ready"
    step_id: str = ""
    step: str = Field(description="Name of the ready group.")

    def made(self, seen: Seen) -> Changed:
        plan = seen.evaluator.plan(seen.weave)
        after = with_ready(seen.weave, self.step, plan.geometry.size_mm[0], plan.threads)
        return after, f"{ready()[self.step].title} added"


class Remove(RowChange):
    """Take a row or group out."""

    kind: Literal["remove"] = "remove"

    def made(self, seen: Seen) -> Changed:
        row = self.row(seen)
        return edit.removed(seen.weave, row), f"{seen.title(row)} removed"


class Mix(RowChange):
    """Say how a row meets what was there, how much of it, and where."""

    kind: Literal["mix"] = "mix"
    amount: float | None = Field(None, ge=0, le=1)
    mix: MixMode | None = None
    mask: Mask | str | None = Field(None, description="A mask, or the thread of one; none takes it away.")

    def made(self, seen: Seen) -> Changed:
        row = self.row(seen)
        mask = Mask(thread=self.mask) if isinstance(self.mask, str) and self.mask else self.mask or None
        values: dict[str, Any] = {"mask": mask.model_dump() if isinstance(mask, Mask) else None}
        if self.amount is not None:
            values["amount"] = self.amount
        if self.mix is not None:
            values["mix"] = self.mix
        after = edit.mixed(seen.weave, row, values)
        now = after.at(row)
        mix = "" if isinstance(now, GroupEntry) else f"{now.mix}, "
        where = f", limited to {now.mask.thread.replace('_', ' ')}" if now.mask else ""
        return after, f"{seen.title(row)}: {mix}{round(100 * now.amount)} %{where}"


class Note(RowChange):
    """Note something of a row."""

    kind: Literal["note"] = "note"
    note: str = Field("", max_length=1000, description="What is noted; nothing takes the note away.")

    def made(self, seen: Seen) -> Changed:
        row = self.row(seen)
        words = "noted" if self.note.strip() else "note taken away"
        return edit.noted(seen.weave, row, self.note), f"{seen.title(row)}: {words}"


class Paste(PlacedChange):
    """Put in rows of another material."""

    kind: Literal["paste"] = "paste"
    entries: list[dict[str, Any]] = Field([], max_length=1000, description="Rows to put in, as another material holds them.")

    def made(self, seen: Seen) -> Changed:
        rows = _rows_of(self.entries)
        edit.check_settings(rows)
        words = f"{len(rows)} row{'s' if len(rows) != 1 else ''} put in from elsewhere"
        return edit.pasted(seen.weave, rows, self.to, self.group(seen), seen.sources), words

    def digests(self) -> Collection[str]:
        return edit.digests(self.entries)


class OtherPhoto(RowChange):
    """Put another photo through the same rows."""

    kind: Literal["photo"] = "photo"
    digest: str = Field("", description="SHA-256 of the stored file.")

    def made(self, seen: Seen) -> Changed:
        if self.digest not in seen.sources:
            raise SettingError("this photo is not stored", "photo", "Choose the file again.")
        after = seen.weave.model_copy(update={"sources": {**seen.weave.sources, **seen.sources}})
        return after.with_settings(self.row(seen), {"source": self.digest}), f"Photo: {seen.sources[self.digest].name}"

    def digests(self) -> Collection[str]:
        return (self.digest,) if self.digest else ()


class OtherModel(RowChange):
    """Lay the material on a model, or on a newer one in its place."""

    kind: Literal["model"] = "model"
    digest: str = Field("", description="SHA-256 of the stored file.")
    unit: str = Field("", description="Unit of the file, where it does not say or is wrong: mm, cm, m, in or ft.")
    up: str = Field("", description="Axis of the file that points up, where it does not say or is wrong: y or z.")

    def made(self, seen: Seen) -> Changed:
        if self.digest not in seen.sources:
            raise SettingError("this model is not stored", "model", "Choose the file again.")
        row = self.row(seen)
        entry = seen.weave.at(row)
        if not isinstance(entry, StepEntry) or not registry.can(entry.step, "lay on"):
            raise SettingError("this row lays nothing on a model", seen.title(row), "Choose one that does.")
        after = seen.weave.model_copy(update={"sources": {**seen.weave.sources, **seen.sources}})
        words = f"Model: {seen.sources[self.digest].name}"
        before = entry.settings.get("model", "")
        if before and before != self.digest:
            words += f" ({self._moved(seen, before, entry.settings.get('uv', ''))})"
        taken = {"unit": self.unit, "up": self.up}
        return after.with_settings(row, {"model": self.digest, **taken}), words

    def _moved(self, seen: Seen, before: str, uv: str) -> str:
        """What has moved against the model that was there, in words."""
        sources = seen.evaluator.sources
        try:
            return moved(sources.model(before), sources.model(self.digest), uv).words()
        except LoomError as error:
            return error.what

    def digests(self) -> Collection[str]:
        return (self.digest,) if self.digest else ()


def _rows_of(entries: list[dict[str, Any]]) -> tuple[Entry, ...]:
    """Rows that come from elsewhere.

    Raises
    ------
    SettingError
        They are none.
    """
    try:
        return parsed(json.dumps({"schema_version": 1, "steps": entries, "sources": {}})).steps
    except ValueError as error:
        raise SettingError("these are no rows of a weave", "paste", "Copy them from a material again.") from error
