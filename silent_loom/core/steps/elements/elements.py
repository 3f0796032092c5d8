"""Elements: bricks, stones, slates, planks told apart."""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType
from typing import Literal

import cv2
import numpy as np
from pydantic import Field

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.images import Floats, Image, Kind, data
from silent_loom.core.base.parallel import Task
from silent_loom.core.maps import distance
from silent_loom.core.maps.elements import RANDOMS, chances, inner_of, measured, offsets, sized
from silent_loom.core.maps.flood import Labels, connected, flooded
from silent_loom.core.maps.parting import borders, parted, usual_size
from silent_loom.core.weave import threads
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import Geometry, MapStep, Preset, Sheet

MORE = ("random", "gradient", "orientation")


class Edit(Settings):
    """What was joined or cut by hand, in parts of the sheet."""

    kind: Literal["join", "cut"] = "join"
    points: tuple[tuple[float, float], ...] = Field((), max_length=500)


class ElementsSettings(Settings):
    height: ThreadName = setting(
        "height", "The relief in which borders are sought.", title="Height", shape="thread", kinds=(Kind.DATA,), also=("none",)
    )
    colour: ThreadName = setting(
        "base", "The colour in which they are sought.", title="Colour", shape="thread", kinds=(Kind.COLOUR,), also=("none",)
    )
    size_mm: float = setting(
        0.0,
        "About how large one element is.",
        title="Size",
        unit="mm",
        low=0,
        high=1e6,
        soft=(0, 1000),
        step=1,
        empty="automatic",
    )
    join: float = setting(
        0.5, "How readily neighbours are one element.", title="Joins", low=0, high=1, step=0.01, ends=("many", "few")
    )
    depth: float = setting(1.0, "How much the relief counts.", title="Relief counts", low=0, high=2, step=0.05)
    tone: float = setting(0.3, "How much the colour counts.", title="Colour counts", low=0, high=2, step=0.05)
    edits: tuple[Edit, ...] = setting((), "What was joined or cut by hand.", title="By hand", shape="edits")
    more: bool = setting(
        False, "Random numbers, a gradient and the direction of each element as well.", title="Random, gradient, direction"
    )
    seed: int = setting(1, "Other random numbers for each element.", low=0, high=2**31 - 1, step=1)


