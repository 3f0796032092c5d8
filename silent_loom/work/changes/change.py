"""What every change of a material is."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Collection, Mapping
from dataclasses import dataclass, field

from pydantic import BaseModel, ConfigDict, Field

from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows import edit
from silent_loom.core.weave.rows.model import SourceRef, Weave

Changed = tuple[Weave, str]
"""The weave after a change, and the words for its history."""


@dataclass(frozen=True)
class Seen:
    """The weave that a change is laid on.

    Attributes
    ----------
    weave : Weave
    evaluator : Evaluator
        For what a change has to know of the sheet: where a new row works, where a grid lies.
    sources : mapping
        The stored files that the change names, by their digests.
    """

    weave: Weave
    evaluator: Evaluator
    sources: Mapping[str, SourceRef] = field(default_factory=dict)

    def title(self, row: str) -> str:
        """What a row is called in the history."""
        return edit.titled(self.weave, row)


class Change(BaseModel, ABC):
    """One change of a weave. Rows are named by their ids or their paths (``joints/height``)."""

    model_config = ConfigDict(extra="forbid")

    base: int = Field(0, description="Number of the state that it was made on; 0 for the present one.")

    @abstractmethod
    def made(self, seen: Seen) -> Changed:
        """The weave with this change made.

        Raises
        ------
        WeaveError, SettingError
            It cannot be made there.
        """

    def digests(self) -> Collection[str]:
        """Stored files that the change brings in."""
        return ()


class RowChange(Change):
    """A change of one row or group."""

    step_id: str = Field(description="The row or group: its id or its path.")

    def row(self, seen: Seen) -> str:
        """The id of the row."""
        return seen.weave.find(self.step_id)


class PlacedChange(Change):
    """A change that puts something into the weave."""

    to: int = Field(0, description="Place in its list, from above.")
    into: str = Field("", description="Group that it is put into; empty for the outermost list.")

    def group(self, seen: Seen) -> str:
        """The id of the group, empty for the outermost list."""
        return seen.weave.find(self.into) if self.into else ""
