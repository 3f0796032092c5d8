"""The saved form of a weave: rows in order, groups of rows, the dials of groups, and the sources behind them."""

from __future__ import annotations

import secrets
from itertools import pairwise
from typing import Any, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.weave import registry
from silent_loom.core.weave.rows import tree
from silent_loom.core.weave.rows.formula import compiled

MixMode = Literal["replace", "multiply", "add", "subtract", "lighter", "darker", "screen", "overlay", "combine"]
AMOUNT = "@amount"
"""What a dial calls the amount of a row, which is no setting of its step."""
DEEPEST = 40
"""Groups within groups; more than anybody could read, and few enough for a file to be read without trouble."""


def new_id() -> str:
    """Eight hexadecimal digits by chance.

    >>> len(new_id()), new_id() == new_id()
    (8, False)
    """
    return secrets.token_hex(4)


class _Saved(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class Mask(_Saved):
    """Where a row takes effect: a thread's values, stretched from nothing to all of it.

    ``kind`` leaves room for masks that are no thread: an element, a region, what is painted.
    """

    kind: Literal["thread"] = "thread"
    thread: str = Field(description="Thread whose values say where.")
    channel: Literal["", "r", "g", "b", "a"] = Field("", description="One channel; without it the luminance of colour.")
    inverted: bool = Field(False, description="Everywhere else instead.")
    low: float = Field(0.0, allow_inf_nan=False, description="Value where nothing takes effect, in the thread's own unit.")
    high: float = Field(1.0, allow_inf_nan=False, description="Value where all of it does.")

    @model_validator(mode="after")
    def _apart(self) -> Self:
        if self.low == self.high:
            raise ValueError("the two ends of a mask must differ")
        return self


class _Row(_Saved):
    id: str = Field(default_factory=new_id, pattern=r"^[a-z0-9]{1,16}$", description="Stays with the row for good.")
    on: bool = Field(True, description="False: passed over, but kept.")
    mask: Mask | None = Field(None, description="Where it takes effect; everywhere without one.")
    amount: float = Field(1.0, ge=0, le=1, description="How much of it takes effect.")
    note: str = Field("", max_length=1000, description="What the artist noted of it; its first line stands in the chart.")

    @field_validator("mask", mode="before")
    @classmethod
    def _by_name(cls, value: Any) -> Any:
        return {"thread": value} if isinstance(value, str) else value  # a mask once was the name of a thread


class StepEntry(_Row):
    """One row of a weave: a step with its settings."""

    step: str = Field(description="Name of the step.")
    version: int = Field(0, ge=0, description="Version of the step that the settings were made for; today's, if nothing is said.")
    settings: dict[str, Any] = Field(default_factory=dict, description="Only what differs from the defaults need be here.")
    mix: MixMode = Field("replace", description="How its result meets what was there.")

    @model_validator(mode="before")
    @classmethod
    def _of_today(cls, value: Any) -> Any:
        if isinstance(value, dict) and "version" not in value and (step := registry.known(str(value.get("step")))) is not None:
            return {**value, "version": step.version}
        return value


class Drive(_Saved):
    """One setting that a dial moves."""

    row: str = Field(description="Id of a row in the group, at any depth.")
    setting: str = Field(description="A setting that is a number or a switch, or '@amount': how much of the row takes effect.")
    low: float = Field(allow_inf_nan=False, description="Value of the setting at the dial's lower end.")
    high: float = Field(allow_inf_nan=False, description="Value at its upper end.")
    curve: tuple[tuple[float, float], ...] = Field(
        (), max_length=32, description="Points from 0…1 of the dial to 0…1 between low and high; a straight line without any."
    )

    formula: str = Field(
        "", max_length=200, description="Instead of both: what the setting comes to, out of x (0…1), value, low and high."
    )

    @field_validator("formula")
    @classmethod
    def _readable(cls, value: str) -> str:
        if value.strip():
            compiled(value)
        return value.strip()

    @field_validator("curve")
    @classmethod
    def _rising(cls, value: tuple[tuple[float, float], ...]) -> tuple[tuple[float, float], ...]:
        across = [x for x, _ in value]
        if len(value) == 1 or any(b <= a for a, b in pairwise(across)):
            raise ValueError("the points of a curve go from left to right, at least two of them")
        return value


class Dial(_Saved):
    """A setting of a group that moves settings of rows within it."""

    id: str = Field(default_factory=new_id, pattern=r"^[a-z0-9]{1,16}$")
    title: str = Field(min_length=1, max_length=60)
    value: float = Field(0.5, allow_inf_nan=False)
    low: float = Field(0.0, allow_inf_nan=False)
    high: float = Field(1.0, allow_inf_nan=False)
    drives: tuple[Drive, ...] = Field((), max_length=64)

    @model_validator(mode="after")
    def _within(self) -> Self:
        if not self.low < self.high:
            raise ValueError("the lower end of a dial lies below its upper end")
        if not self.low <= self.value <= self.high:
            raise ValueError(f"a dial stands between {self.low:g} and {self.high:g}")
        return self


class GroupEntry(_Row):
    """Rows that belong together: switched, masked and mixed as a whole."""

    name: str = Field(min_length=1, max_length=60)
    folded: bool = Field(False, description="Only its name is shown.")
    rows: tuple[StepEntry | GroupEntry, ...] = ()
    dials: tuple[Dial, ...] = Field((), max_length=24)


Entry = StepEntry | GroupEntry


class SourceRef(_Saved):
    """A file behind a weave."""

    name: str = Field(description="Name of the file as it came.")
    format: str = Field(description="png, jpeg, targa, tiff, bmp, webp, openexr or hdr; of a model obj, gltf, glb, ply or stl.")
    width: int = Field(ge=0, description="In texels; 0 of a model.")
    height: int = Field(ge=0)
    bytes: int = Field(ge=0)


class Weave(_Saved):
    """A material's list of rows over its threads."""

    schema_version: Literal[1] = 1
    steps: tuple[Entry, ...] = ()
    sources: dict[str, SourceRef] = Field(default_factory=dict, description="By SHA-256 of the file.")

    @model_validator(mode="after")
    def _sound(self) -> Self:
        seen: set[str] = set()
        for place in tree.walk(self.steps):
            if len(place.parents) > DEEPEST:
                raise ValueError(f"groups lie in groups at most {DEEPEST} deep")
            if place.entry.id in seen:
                raise ValueError(f"two rows have the id {place.entry.id}")
            seen.add(place.entry.id)
        return self

    def rows(self) -> list[StepEntry]:
        """Every step in the order in which they work, those in groups included, as they are stored."""
        return [p.entry for p in tree.walk(self.steps) if isinstance(p.entry, StepEntry)]

    def find(self, row: str) -> str:
        """Id of a row by its id, or by its path: names of groups and of the step, such as ``joints/height`` or ``tone#2``.

        Raises
        ------
        WeaveError
        """
        return tree.find(self.steps, row)

    def index(self, row_id: str) -> int:
        """Position of a row among all rows (`rows`), or of the last row of a group.

        Raises
        ------
        WeaveError
            When there is no such row.
        """
        entry = self.at(row_id)
        last = entry if isinstance(entry, StepEntry) else next(reversed(tree.steps_of(entry)), None)
        for i, row in enumerate(self.rows()):
            if last is not None and row.id == last.id:
                return i
        raise WeaveError("there is no row in this group", row_id, "Put one into it.")

    def at(self, row_id: str) -> Entry:
        """A row or a group.

        Raises
        ------
        WeaveError
            When there is none of this id.
        """
        return tree.at(self.steps, row_id).entry

    def entry(self, row_id: str) -> StepEntry:
        """A row that is a step.

        Raises
        ------
        WeaveError
            When there is none of this id, or it is a group.
        """
        entry = self.at(row_id)
        if not isinstance(entry, StepEntry):
            raise WeaveError("this is a group, and has no step", entry.name, "Choose a row in it.")
        return entry

    def group(self, row_id: str) -> GroupEntry:
        """A row that is a group.

        Raises
        ------
        WeaveError
        """
        entry = self.at(row_id)
        if not isinstance(entry, GroupEntry):
            raise WeaveError("this is a step, not a group", entry.step, "Choose a group.")
        return entry

    def first(self, step_name: str) -> StepEntry | None:
        """The first row of a step, if any."""
        return next((e for e in self.rows() if e.step == step_name), None)

    def able(self, can: str) -> StepEntry | None:
        """The first row whose step says that it can do something (`Step.can`)."""
        return next((e for e in self.rows() if registry.can(e.step, can)), None)

    def with_entry(self, entry: Entry) -> Weave:
        """The weave with the row of this id replaced."""
        return self.model_copy(update={"steps": tree.replaced(self.steps, entry.id, (entry,))})

    def with_settings(self, row_id: str, values: dict[str, Any]) -> Weave:
        """The weave with some settings of a row changed; checked against the step's model."""
        entry = self.entry(row_id)
        merged = {**entry.settings, **values}
        registry.settings_of(entry.step, merged)
        return self.with_entry(entry.model_copy(update={"settings": merged}))
