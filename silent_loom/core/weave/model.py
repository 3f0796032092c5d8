"""The saved form of a weave: an ordered list of steps, and the sources behind them."""

from __future__ import annotations

import secrets
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from silent_loom.core.errors import WeaveError
from silent_loom.core.weave import registry

MixMode = Literal["replace", "multiply", "add", "subtract", "lighter", "darker", "screen", "overlay", "combine"]


def new_id() -> str:
    return secrets.token_hex(4)


class StepEntry(BaseModel):
    """One row of a weave."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    id: str = Field(default_factory=new_id, pattern=r"^[a-z0-9]{1,16}$", description="Stays with the row for good.")
    step: str = Field(description="Name of the step.")
    on: bool = Field(True, description="False: passed over, but kept.")
    settings: dict[str, Any] = Field(default_factory=dict, description="Only what differs from the defaults need be here.")
    mask: str | None = Field(None, description="Thread whose values, 0 to 1, say where the step takes effect.")
    amount: float = Field(1.0, ge=0, le=1, description="How much of the step takes effect.")
    mix: MixMode = Field("replace", description="How its result meets what was there.")


class SourceRef(BaseModel):
    """A file behind a weave."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    name: str = Field(description="Name of the file as it came.")
    format: str = Field(description="png, jpeg, targa, tiff, bmp, webp, openexr or hdr.")
    width: int = Field(ge=1)
    height: int = Field(ge=1)
    bytes: int = Field(ge=0)


class Weave(BaseModel):
    """A material's list of steps over its threads."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    schema_version: Literal[1] = 1
    steps: tuple[StepEntry, ...] = ()
    sources: dict[str, SourceRef] = Field(default_factory=dict, description="By SHA-256 of the file.")

    def index(self, step_id: str) -> int:
        """Position of a row.

        Raises
        ------
        WeaveError
            When there is no such row.
        """
        for i, entry in enumerate(self.steps):
            if entry.id == step_id:
                return i
        raise WeaveError("this row is no longer there", step_id, "Load the material again.")

    def entry(self, step_id: str) -> StepEntry:
        return self.steps[self.index(step_id)]

    def first(self, step_name: str) -> StepEntry | None:
        """The first row of a step, if any."""
        return next((e for e in self.steps if e.step == step_name), None)

    def with_entry(self, entry: StepEntry) -> Weave:
        """The weave with the row of this id replaced."""
        i = self.index(entry.id)
        return self.model_copy(update={"steps": (*self.steps[:i], entry, *self.steps[i + 1 :])})

    def with_settings(self, step_id: str, values: dict[str, Any]) -> Weave:
        """The weave with some settings of a row changed; checked against the step's model."""
        entry = self.entry(step_id)
        merged = {**entry.settings, **values}
        registry.settings_of(entry.step, merged)
        return self.with_entry(entry.model_copy(update={"settings": merged}))


STARTING = (
    "photo",
    "straighten",
    "light",
    "seamless",
    "tone",
    "height",
    "normal",
    "roughness",
    "metallic",
    "occlusion",
)
"""Steps that a new photo starts with, in order."""


def starting_weave(digest: str, source: SourceRef, **settings: dict[str, Any]) -> Weave:
    """The weave that a new photo starts with.

    Parameters
    ----------
    digest, source
        The photo.
    **settings
        Changed settings by name of step.
    """
    entries = []
    for name in STARTING:
        values = dict(settings.get(name, {}))
        if name == "photo":
            values["source"] = digest
        registry.settings_of(name, values)
        entries.append(StepEntry(step=name, settings=values))
    return Weave(steps=tuple(entries), sources={digest: source})
