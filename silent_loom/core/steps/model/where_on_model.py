"""Where on the model: masks by slope, altitude, shelter, paint, island and the rest."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

import numpy as np

from silent_loom.core.base.errors import LoomError, WeaveError
from silent_loom.core.base.images import Image, Kind, data
from silent_loom.core.base.parallel import Task
from silent_loom.core.form.lay.places import KINDS, Where, mask
from silent_loom.core.weave import threads
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import MapStep, Preset, Sheet

By = Literal["slope", "altitude", "facing", "cavity", "bend", "shelter", "thickness", "paint", "island", "mesh", "material"]
WAYS = {"up": "0,1,0", "down": "0,-1,0", "right": "1,0,0", "left": "-1,0,0", "front": "0,0,1", "back": "0,0,-1"}
"""Directions of the model as it stands, y up."""
_PARTS = ["altitude", "facing", "shelter", "paint"]
_BENDS = ["cavity", "bend"]
_NAMED = ["island", "mesh", "material"]


def _span(default: float, say: str, title: str, unit: str, when: list[str], low: float, high: float, step: float) -> Any:
    return setting(
        default, say, title=title, unit=unit, low=-1e5, high=1e5, soft=(low, high), step=step, when={"by": when}
    )  # fmt: skip


_NOTHING, _ALL = "Here and below it is not selected.", "From here on it is fully selected."


class WhereOnModelSettings(Settings):
    last = ("inverted", "name")

    by: By = setting(
        "altitude",
        "How steep it is, how high it lies, where it faces, how hollow it is, how it bends, how much of the sky is hidden, how "
        "thick the body is, what its corners were painted with; or some islands, meshes or materials.",
        names={k: p.title.lower() for k, p in KINDS.items()},
    )
    toward: Literal["up", "down", "right", "left", "front", "back"] = setting(
        "up", "Which way it faces.", title="Toward", when={"by": ["facing"]}
    )
    channel: Literal["red", "green", "blue", "alpha", "lightness"] = setting(
        "red", "Channel of the painted colours.", when={"by": ["paint"]}
    )
    named: str = setting("", "Names, or numbers from 0, with commas between them.", title="Which", when={"by": _NAMED})
    start: float = _span(0.4, _NOTHING, "From", "", _PARTS, 0.0, 1.0, 0.01)
    end: float = _span(0.6, _ALL, "To", "", _PARTS, 0.0, 1.0, 0.01)
    from_deg: float = _span(30.0, _NOTHING, "From", "°", ["slope"], 0.0, 180.0, 1.0)
    to_deg: float = _span(50.0, _ALL, "To", "°", ["slope"], 0.0, 180.0, 1.0)
    from_bend: float = _span(0.0, _NOTHING, "From", "per cm", _BENDS, -2.0, 2.0, 0.01)
    to_bend: float = _span(0.3, _ALL, "To", "per cm", _BENDS, -2.0, 2.0, 0.01)
    from_mm: float = _span(0.0, _NOTHING, "From", "mm", ["thickness"], 0.0, 500.0, 1.0)
    to_mm: float = _span(50.0, _ALL, "To", "mm", ["thickness"], 0.0, 500.0, 1.0)
    inverted: bool = setting(False, "Everywhere else instead.")
    name: ThreadName = setting("where", "Name of the mask.", title="Makes", shape="thread", new=True)

    def mask(self) -> Where:
        """What is asked of the model."""
        if self.by in _NAMED:
            return Where(self.by, 0.0, 1.0, self.named)
        ends = {"slope": (self.from_deg, self.to_deg), "thickness": (self.from_mm, self.to_mm)}
        low, high = ends.get(self.by, (self.from_bend, self.to_bend) if self.by in _BENDS else (self.start, self.end))
        return Where(self.by, low, high, {"facing": WAYS[self.toward], "paint": self.channel}.get(self.by, ""))


class WhereOnModel(MapStep[WhereOnModelSettings]):
    """Plain numbers 0…1 in the model's UV set, rising smoothly between two values.

    Notes
    -----
    What is measured is said with `places.KINDS`. Occlusion and thickness are found by rays against the model itself.
    """

    name = "where_on_model"
    title = "Where on the model"
    words_for_it = (
        "mask",
        "altitude",
        "slope",
        "facing",
        "top",
        "snow",
        "cavity",
        "curvature",
        "occlusion",
        "thickness",
        "vertex colour",
        "painted",
        "island",
        "mesh",
        "slot",
    )
    sentence = "A mask that knows the model: slope, altitude, facing, hollows, shelter, thickness, paint, islands, meshes."
    can = frozenset({"shown", "where"})
    Settings = WhereOnModelSettings
    presets = (
        Preset("Lies on top", {"by": "facing", "toward": "up", "start": 0.5, "end": 0.8}, "where"),
        Preset("Upper half", {"by": "altitude", "start": 0.45, "end": 0.55}),
        Preset("Foot", {"by": "altitude", "start": 0.05, "end": 0.25, "inverted": True}),
        Preset("Edges", {"by": "bend", "from_bend": 0.1, "to_bend": 0.6}),
        Preset("Hollows", {"by": "cavity", "from_bend": 0.05, "to_bend": 0.4}),
        Preset("Sheltered", {"by": "shelter", "start": 0.2, "end": 0.6}),
        Preset("Painted red", {"by": "paint", "channel": "red", "start": 0.0, "end": 1.0}),
    )

    def works_on(self, s: WhereOnModelSettings) -> Literal["both", "sheet", "model"]:
        return "model"

    def words(self, s: WhereOnModelSettings) -> str:
        more = {"facing": f" {s.toward}", "paint": f" {s.channel}"}.get(s.by, f" {s.named}" if s.by in _NAMED else "")
        return f"{s.name.replace('_', ' ')}: {'not ' if s.inverted else ''}{KINDS[s.by].title.lower()}{more}"

    def writes(self, s: WhereOnModelSettings) -> tuple[str, ...]:
        return (s.name,)

    def makes_of(self, s: WhereOnModelSettings, present: Mapping[str, threads.ThreadSpec]) -> tuple[threads.ThreadSpec, ...]:
        usual = present.get(s.name) or threads.spec(s.name)
        return (usual if usual.kind is Kind.DATA and not usual.unit else threads.helper(s.name),)

    def run(
        self, s: WhereOnModelSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        on = sheet.after.on
        assert on is not None
        try:
            found = mask(on.surface(sheet.sources, (sheet.width, sheet.height)), s.mask(), task=task).pixels
        except LoomError as error:
            raise WeaveError(error.what, self.title, error.todo) from None
        like = Image(found, Kind.DATA, sheet.size_mm, False)
        return {s.name: data(np.ascontiguousarray((1 - found if s.inverted else found)[..., 0], np.float32), like)}
