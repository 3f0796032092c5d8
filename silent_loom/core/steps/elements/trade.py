"""Trade places: elements change places with others of their size."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import Task
from silent_loom.core.look.features import features
from silent_loom.core.maps.distance import inside
from silent_loom.core.maps.elements import Elements, inner_of, labels_of, measured, offsets, random, sized
from silent_loom.core.maps.outlines import ANGLES, CLEAR, FULL, Outlines, clearness, outlines, unlike
from silent_loom.core.moving.resample import enlarge, normalise
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import CarryStep, Geometry, Sheet

STRETCHED = 1.35
"""How far an outline is drawn out or pressed in at most, to fit another: more would smear."""


class TradeSettings(Settings):
    share: float = setting(1.0, "Part of the elements that change places.", low=0, high=1, step=0.01)
    alike: float = setting(
        0.15,
        "How much two may differ in size to change places; the one that comes is fitted to its new place.",
        title="Alike within",
        low=0.01,
        high=1,
        step=0.01,
    )
    fits: float = setting(
        0.12,
        "How far the outlines of two may differ, as a part of their size; what comes is fitted to the outline it finds.",
        title="Outlines within",
        low=0.01,
        high=0.5,
        step=0.01,
    )
    doubtful: bool = setting(
        False,
        "Elements with an unclear border, odd ones and those cut by the edge change places as well.",
        title="Doubtful ones, too",
    )
    half_turns: bool = setting(False, "Some are turned by half a turn.", title="Half turns")
    border: float = setting(0.015, "Soft border, as a part of an element.", low=0, high=0.4, step=0.005)
    ids: ThreadName = setting("id", "The elements.", title="Elements", shape="thread", kinds=(Kind.ID,))
    colour: ThreadName = setting(
        "base",
        "The colour in which their borders have to be clear.",
        title="Borders in",
        shape="thread",
        kinds=(Kind.COLOUR,),
        also=("none",),
    )
    seed: int = setting(1, "Another wall of the same elements.", low=0, high=2**31 - 1, step=1)

    def weights(self) -> dict[str, float]:
        """Nothing but the labels is decided on."""
        return {"base": 0.0, "height": 0.0, "normal": 0.0}


class Trade(CarryStep[TradeSettings]):
    """Each place takes what lies at the same spot of another element, all threads alike; joints stay where they are.

    Notes
    -----
    Elements go in pairs, and only those that can be trusted: with a clear border, a full outline, wholly on the sheet, and a
    partner of like size and outline. What comes is drawn, direction by direction, from its own outline to the one it finds,
    so nothing sticks out and nothing is left open. Everything else stays where it is.
    """

    name = "trade"
    title = "Trade places"
    words_for_it = ("shuffle", "swap", "bricks", "stones", "random", "another wall")
    sentence = "Lets elements change places with others of their size: another wall out of the same photo."
    version = 2
    decides = True
    decision_scale = 0.5
    Settings = TradeSettings

    def words(self, s: TradeSettings) -> str:
        return f"{s.share:.0%} of them, seed {s.seed}"

    def reads(self, s: TradeSettings) -> tuple[str, ...]:
        return (s.ids, *(() if s.colour == "none" else (s.colour,)))

    def does_without(self, s: TradeSettings) -> tuple[str, ...]:
        return () if s.colour == "none" else (s.colour,)

    def idle(self, s: TradeSettings) -> bool:
        return s.share == 0

    def decide(self, s: TradeSettings, inputs: Mapping[str, Image], geometry: Geometry, task: Task) -> Decision:
        ids = inputs[s.ids]
        labels = labels_of(ids.plane())
        told, shape = measured(labels, ids.wraps), outlines(labels, ids.wraps)
        sure = _sure(s, labels, shape, inputs.get(s.colour), ids.wraps)
        other = partners(told, shape, sure, s)
        turned = (random(len(other), s.seed, 2) < 0.5) & s.half_turns
        turned &= np.array(
            [unlike(np.roll(r, ANGLES // 2), shape.radii[k : k + 1])[0] <= s.fits for r, k in _pairs(shape, other)]
        )
        h, w = labels.shape
        soft = max(s.border * float(np.sqrt(np.median(told.area[told.area > 0]))), 0.75)
        inner = np.clip(inside(inner_of(labels, ids.wraps), ids.wraps) / soft, 0, 1)
        present = np.unique(labels)
        moved = int((other != np.arange(len(other)))[present].sum())
        unsure = int((~sure)[present].sum())
        arrays = {
            "labels": labels,
            "centre": np.stack([told.x / w, told.y / h]),
            "wide": shape.wide / np.array([[w], [h]]),
            "radii": shape.radii.astype(np.float32),
            "other": other,
            "turned": turned,
            "inner": inner.astype(np.float32),
        }
        figures = {"traded": moved, "unsure": unsure, "stayed": len(present) - moved}
        return Decision(arrays, figures, _warnings(moved, unsure, len(present)))

    def carry(self, s: TradeSettings, image: Image, decision: Decision, sheet: Sheet, task: Task) -> Image:
        a = decision.arrays
        h, w = image.height, image.width
        labels = sized(a["labels"], w, h, image.wraps)
        other, size = a["other"], np.array([[w], [h]])
        centre, wide = a["centre"] * size, a["wide"] * size
        to = other[labels]
        yy, xx = np.mgrid[0:h, 0:w]
        u = offsets(xx, centre[0][labels], w, image.wraps) / wide[0][labels]
        v = offsets(yy, centre[1][labels], h, image.wraps) / wide[1][labels]
        turn = np.arctan2(v, u) / (2 * np.pi) * ANGLES
        back = np.where(a["turned"], -1.0, 1.0)
        own, its = _radius(a["radii"], labels, turn), _radius(a["radii"], to, turn + np.where(a["turned"], ANGLES / 2, 0)[labels])
        drawn = np.clip(its / own, 1 / STRETCHED, STRETCHED) * back[labels]
        x, y = centre[0][to] + u * drawn * wide[0][to], centre[1][to] + v * drawn * wide[1][to]
        came = _taken(image, x, y)
        if image.kind is Kind.NORMAL:
            came[..., :2] *= back[labels][..., None].astype(np.float32)
        soft = enlarge(np.ascontiguousarray(a["inner"]), w, h, image.wraps, task)[..., None]
        weight = (np.clip(soft, 0, 1) * (to != labels)[..., None]).astype(np.float32)
        if image.kind is Kind.ID:
            return image  # places keep their elements: what changes is what lies there
        mixed = np.ascontiguousarray(image.pixels + weight * (came - image.pixels))
        return image.with_pixels(normalise(mixed) if image.kind is Kind.NORMAL else mixed)


def _taken(image: Image, x: NDArray[np.float64], y: NDArray[np.float64]) -> Floats:
    """Samples at places in texels, cubic, round the edges of the sheet."""
    edge = cv2.BORDER_WRAP if image.wraps else cv2.BORDER_REFLECT_101
    made = cv2.remap(image.pixels, x.astype(np.float32), y.astype(np.float32), cv2.INTER_CUBIC, borderMode=edge)
    out: Floats = np.ascontiguousarray(made.reshape(image.pixels.shape), np.float32)
    return out


def _radius(radii: Floats, labels: NDArray[np.integer[Any]], turn: NDArray[np.float64]) -> NDArray[np.float64]:
    """From the middle to the outline in a direction, between the directions that are known."""
    low = np.floor(turn).astype(np.int64)
    t = turn - low
    return np.asarray(radii[labels, low % ANGLES] * (1 - t) + radii[labels, (low + 1) % ANGLES] * t)


def _pairs(shape: Outlines, other: NDArray[np.int64]) -> list[tuple[NDArray[np.float64], int]]:
    return [(shape.radii[k], i) for i, k in enumerate(other)]


def _sure(s: TradeSettings, labels: NDArray[np.int32], shape: Outlines, colour: Image | None, wraps: bool) -> NDArray[np.bool_]:
    """Elements that may be moved, by label."""
    if s.doubtful:
        return np.ones(len(shape.filled), bool)
    sure = shape.whole & (shape.filled >= FULL)
    if colour is not None:
        planes = features(colour)
        if planes.shape[:2] == labels.shape:
            sure &= clearness(labels, planes, wraps) >= CLEAR
    return sure


def _warnings(moved: int, unsure: int, count: int) -> tuple[str, ...]:
    if not moved:
        return ("No two elements are alike enough to change places: allow more difference.",)
    if moved == count:
        return ()
    doubtful = f", {unsure} of them with an unclear border or an odd outline" if unsure else ""
    return (f"{count - moved} of {count} elements stay where they are{doubtful}.",)


def partners(told: Elements, shape: Outlines, sure: NDArray[np.bool_], s: TradeSettings) -> NDArray[np.int64]:
    """For every label the one whose content comes to its place: pairs of like size and outline, chosen by chance.

    >>> from silent_loom.core.maps.elements import measured
    >>> labels = np.repeat(np.array([[1, 1, 2, 2]], np.int32), 4, 0)
    >>> partners(measured(labels, True), outlines(labels, True), np.ones(3, bool), TradeSettings()).tolist()
    [0, 2, 1]
    """
    count = len(told.area)
    out = np.arange(count)
    free = (told.area > 0) & sure & (random(count, s.seed, 1) < s.share)
    size, chance = np.log(np.maximum(told.area, 1)) / 2, random(count, s.seed, 3)
    long = np.log(shape.wide)
    near = np.log1p(s.alike)
    for one in np.argsort(chance):
        if not free[one]:
            continue
        free[one] = False
        like = free & (np.abs(size - size[one]) <= near) & (np.abs(long - long[:, one : one + 1]) <= near).all(0)
        may = np.flatnonzero(like)
        may = may[unlike(shape.radii[one], shape.radii[may]) <= s.fits]
        if len(may):
            partner = may[np.argmin(chance[may])]
            out[one], out[partner] = partner, one
            free[partner] = False
    return out
