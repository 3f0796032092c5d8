"""Reliefs without end: patterns of the product with settings drawn at random, worn, roughened, laid over each other, turned."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.images import Kind
from silent_loom.core.ways.sources import FileSources
from silent_loom.core.weave import registry
from silent_loom.core.weave.answers.cache import Cache
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.beginnings import Beginning, beginnings
from silent_loom.core.weave.rows.model import StepEntry, Weave

Plane = NDArray[np.float32]
Random = np.random.Generator

HELD_OUT = frozenset({
    "herringbone-setts", "coursed-stone", "terrazzo", "beaver-tails", "old-boards", "gravel", "dried-mud", "sand-ripples",
    "sailcloth", "ropes", "knit", "hammered-copper", "tread-plate", "trowelled-plaster", "cracked-plaster", "leather",
    "cushions", "pyramids",
})  # fmt: skip
"""Families that training never sees: figures are taken on these."""
LEAST_FLAT = 0.12
"""Share of sheets that are flat, with nothing but paint on them."""


@dataclass(frozen=True)
class Relief:
    """A square piece of a surface.

    Attributes
    ----------
    height : float32 array, shape (N, N)
        In texels, so that its slopes are true ones.
    ids : int32 array, shape (N, N), or None
        Which element each texel is of; 0 between them.
    family : str
    """

    height: Plane
    ids: NDArray[np.int32] | None
    family: str


def _no_file(digest: str) -> Any:
    raise KeyError(digest)


def evaluator() -> Evaluator:
    """Computes patterns; keeps little, as none comes twice."""
    return Evaluator(FileSources(_no_file), Cache(64 << 20))


def families(held_out: bool = False) -> list[str]:
    """Names of the patterns that are trained on, or of those that are not."""
    return [n for n in beginnings() if (n in HELD_OUT) == held_out]


def drawn(rng: Random, side: int, asked: Evaluator, names: list[str]) -> Relief:
    """A relief of ``side`` texels, as deep as it comes; its slopes are set by `deep`."""
    for _ in range(8):
        name = str(rng.choice(names))
        try:
            height, ids = _pattern(rng, beginnings()[name], int(rng.integers(side, 2 * side + 1)), asked)
        except LoomError:
            continue  # these settings do not go together
        if np.ptp(height) > 1e-6:
            height, ids = _turned(rng, height, ids, side)
            return Relief(_worn(rng, height), ids, name)
    return Relief(fractal(rng, side, float(rng.uniform(2, side / 4))), None, "noise")


def flat(side: int) -> Relief:
    """Nothing but a plane."""
    return Relief(np.zeros((side, side), np.float32), None, "flat")


def deep(rng: Random, relief: Relief) -> Relief:
    """The same with roughness of its own, and with slopes from nearly nothing to steeper than 45°."""
    h = relief.height
    side = len(h)
    if relief.family != "flat":
        for _ in range(int(rng.integers(0, 3))):
            more = fractal(rng, side, float(np.exp(rng.uniform(np.log(1.5), np.log(side / 3)))))
            h = h + more * np.float32(h.std() * np.exp(rng.uniform(np.log(0.02), np.log(0.6))))
    slope = np.hypot(*np.gradient(cv2.GaussianBlur(h, (0, 0), 1.0)))
    steep = float(np.sqrt(np.square(slope).mean()))
    wanted = float(np.exp(rng.uniform(np.log(0.02), np.log(0.9))))
    return Relief((h * np.float32(wanted / steep) if steep > 1e-9 else h).astype(np.float32), relief.ids, relief.family)


def fractal(rng: Random, side: int, scale: float, octaves: int = 5, gain: float = 0.5) -> Plane:
    """Noise of unit spread with features from ``scale`` texels down."""
    out = np.zeros((side, side), np.float32)
    for k in range(octaves):
        size = scale / 2**k
        if size < 1:
            break
        few = max(2, int(round(side / size)) + 2)
        grid = rng.standard_normal((few, few)).astype(np.float32)
        out += np.float32(gain**k) * cv2.resize(grid, (side, side), interpolation=cv2.INTER_CUBIC)
    out -= out.mean()
    return out / max(float(out.std()), 1e-6)


def _pattern(rng: Random, b: Beginning, texels: int, asked: Evaluator) -> tuple[Plane, NDArray[np.int32] | None]:
    width, height = b.size_mm
    sheet = StepEntry(step=registry.able("sheet"), settings={"width_mm": width, "height_mm": height})
    rows = [sheet, StepEntry(step=b.step, settings=_varied(rng, b.step, b.settings))]
    for m in b.more:
        if rng.random() < 0.6:
            seeded = {**m.settings, **({"seed": int(rng.integers(1, 10_000))} if "seed" in registry.fields(m.step) else {})}
            rows.append(StepEntry(step=m.step, settings=seeded, mix=m.mix, amount=m.amount, mask=m.mask))
    weave = Weave(steps=tuple(rows))
    plan = asked.plan(weave)
    if (error := plan.error()) is not None:
        raise error
    found = asked.ask(weave, "height", texels).pixels[..., 0]
    numbers = next((n for n, t in plan.threads.items() if t.kind is Kind.ID), None)
    ids = asked.ask(weave, numbers, texels).pixels[..., 0].astype(np.int32) if numbers else None
    per_mm = found.shape[1] / width
    return (found * np.float32(per_mm)).astype(np.float32), ids


def _varied(rng: Random, step: str, settings: Mapping[str, Any]) -> dict[str, Any]:
    """Settings of a pattern, each number moved by about a third of itself, some choices made anew."""
    out = dict(settings)
    for name, info in registry.fields(step).items():
        extra = info.json_schema_extra if isinstance(info.json_schema_extra, dict) else {}
        value = out.get(name, info.get_default())
        low, high = _bounds(info)
        if name == "seed":
            out[name] = int(rng.integers(1, 100_000))
        elif isinstance(value, bool) or extra.get("shape"):
            continue
        elif isinstance(value, float | int) and low is not None and high is not None:
            moved = float(value) * float(np.exp(rng.normal(0, 0.3)))
            if low >= 0 and high <= 1.0:
                moved = float(value) + float(rng.normal(0, 0.2))
            out[name] = type(value)(np.clip(moved, low, high))
    return out


def _bounds(info: Any) -> tuple[float | None, float | None]:
    low = next((float(m.ge) for m in info.metadata if hasattr(m, "ge")), None)
    high = next((float(m.le) for m in info.metadata if hasattr(m, "le")), None)
    return low, high


def _turned(rng: Random, height: Plane, ids: NDArray[np.int32] | None, side: int) -> tuple[Plane, NDArray[np.int32] | None]:
    """A piece cut out of the repeating sheet at any angle."""
    angle = float(rng.choice([0.0, 90.0, 180.0, 270.0])) if rng.random() < 0.3 else float(rng.uniform(0, 360))
    h, w = height.shape
    c, s = np.cos(np.radians(angle)), np.sin(np.radians(angle))
    v, u = np.mgrid[0:side, 0:side].astype(np.float32) - side / 2
    x = (c * u - s * v + rng.uniform(0, w)).astype(np.float32) % w
    y = (s * u + c * v + rng.uniform(0, h)).astype(np.float32) % h
    wrapped = np.pad(height, ((0, 1), (0, 1)), mode="wrap")
    piece = cv2.remap(wrapped, x, y, cv2.INTER_LINEAR)
    if ids is None:
        return piece, None
    nearest = ids[np.floor(y).astype(int) % h, np.floor(x).astype(int) % w]
    return piece, nearest


def _worn(rng: Random, height: Plane) -> Plane:
    """High parts rubbed smooth, all of it blurred a little, or turned inside out, as moulds are."""
    if rng.random() < 0.15:
        height = -height
    if rng.random() < 0.4:
        soft = cv2.GaussianBlur(height, (0, 0), float(rng.uniform(1, 4)))
        height = np.minimum(height, soft) if rng.random() < 0.7 else soft
    if rng.random() < 0.2:  # tops cut off level
        height = np.minimum(height, np.percentile(height, rng.uniform(50, 95)))
    return np.ascontiguousarray(height, np.float32)
