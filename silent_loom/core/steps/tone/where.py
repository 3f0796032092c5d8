"""Where: masks that know the surface, each alone or together with another."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

import numpy as np

from silent_loom.core.base.colour import encode, luminance
from silent_loom.core.base.images import Floats, Image, Kind, data
from silent_loom.core.base.parallel import Task
from silent_loom.core.maps.elements import labels_of, random
from silent_loom.core.moving.resample import blur
from silent_loom.core.patterns.ground import Ground
from silent_loom.core.patterns.hashing import of
from silent_loom.core.patterns.noise import cells_of, noise
from silent_loom.core.steps.maps.curvature import MOST, bulging
from silent_loom.core.steps.patterns.pattern import finer, reduced
from silent_loom.core.weave import threads
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import Geometry, MapStep, Preset, Sheet

_RELIEF = ["crevices", "ridges", "steep", "facing", "high"]
_SCALED = ["crevices", "ridges", "noise"]
_NAMES = {
    "steep": "where it is steep",
    "facing": "where it faces one way",
    "high": "where it lies high",
    "elements": "some elements",
    "border": "away from borders",
    "noise": "in patches",
    "thread": "by another thread",
}


class WhereSettings(Settings):
    last = ("with_", "how", "name")

    by: Literal["crevices", "ridges", "steep", "facing", "high", "elements", "border", "noise", "thread"] = setting(
        "crevices",
        "In hollows, on ridges, where it is steep, faces one way or lies high, on some elements, away from borders, in patches, "
        "or where another thread is high: a painted mask, for example.",
        names=_NAMES,
    )
    reads_from: ThreadName = setting(
        "height", "The relief.", title="Relief", shape="thread", kinds=(Kind.DATA,), when={"by": _RELIEF}
    )
    ids: ThreadName = setting(
        "id", "The elements.", title="Elements", shape="thread", kinds=(Kind.ID,), when={"by": ["elements"]}
    )
    border: ThreadName = setting(
        "border", "Distances from borders.", title="Borders", shape="thread", kinds=(Kind.DATA,), when={"by": ["border"]}
    )
    thread: ThreadName = setting(
        "base",
        "The other thread.",
        title="Thread",
        shape="thread",
        kinds=(Kind.DATA, Kind.COLOUR, Kind.CHANNELS),
        when={"by": ["thread"]},
    )
    scale_mm: float = setting(
        10.0,
        "Features about this wide.",
        title="Scale",
        unit="mm",
        low=0.01,
        high=10_000,
        soft=(0.2, 500),
        log=True,
        when={"by": _SCALED},
    )
    second: float = setting(
        0.35,
        "How much patches of a sixth of the scale count beside them.",
        title="Finer ones",
        low=0,
        high=1,
        step=0.01,
        when={"by": ["noise"]},
    )
    share: float = setting(
        0.3,
        "About how much of the sheet is selected, or how many of the elements.",
        title="Share",
        low=0,
        high=1,
        step=0.01,
        when={"by": ["noise", "elements"]},
    )
    toward_deg: float = setting(
        90.0,
        "0 is to the right, 90 to the top.",
        title="Facing",
        unit="°",
        low=-360,
        high=360,
        soft=(-180, 180),
        step=1,
        when={"by": ["facing"]},
    )
    from_deg: float = setting(
        15.0,
        "Below this slope it is not selected.",
        title="From",
        unit="°",
        low=0,
        high=90,
        step=0.5,
        when={"by": ["steep", "facing"]},
    )
    to_deg: float = setting(
        40.0,
        "Above this slope it is fully selected.",
        title="To",
        unit="°",
        low=0,
        high=90,
        step=0.5,
        when={"by": ["steep", "facing"]},
    )
    from_mm: float = setting(
        0.0,
        "Nearer the border than this it is not selected.",
        title="From",
        unit="mm",
        low=0,
        high=10_000,
        soft=(0, 100),
        when={"by": ["border"]},
    )
    to_mm: float = setting(
        10.0,
        "Farther away than this it is fully selected.",
        title="To",
        unit="mm",
        low=0,
        high=10_000,
        soft=(0, 100),
        when={"by": ["border"]},
    )
    start: float = setting(
        0.15,
        "Below this it is not selected; as a part of the range.",
        title="From",
        low=-1,
        high=2,
        soft=(0, 1),
        step=0.01,
        when={"by": ["high", "thread", "crevices", "ridges"]},
    )
    end: float = setting(
        0.75,
        "Above it is wholly.",
        title="To",
        low=-1,
        high=2,
        soft=(0, 1),
        step=0.01,
        when={"by": ["high", "thread", "crevices", "ridges"]},
    )
    soft_mm: float = setting(0.0, "How far its borders are blurred.", title="Soft", unit="mm", low=0, high=1000, soft=(0, 50))
    inverted: bool = setting(False, "Everywhere else instead.")
    seed: int = setting(1, "Other patches, other elements.", low=0, high=2**31 - 1, step=1, when={"by": ["noise", "elements"]})
    with_: ThreadName = setting(
        "none",
        "Another mask that it is combined with.",
        title="Together with",
        shape="thread",
        kinds=(Kind.DATA,),
        also=("none",),
    )
    how: Literal["and", "or", "not", "either"] = setting(
        "and", "Where both are; where one is at least; where this is and the other is not; where one is and not the other.",
        names={"not": "and not", "either": "one alone"},
    )  # fmt: skip
    name: ThreadName = setting("where", "Name of the mask.", title="Makes", shape="thread", new=True)


class Where(MapStep[WhereSettings]):
    """Plain numbers 0…1. Two masks count together by their product, by ``a + b − ab``, by ``a (1 − b)`` or by ``a + b − 2ab``.

    Notes
    -----
    Hollows and ridges are those of `Curvature` at one scale, over what all but the sharpest half per cent of the surface has.
    Patches are noise at two scales, cut where so much of the sheet lies above.
    """

    name = "where"
    can = frozenset({"shown", "where"})
    title = "Where"
    words_for_it = (
        "mask",
        "crevice",
        "ridge",
        "slope",
        "facing",
        "level",
        "height",
        "noise",
        "and",
        "or",
        "not",
        "dirt",
        "moss",
        "wear",
        "edges",
        "grime",
        "puddle",
    )
    sentence = "A mask that knows the surface: hollows, ridges, slopes, levels, elements, borders, patches, alone or together."
    version = 3
    decides = True
    decision_scale = 0.5
    Settings = WhereSettings
    presets = (
        Preset("Hollows", {"by": "crevices", "start": 0.1, "end": 0.5}, "where"),
        Preset("Ridges", {"by": "ridges", "start": 0.1, "end": 0.5}),
        Preset("Level places", {"by": "steep", "from_deg": 5.0, "to_deg": 20.0, "inverted": True}),
        Preset("Facing up", {"by": "facing", "toward_deg": 90.0, "from_deg": 5.0, "to_deg": 30.0}),
        Preset("Low", {"by": "high", "start": 0.35, "end": 0.5, "inverted": True}),
        Preset("Some elements", {"by": "elements", "share": 0.25}),
        Preset("Rims", {"by": "border", "from_mm": 0.0, "to_mm": 8.0, "inverted": True}),
        Preset("Patches", {"by": "noise", "scale_mm": 200.0, "share": 0.35}),
    )

    def upgrade(self, settings: dict[str, Any], from_version: int) -> dict[str, Any]:
        """Before version 3 a fresh mask had hard borders; rows of then keep them."""
        return settings if from_version >= 3 else {"start": 0.45, "end": 0.55, **settings}

    def words(self, s: WhereSettings) -> str:
        other = "" if s.with_ == "none" else f" {'one alone' if s.how == 'either' else s.how} {s.with_.replace('_', ' ')}"
        return f"{s.name.replace('_', ' ')}: {'not ' if s.inverted else ''}{s.by}{other}"

    def works_on(self, s: WhereSettings) -> Literal["both", "sheet", "model"]:
        return "sheet" if s.by == "noise" else "both"

    def reads(self, s: WhereSettings) -> tuple[str, ...]:
        own = {"elements": s.ids, "border": s.border, "thread": s.thread}.get(s.by, s.reads_from if s.by in _RELIEF else "")
        return tuple(dict.fromkeys(n for n in (own, s.with_ if s.with_ != "none" else "") if n))

    def writes(self, s: WhereSettings) -> tuple[str, ...]:
        return (s.name,)

    def makes_of(self, s: WhereSettings, present: Mapping[str, threads.ThreadSpec]) -> tuple[threads.ThreadSpec, ...]:
        usual = present.get(s.name) or threads.spec(s.name)
        return (usual if usual.kind is Kind.DATA and not usual.unit else threads.helper(s.name),)

    def objects(self, s: WhereSettings, present: Mapping[str, threads.ThreadSpec]) -> str:
        ends = {"steep": (s.from_deg, s.to_deg), "facing": (s.from_deg, s.to_deg), "border": (s.from_mm, s.to_mm)}
        low, high = ends.get(s.by, (s.start, s.end))
        return "" if s.by in ("noise", "elements") or low != high else "it begins and ends at the same value"

    def decide(self, s: WhereSettings, inputs: Mapping[str, Image], geometry: Geometry, task: Task) -> Decision:
        if s.by in ("crevices", "ridges"):
            bulge = bulging(inputs[s.reads_from], s.scale_mm, task)
            return Decision({}, {"most": float(np.quantile(np.abs(bulge), MOST))})
        if s.by == "noise":
            longer = 256 / max(geometry.size_mm)
            wide, high = (max(8, round(n * longer)) for n in geometry.size_mm)
            ground = Ground.of(wide, high, geometry.size_mm)
            return Decision({}, {"level": float(np.quantile(self._patches(s, ground, task), 1 - s.share))})
        return Decision()

    def run(
        self, s: WhereSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        size_mm, wraps = sheet.size_mm, sheet.after.wraps
        like = Image(np.zeros((sheet.height, sheet.width, 1), np.float32), Kind.DATA, size_mm, wraps)
        t = self._weight(s, inputs, decision, sheet, task)
        if s.soft_mm > 0:
            t = blur(
                np.ascontiguousarray(t, np.float32), (s.soft_mm / 2 / sheet.pitch[0], s.soft_mm / 2 / sheet.pitch[1]), wraps, task
            )
        if s.inverted:
            t = 1 - t
        if s.with_ != "none":
            other = np.clip(inputs[s.with_].plane(), 0, 1)
            both = t * other
            t = {"and": both, "or": t + other - both, "not": t - both, "either": t + other - 2 * both}[s.how]
        return {s.name: data(np.clip(t, 0, 1).astype(np.float32), like)}

    def _weight(self, s: WhereSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task) -> Floats:
        if s.by == "noise":
            fine = finer(sheet)  # borders of patches finer than texels come to what they cover, not to a level of their mean
            across, down = (mm / pitch * fine for mm, pitch in zip(sheet.after.size_mm, sheet.pitch, strict=True))
            ground = Ground(sheet.width * fine, sheet.height * fine, sheet.after.size_mm, (across, down))
            level = decision.figures["level"]
            return reduced(_between(self._patches(s, ground, task), level - 0.06, level + 0.06), fine)
        if s.by == "elements":
            labels = labels_of(inputs[s.ids].plane())
            chosen = (random(int(labels.max()) + 1, s.seed, 0) < s.share).astype(np.float32)
            chosen[0] = 0  # no element at all
            return np.asarray(chosen[labels], np.float32)
        if s.by == "border":
            return _between(inputs[s.border].plane(), s.from_mm, s.to_mm)
        if s.by in ("crevices", "ridges"):
            most = decision.figures["most"]
            bulge = bulging(inputs[s.reads_from], s.scale_mm, task) * np.float32(1 / most if most > 1e-9 else 0)
            return _between(bulge if s.by == "ridges" else -bulge, s.start, s.end)
        if s.by in ("high", "thread"):
            return _between(self._plane(s, inputs, sheet, task), s.start, s.end)
        right, up = _slopes(inputs[s.reads_from])
        if s.by == "steep":
            return _between(np.degrees(np.arctan(np.hypot(right, up))).astype(np.float32), s.from_deg, s.to_deg)
        angle = np.deg2rad(s.toward_deg)
        lean = -(right * np.float32(np.cos(angle)) + up * np.float32(np.sin(angle)))  # what falls that way faces that way
        return _between(np.degrees(np.arctan(lean)).astype(np.float32), s.from_deg, s.to_deg)

    @staticmethod
    def _plane(s: WhereSettings, inputs: Mapping[str, Image], sheet: Sheet, task: Task) -> Floats:
        name = s.reads_from if s.by == "high" else s.thread
        image = inputs[name]
        if image.kind is Kind.COLOUR:
            return encode(luminance(image.pixels, task), task)
        scale, offset = sheet.meaning(name).scale() if image.kind is Kind.DATA else (np.float32(1), np.float32(0))
        return np.asarray(image.pixels[..., 0] * scale + offset, np.float32)

    @staticmethod
    def _patches(s: WhereSettings, ground: Ground, task: Task) -> Floats:
        broad = noise(ground, cells_of(ground, s.scale_mm), octaves=3, seed=of(s.seed, 1), task=task)
        fine = noise(ground, cells_of(ground, s.scale_mm / 6), octaves=4, seed=of(s.seed, 2), task=task)
        return broad + np.float32(s.second) * fine


def _between(values: Floats, low: float, high: float) -> Floats:
    """0 below one level, 1 above the other, soft between; the other way round where they stand the other way round."""
    t = np.clip((values - np.float32(low)) * np.float32(1 / (high - low)), 0, 1)
    return np.asarray(t * t * (3 - 2 * t), np.float32)


def _slopes(height: Image) -> tuple[Floats, Floats]:
    """Rise over run to the right and to the top."""
    plane, (tx, ty) = height.plane(), height.texel_mm
    mode = "wrap" if height.wraps else "edge"
    around = np.pad(plane, 1, mode=mode)  # type: ignore[call-overload]
    right = (around[1:-1, 2:] - around[1:-1, :-2]) * np.float32(1 / (2 * tx))
    up = (around[:-2, 1:-1] - around[2:, 1:-1]) * np.float32(1 / (2 * ty))
    return right, up
