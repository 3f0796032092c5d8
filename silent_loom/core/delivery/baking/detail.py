"""What is lost at the size of a bake: how much of each map, and where most."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Image
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.moving.resample import enlarge
from silent_loom.core.screen.display import rgba
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.model import Weave
from silent_loom.core.weave.threads import ThreadSpec

REFERENCE = 2048
"""Longer side at which the live surface is taken, at most; beyond twice the baked size more would change little."""
BLOCK = 64
"""Texels of the reference each way, of the places that are compared."""
PLACE = 192
"""Pixels of the picture of the worst place."""


@dataclass(frozen=True)
class Loss:
    """What one map loses.

    Attributes
    ----------
    thread : str
    share : float
        Of its detail, 0…1: of its variance over the whole sheet.
    place : tuple of float
        Middle of the worst place, as parts of the sheet.
    live, baked : uint8 array, shape (PLACE, PLACE, 3)
        The worst place at the reference's own texels, of both.
    """

    thread: str
    share: float
    place: tuple[float, float]
    live: NDArray[np.uint8] = field(repr=False)
    baked: NDArray[np.uint8] = field(repr=False)


@dataclass(frozen=True)
class Losses:
    """What is lost at a size, of a reference size."""

    size: int
    reference: int
    maps: list[Loss]

    def as_dict(self) -> dict[str, Any]:
        maps = [{"thread": m.thread, "share": round(m.share, 5), "place": [round(v, 4) for v in m.place]} for m in self.maps]
        return {"size": self.size, "reference": self.reference, "maps": maps}


def losses(evaluator: Evaluator, weave: Weave, names: Sequence[str], size: int, task: Task = IDLE) -> Losses:
    """What each map loses when it is baked at a size, against a larger one.

    Parameters
    ----------
    size : int
        Longer side of the bake.

    Notes
    -----
    Detail is variance: what is lost is that of the difference between the live map and the baked one enlarged again
    (Catmull-Rom), held against the variance of the live one. The reference is what sources and patterns hold, or twice the
    size where they are as fine as anything, `REFERENCE` at most: at and beyond it nothing is said to be lost.
    """
    plan = evaluator.plan(weave)
    holds = plan.lossless_texels() or 2 * size
    reference = min(REFERENCE, max(holds, size))
    out: list[Loss] = []
    for i, name in enumerate(names):
        task.report(i / len(names), plan.spec(name).title)
        meaning = plan.spec(name)
        live = evaluator.ask(weave, name, reference, task)
        if size >= reference:
            baked = live
        else:
            small = evaluator.ask(weave, name, size, task)
            baked = live.with_pixels(enlarge(small.pixels, live.width, live.height, True, task))
        out.append(_loss(name, live, baked, meaning))
    return Losses(size, reference, out)


def _loss(name: str, live: Image, baked: Image, meaning: ThreadSpec) -> Loss:
    far = np.square(live.pixels - baked.pixels).sum(2, dtype=np.float64)
    spread = float(np.square(live.pixels - live.pixels.mean((0, 1))).sum(2, dtype=np.float64).mean())
    share = min(1.0, float(far.mean()) / spread) if spread > 1e-12 else 0.0
    block = min(BLOCK, live.width, live.height)
    ny, nx = live.height // block, live.width // block
    sums = far[: ny * block, : nx * block].reshape(ny, block, nx, block).mean((1, 3))
    j, i = np.unravel_index(int(sums.argmax()), sums.shape)
    cy, cx = (int(j) + 0.5) * block, (int(i) + 0.5) * block
    return Loss(
        name,
        share,
        (float(cx / live.width), float(cy / live.height)),
        _cut(live, meaning, int(cx), int(cy)),
        _cut(baked, meaning, int(cx), int(cy)),
    )


def _cut(image: Image, meaning: ThreadSpec, cx: int, cy: int) -> NDArray[np.uint8]:
    """A place as a screen shows it, its texels as they are; sheets smaller than it are repeated."""
    ys = (np.arange(PLACE) + cy - PLACE // 2) % image.height
    xs = (np.arange(PLACE) + cx - PLACE // 2) % image.width
    part = image.with_pixels(np.ascontiguousarray(image.pixels[ys][:, xs]))
    return np.ascontiguousarray(rgba(part, meaning)[..., :3])
