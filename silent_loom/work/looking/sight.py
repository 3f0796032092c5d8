"""How a weave is looked at, without changing it."""

from __future__ import annotations

from dataclasses import dataclass

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.weave import registry
from silent_loom.core.weave.answers.chart_in_weave import charted
from silent_loom.core.weave.rows import edit
from silent_loom.core.weave.rows.model import StepEntry, Weave

ROLES = {"roughness": "Roughness", "metallic": "Metallic", "specular": "Specular weight", "height": "Height"}
"""In what roles a thread can be tried."""
_PARTS = {
    "": "lightness",
    "lightness": "lightness",
    "r": "first",
    "g": "second",
    "b": "third",
    "x": "first",
    "y": "second",
    "z": "third",
}


@dataclass(frozen=True)
class Trial:
    """A thread, or one channel of it, in another role.

    Attributes
    ----------
    role : str
        A key of `ROLES`.
    thread : str
    part : str
        '' or 'lightness', or 'r', 'g', 'b'.
    inverted : bool
    """

    role: str
    thread: str
    part: str = ""
    inverted: bool = False

    def row(self) -> StepEntry:
        """The row that keeps it.

        Raises
        ------
        WeaveError
            Nothing can be tried in such a role, or there is no such channel.
        """
        if self.role not in ROLES:
            raise WeaveError(f"nothing can be tried as '{self.role}'", "role", f"There are {', '.join(ROLES)}.")
        if self.part not in _PARTS:
            raise WeaveError(f"there is no channel '{self.part}'", "channel", "There are lightness, r, g and b.")
        settings = {"thread": self.thread, "channel": _PARTS[self.part], "invert": self.inverted, "name": self.role}
        return StepEntry(id="trial", step=registry.able("single"), settings={**settings, "whole": self.role == "height"})


@dataclass(frozen=True)
class Sight:
    """What is laid over a weave while somebody looks.

    Attributes
    ----------
    off : str
        Id of a row or group that is passed over.
    chart, below : str
        A test chart in place of the base colour, right below a row (below the first where that is empty).
    trial : Trial, optional
        A thread in another role. Normals and occlusion that are made from a height above it are not made anew.
    """

    off: str = ""
    chart: str = ""
    below: str = ""
    trial: Trial | None = None

    def on(self, weave: Weave) -> Weave:
        """The weave as it is looked at."""
        if self.off:
            weave = edit.switched(weave, self.off, False)
        if self.chart:
            weave = charted(weave, self.chart, self.below)
        if self.trial is not None:
            weave = edit.added(weave, self.trial.row(), place_of(weave, self.trial.role))
        return weave


def place_of(weave: Weave, role: str) -> int:
    """Where a row that makes a map goes: to the end, but for a height above what is made from heights.

    A height that is tried comes right after the last row of the outermost list that makes height, so that normals and
    occlusion below follow it.
    """
    if role != "height":
        return len(weave.steps)
    able = weave.able("depth")
    at = next((i for i, e in enumerate(weave.steps) if able is not None and e.id == able.id), None)
    return len(weave.steps) if at is None else at + 1
