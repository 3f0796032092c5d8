"""Lay on a model: from here down everything lies in the UVs of somebody's model."""

from __future__ import annotations

from typing import Literal

from silent_loom.core.base.bounded_memory import Memory
from silent_loom.core.base.errors import LoomError, WeaveError
from silent_loom.core.base.images import Image
from silent_loom.core.base.parallel import Task
from silent_loom.core.form.lay.laying import Camera, Laying
from silent_loom.core.form.reading.table import taken_as
from silent_loom.core.form.uv.stretch import stretch
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.on_model import OnModel
from silent_loom.core.weave.settings import Settings, setting
from silent_loom.core.weave.step import CarryStep, Geometry, Sheet, Sources, Texels

_SIDES: Memory[tuple[str, str, str], float] = Memory(16)
"""Millimetres to the side of the square, by the hash of a model's file, its unit and its UV set: asked for at each plan."""


class LayOnSettings(Settings):
    model: str = setting("", "The model that the material is laid on.", shape="model")
    uv: str = setting("", "The UV set of the model that the maps are made for.", title="UV set")
    unit: Literal["", "mm", "cm", "m", "in", "ft"] = setting(
        "",
        "What a unit of the model's file is, where the file does not say or is wrong.",
        title="Unit",
        names={"": "as the file says", "mm": "millimetres", "cm": "centimetres", "m": "metres", "in": "inches", "ft": "feet"},
    )
    up: Literal["", "y", "z"] = setting(
        "",
        "Which axis of the model's file points up.",
        title="Up",
        names={"": "as the file says", "y": "y", "z": "z"},
    )
    by: Literal["uv", "sides", "camera"] = setting(
        "uv",
        "Through the UVs; from three sides, without a seam wherever islands are cut; or thrown on from one place.",
        title="Laid on",
        names={"uv": "through the UVs", "sides": "from three sides", "camera": "from a camera"},
    )
    scale: float = setting(
        1.0, "How many times larger than in truth.", title="Size", unit="×", low=0.001, high=1000, soft=(0.1, 10), log=True
    )
    turn_deg: float = setting(0.0, "Turned anticlockwise.", title="Turn", unit="°", low=-360, high=360, soft=(-180, 180), step=1)
    right_mm: float = setting(0.0, "Moved to the right.", title="Right", unit="mm", low=-1e5, high=1e5, soft=(-500, 500), step=1)
    up_mm: float = setting(0.0, "Moved up.", title="Up", unit="mm", low=-1e5, high=1e5, soft=(-500, 500), step=1)
    blend: float = setting(
        0.3,
        "How wide two sides mix where the surface turns.",
        title="Mix of sides",
        low=0,
        high=1,
        step=0.01,
        ends=("edge", "all over"),
        when={"by": ["sides"]},
    )
    around_deg: float = setting(
        0.0,
        "Where the camera stands around the model; 0 is in front.",
        title="Around",
        unit="°",
        low=-360,
        high=360,
        soft=(-180, 180),
        step=1,
        when={"by": ["camera"]},
    )
    above_deg: float = setting(
        0.0, "How high the camera stands.", title="Above", unit="°", low=-90, high=90, step=1, when={"by": ["camera"]}
    )
    width_mm: float = setting(
        0.0,
        "How much of the model the sheet's width covers; what lies beyond stays bare. 0 repeats the sheet in its real size.",
        title="Covers",
        unit="mm",
        low=0,
        high=1e6,
        soft=(0, 5000),
        empty="repeats",
        when={"by": ["camera"]},
    )


class LayOn(CarryStep[LayOnSettings]):
    """Every thread goes into the square of the model's UVs; normals are turned into the tangent space there.

    Notes
    -----
    The square is as wide as the surface is in the middle: a repeat keeps its real size on the model. Where islands are larger
    or smaller than they should be, laid on through the UVs, so are the repeats; from three sides they are not. Texels between
    islands are those of the nearest one.
    """

    name = "lay_on"
    title = "Lay on a model"
    words_for_it = ("model", "mesh", "uv", "triplanar", "project", "wrap", "object")
    sentence = "Lays the material on a model: through its UVs, from three sides, or from a camera. What follows works there."
    can = frozenset({"lay on"})
    Settings = LayOnSettings

    def idle(self, s: LayOnSettings) -> bool:
        return not s.model

    def words(self, s: LayOnSettings) -> str:
        if not s.model:
            return "no model chosen yet"
        return {"uv": "through the UVs", "sides": "from three sides", "camera": "from a camera"}[s.by]

    def geometry(self, s: LayOnSettings, before: Geometry, sources: Sources) -> Geometry:
        if before.on is not None:
            raise WeaveError("the material lies on a model already", self.title, "Take one of the two rows out.")
        if not before.wraps and (s.by != "camera" or s.width_mm == 0):
            raise WeaveError("the sheet does not repeat", self.title, "Close its edges first, or lay it on from a camera once.")
        try:
            on = OnModel(s.model, s.uv, self._laying(s, sources), before.size_mm, s.unit, s.up)
            side = self._side(on, sources)
        except LoomError as error:
            raise WeaveError(error.what, self.title, error.todo) from None
        return Geometry((side, side), False, on=on)

    @staticmethod
    def _side(on: OnModel, sources: Sources) -> float:
        """Millimetres of the surface to the side of the square, in the middle."""

        def work() -> float:
            model = on.read(sources)
            return stretch(model.corners, model.uv(on.uv).at_corners()).scale()

        side = _SIDES.answer((on.model, on.unit, on.uv), work)
        if side <= 0:
            raise LoomError("the UVs of this model have no area", on.uv, "Unwrap it first, on the page Models.")
        return side

    @staticmethod
    def _laying(s: LayOnSettings, sources: Sources) -> Laying:
        camera = None
        if s.by == "camera":
            model = taken_as(sources.model(s.model), s.unit, s.up)
            camera = Camera.around(model, s.around_deg, s.above_deg, s.width_mm)
        return Laying(s.by, s.scale, s.turn_deg, (s.right_mm, s.up_mm), s.blend, camera)

    def demand(self, s: LayOnSettings, before: Geometry, after: Geometry, texels: Texels) -> Texels:
        on = after.on
        if on is None:
            return texels
        pitch = on.finer(max(mm / n for mm, n in zip(after.size_mm, texels, strict=True)))
        wide, high = before.texels(pitch)  # whole repeats, which meet themselves
        return float(wide), float(high)

    def carry(self, s: LayOnSettings, image: Image, decision: Decision, sheet: Sheet, task: Task) -> Image:
        assert sheet.after.on is not None
        laid = sheet.after.on.laid({"": image}, sheet.sources, (sheet.width, sheet.height), task)[""]
        return Image(laid.pixels, laid.kind, sheet.size_mm, False)
