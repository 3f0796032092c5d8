"""Changes of groups and of their dials."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from silent_loom.core.weave.rows import edit
from silent_loom.core.weave.rows.model import Dial
from silent_loom.work.changes.change import Change, Changed, RowChange, Seen


class Group(Change):
    """Put rows into a group of their own."""

    kind: Literal["group"] = "group"
    rows: list[str] = Field([], max_length=1000, description="Rows to be grouped.")
    name: str = Field("", max_length=60)

    def made(self, seen: Seen) -> Changed:
        after, _ = edit.grouped(seen.weave, [seen.weave.find(r) for r in self.rows], self.name or "Group")
        return after, f"{len(self.rows)} rows grouped"


class Dissolve(RowChange):
    """Take a group apart; its rows stay as its dials left them."""

    kind: Literal["dissolve"] = "dissolve"

    def made(self, seen: Seen) -> Changed:
        row = self.row(seen)
        return edit.dissolved(seen.weave, row), f"Group {seen.title(row)} dissolved"


class Fold(RowChange):
    """Show only a group's name, or its rows again."""

    kind: Literal["fold"] = "fold"
    on: bool = True

    def made(self, seen: Seen) -> Changed:
        row = self.row(seen)
        return edit.folded(seen.weave, row, self.on), f"Group {seen.title(row)} {'folded' if self.on else 'opened'}"


class Rename(RowChange):
    """Give a group another name."""

    kind: Literal["rename"] = "rename"
    name: str = Field("", max_length=60)

    def made(self, seen: Seen) -> Changed:
        row = self.row(seen)
        return edit.renamed(seen.weave, row, self.name), f"Group {seen.title(row)} renamed to {self.name.strip()[:60]}"


class SetDial(RowChange):
    """Give a group a dial, or change one."""

    kind: Literal["dial"] = "dial"
    dial: Dial

    def made(self, seen: Seen) -> Changed:
        row = self.row(seen)
        return edit.with_dial(seen.weave, row, self.dial), f"{seen.title(row)}: dial {self.dial.title}"


class RemoveDial(RowChange):
    """Take a dial away."""

    kind: Literal["undial"] = "undial"
    dial_id: str

    def made(self, seen: Seen) -> Changed:
        row = self.row(seen)
        return edit.without_dial(seen.weave, row, self.dial_id), f"{seen.title(row)}: a dial taken away"