class Elements(MapStep[ElementsSettings]):
    """Basins of a barrier told from valleys and steps, put together across weak borders; joints; figures of each element.

    Notes
    -----
    Labels are decided once. At larger sizes their middles are kept as markers, and the barrier of that size is flooded anew
    from them, so that borders follow what only the larger size shows. ``random`` holds four numbers for each element,
    ``gradient`` runs from 0 to 1 along its longer axis, ``orientation`` is that axis.
    """

    name = "elements"
    title = "Elements"
    panel = "elements"
    words_for_it = (
        "bricks",
        "stones",
        "slates",
        "planks",
        "tiles",
        "id",
        "segment",
        "pebbles",
        "joints",
        "mortar",
        "flood fill",
        "id map",
    )
    sentence = "Tells bricks, stones, slates or planks apart, so that they can be varied one by one; joints are told as well."
    decides = True
    decision_scale = 0.5
    asked = MappingProxyType({name: {"more": True} for name in MORE})
    Settings = ElementsSettings
    presets = (
        Preset("By relief", {"depth": 1.0, "tone": 0.3}, "told by"),
        Preset("By colour", {"depth": 0.0, "tone": 1.0}),
        Preset("By both", {"depth": 1.0, "tone": 1.0}),
    )

    def words(self, s: ElementsSettings) -> str:
        return f"about {s.size_mm:g} mm" if s.size_mm else "size found"

    def reads(self, s: ElementsSettings) -> tuple[str, ...]:
        return tuple(n for n in (s.height, s.colour) if n != "none")

    def objects(self, s: ElementsSettings, present: Mapping[str, threads.ThreadSpec]) -> str:
        return "" if self.reads(s) else "there is neither relief nor colour to tell elements by"

    def writes(self, s: ElementsSettings) -> tuple[str, ...]:
        return ("id", "joint", "border", *(MORE if s.more else ()))

    def makes(self, s: ElementsSettings) -> tuple[threads.ThreadSpec, ...]:
        told = (
            threads.helper("id", Kind.ID, title="Elements"),
            threads.helper("joint", title="Joint"),
            threads.helper("border", title="Border", unit="mm", low=0.0, high=100.0),
        )
        if not s.more:
            return told
        return (
            *told,
            threads.helper("random", Kind.CHANNELS, title="Random", channels=RANDOMS),
            threads.helper("gradient", title="Gradient"),
            threads.helper("orientation", Kind.VECTOR, title="Orientation"),
        )

    def decide(self, s: ElementsSettings, inputs: Mapping[str, Image], geometry: Geometry, task: Task) -> Decision:
        height, colour = _of(s, inputs)
        longest = max(geometry.size_mm)
        part = s.size_mm / longest if s.size_mm else usual_size(height, colour, s.depth, s.tone, task)
        like = height if height is not None else colour
        assert like is not None
        size = max(4.0, part * max(like.width, like.height))
        labels, told = parted(height, colour, size, s.join, s.depth, s.tone, task)
        labels = edited(labels, s.edits, like.wraps)
        count = int(labels.max())
        figures = {"elements": count, "size_mm": round(part * longest, 2), "part": part}
        usual = _joint_depth(labels, told.valley, like.wraps)
        figures["joint_depth"] = usual
        warnings = ("One element only: lower Joins, or say how large elements are.",) if count < 2 else ()
        return Decision({"labels": labels}, figures, warnings)

    def run(
        self, s: ElementsSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        height, colour = _of(s, inputs)
        like = height if height is not None else colour
        assert like is not None
        size = max(4.0, decision.figures["part"] * max(like.width, like.height))
        told = borders(height, colour, size, s.depth, s.tone, task)
        labels = refined(decision.arrays["labels"], told.strength, like)
        joint = joints_of(labels, told.valley, decision.figures["joint_depth"], like.wraps)
        texel = like.texel_mm
        inner = distance.inside(inner_of(labels, like.wraps) & (joint < 0.5), like.wraps, texel)
        made = {
            "id": Image(labels[..., None].astype(np.float32), Kind.ID, like.size_mm, like.wraps),
            "joint": data(joint, like),
            "border": data(inner, like),
        }
        if not s.more:
            return made
        count = int(decision.arrays["labels"].max()) + 1
        along, turn = _along(labels, like)
        axis = np.stack([np.cos(turn), -np.sin(turn)], -1).astype(np.float32)
        return {
            **made,
            "random": Image(np.take(chances(count, s.seed), labels, axis=0), Kind.CHANNELS, like.size_mm, like.wraps),
            "gradient": data(along, like),
            "orientation": Image(axis, Kind.VECTOR, like.size_mm, like.wraps),
        }


def _of(s: ElementsSettings, inputs: Mapping[str, Image]) -> tuple[Image | None, Image | None]:
    height = None if s.height == "none" or s.depth <= 0 else inputs[s.height]
    colour = None if s.colour == "none" or (s.tone <= 0 and height is not None) else inputs[s.colour]
    if height is None and colour is None:
        height = inputs.get(s.height)
    if height is None and colour is None:
        raise WeaveError("nothing is left to tell elements by", "Elements", "Let relief or colour count.")
    return height, colour


def _joint_depth(labels: Labels, valley: Floats, wraps: bool) -> float:
    """How deep joints usually are, by the depth of valleys along the borders of elements."""
    on = valley[~inner_of(labels, wraps)]
    return float(np.percentile(on, 60)) if on.size else 1.0


def joints_of(labels: Labels, valley: Floats, usual: float, wraps: bool) -> Floats:
    """1 in joints, 0 in elements: valleys of more than half the usual depth that touch a border.

    >>> labels = np.repeat(np.array([[1, 1, 1, 2, 2, 2]], np.int32), 4, 0)
    >>> valley = np.repeat(np.array([[0, 0, 1, 1, 0, 0]], np.float32), 4, 0)
    >>> joints_of(labels, valley, 1.0, False)[0].tolist()
    [0.0, 0.0, 1.0, 1.0, 0.0, 0.0]
    """
    deep = valley / np.float32(max(usual, 0.2))
    soft: Floats = np.clip((deep - np.float32(0.4)) / np.float32(0.25), 0, 1)
    named, count = connected(soft > 0.3, wraps)
    on = np.zeros(count + 1, bool)
    on[np.unique(named[~inner_of(labels, wraps)])] = True
    on[0] = False
    grown = cv2.dilate(on[named].astype(np.uint8), np.ones((3, 3), np.uint8))
    return (soft * grown).astype(np.float32)


def refined(labels: Labels, strength: Floats, like: Image) -> Labels:
    """Decided labels at the size of an image: their middles, grown over the barrier of that size.

    >>> from silent_loom.core.base.images import Kind
    >>> halves = np.repeat(np.repeat(np.array([[1, 2]], np.int32), 16, 1), 32, 0)
    >>> like = Image(np.zeros((64, 64, 1), np.float32), Kind.DATA)
    >>> np.bincount(refined(halves, np.zeros((64, 64), np.float32), like).ravel()).tolist()
    [0, 2048, 2048]
    """
    if labels.shape == strength.shape:
        return labels
    large = sized(labels, like.width, like.height, like.wraps)
    reach = max(1, round(1.5 * like.width / labels.shape[1]))
    still = large.copy()
    for shift in (reach, -reach):
        for axis in (0, 1):
            still[np.roll(large, shift, axis) != large] = 0
    return flooded(strength, still, like.wraps)


def _along(labels: Labels, like: Image) -> tuple[Floats, Floats]:
    """Place along the longer axis of each texel's element, 0…1, and the direction of that axis."""
    told = measured(labels, like.wraps)
    h, w = labels.shape
    yy, xx = np.mgrid[0:h, 0:w]
    dx = offsets(xx, told.x[labels], w, like.wraps)
    dy = offsets(yy, told.y[labels], h, like.wraps)
    turn = told.turn[labels]
    t = (dx * np.cos(turn) + dy * np.sin(turn)) / np.maximum(told.along[labels] * np.sqrt(12.0), 1)
    return np.clip(t + 0.5, 0, 1).astype(np.float32), turn.astype(np.float32)


def edited(labels: Labels, edits: tuple[Edit, ...], wraps: bool) -> Labels:
    """Labels after what was joined and cut by hand, numbered anew without gaps.

    >>> edited(np.array([[3, 3, 7, 7]], np.int32), (), False).tolist()
    [[1, 1, 2, 2]]
    """
    h, w = labels.shape
    out = labels.copy()
    for edit in edits:
        at = [(min(int(y % 1.0 * h), h - 1), min(int(x % 1.0 * w), w - 1)) for x, y in edit.points]
        if edit.kind == "join" and len(at) >= 2:
            first = out[at[0]]
            for place in at[1:]:
                out[out == out[place]] = first
        elif edit.kind == "cut" and len(at) >= 2:
            out = _cut(out, edit.points, wraps)
    _, names = np.unique(out, return_inverse=True)
    return (names.reshape(out.shape) + 1).astype(np.int32)


def _cut(labels: Labels, points: tuple[tuple[float, float], ...], wraps: bool) -> Labels:
    """Every element that a line crosses from one side to the other, in two or more."""
    h, w = labels.shape
    line = np.zeros((h, w), np.uint8)
    cv2.polylines(line, [np.rint(np.array(points) * (w, h) - 0.5).astype(np.int32)], False, 1, 2)
    out = labels.copy()
    top = int(out.max()) + 1
    for label in np.unique(labels[line > 0]):
        own = labels == label
        named, count = connected(own & (line == 0), wraps)
        large = [i for i in range(1, count + 1) if (named == i).sum() >= max(9, 0.02 * own.sum())]
        if len(large) < 2:
            continue
        markers = np.where(own, 0, -1).astype(np.int32)
        for i in large[1:]:
            markers[named == i] = top
            top += 1
        markers[named == large[0]] = label
        out = np.where(own, flooded(np.zeros((h, w), np.float32), markers, wraps), out).astype(np.int32)
    return out
