"""Trade places: elements change places with others of their size."""

from __future__ import annotations

from collections.abc import Mapping

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import Task
from silent_loom.core.maps.distance import inside
from silent_loom.core.maps.elements import Elements, inner_of, labels_of, measured, offsets, random, sized
from silent_loom.core.moving.resample import enlarge, normalise
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import CarryStep, Geometry, Sheet


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
    half_turns: bool = setting(False, "Some are turned by half a turn.", title="Half turns")
    border: float = setting(0.06, "Soft border, as a part of an element.", low=0, high=0.4, step=0.01)
    ids: ThreadName = setting("id", "The elements.", title="Elements", shape="thread", kinds=(Kind.ID,))
    seed: int = setting(1, "Another wall of the same elements.", low=0, high=2**31 - 1, step=1)

    def weights(self) -> dict[str, float]:
        """Nothing but the labels is decided on."""
        return {"base": 0.0, "height": 0.0, "normal": 0.0}


class Trade(CarryStep[TradeSettings]):
    """Each place takes what lies at the same spot of another element, all threads alike; joints stay where they are."""

    name = "trade"
    title = "Trade places"
    words_for_it = ("shuffle", "swap", "bricks", "stones", "random", "another wall")
    sentence = "Lets elements change places with others of their size: another wall out of the same photo."
    decides = True
    decision_scale = 0.5
    Settings = TradeSettings

    def words(self, s: TradeSettings) -> str:
        return f"{s.share:.0%} of them, seed {s.seed}"

    def reads(self, s: TradeSettings) -> tuple[str, ...]:
        return (s.ids,)

    def idle(self, s: TradeSettings) -> bool:
        return s.share == 0

    def decide(self, s: TradeSettings, inputs: Mapping[str, Image], geometry: Geometry, task: Task) -> Decision:
        ids = inputs[s.ids]
        labels = labels_of(ids.plane())
        told = measured(labels, ids.wraps)
        other = partners(told, s)
        turned = np.where((random(len(other), s.seed, 2) < 0.5) & s.half_turns, -1.0, 1.0)
        h, w = labels.shape
        yy, xx = np.mgrid[0:h, 0:w]
        # Sizes along both sides of the sheet, not along each element's own axis: bricks and boards lie level
        wide = [
            np.maximum(_spread(labels, offsets(at, centre[labels], n, ids.wraps), len(centre)), 0.5)
            for at, centre, n in ((xx, told.x, w), (yy, told.y, h))
        ]
        soft = max(s.border * float(np.sqrt(np.median(told.area[told.area > 0]))), 0.75)
        inner = np.clip(inside(inner_of(labels, ids.wraps), ids.wraps) / soft, 0, 1)
        moved = int((other != np.arange(len(other)))[np.unique(labels)].sum())
        arrays = {
            "labels": labels,
            "centre": np.stack([told.x / w, told.y / h]),
            "other": other,
            "factor": np.stack([each[other] / each for each in wide]) * turned,
            "inner": inner.astype(np.float32),
        }
        warnings = () if moved else ("No two elements are alike enough to change places: allow more difference.",)
        return Decision(arrays, {"traded": moved}, warnings)

    def carry(self, s: TradeSettings, image: Image, decision: Decision, sheet: Sheet, task: Task) -> Image:
        a = decision.arrays
        h, w = image.height, image.width
        labels = sized(a["labels"], w, h, image.wraps)
        yy, xx = np.mgrid[0:h, 0:w]
        cx, cy = a["centre"][0] * w, a["centre"][1] * h
        dx, dy = offsets(xx, cx[labels], w, image.wraps), offsets(yy, cy[labels], h, image.wraps)
        other = a["other"]
        to = other[labels]
        x, y = cx[to] + dx * a["factor"][0][labels], cy[to] + dy * a["factor"][1][labels]
        came = _taken(image, x, y)
        if image.kind is Kind.NORMAL:
            came[..., :2] *= np.sign(a["factor"][0])[labels][..., None]
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


def _spread(labels: NDArray[np.int32], off: NDArray[np.float64], count: int) -> NDArray[np.float64]:
    area = np.maximum(np.bincount(labels.ravel(), minlength=count), 1)
    return np.sqrt(np.bincount(labels.ravel(), np.square(off).ravel(), minlength=count) / area)


def partners(told: Elements, s: TradeSettings) -> NDArray[np.int64]:
    """For every label the one whose content comes to its place: a permutation within groups of like size and shape.

    >>> from silent_loom.core.maps.elements import measured
    >>> told = measured(np.repeat(np.array([[1, 1, 2, 2]], np.int32), 4, 0), False)
    >>> sorted(partners(told, TradeSettings()).tolist())
    [0, 1, 2]
    """
    count = len(told.area)
    real = np.flatnonzero(told.area > 0)
    chosen = real[random(count, s.seed, 1)[real] < s.share]
    out = np.arange(count)
    order = chosen[np.argsort(told.area[chosen])]
    start = 0
    while start < len(order):
        stop = start + 1
        first = order[start]
        while stop < len(order) and told.area[order[stop]] <= told.area[first] * (1 + s.alike) ** 2:
            stop += 1
        group = order[start:stop]
        shape = np.round(np.log(np.maximum(told.along[group], 1) / np.maximum(told.across[group], 1)) / (2 * s.alike + 0.2))
        for form in np.unique(shape):
            same = group[shape == form]
            shuffled = same[np.argsort(random(count, s.seed, 3)[same])]
            out[shuffled] = np.roll(shuffled, 1)
        start = stop
    return out
