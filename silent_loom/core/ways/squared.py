"""A square repeat out of a sheet that is not square: cropped, and closed again, all maps alike."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import cast

import numpy as np

from silent_loom.core.base.images import Image
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.delivery.fitting import CROPPED, NEAR
from silent_loom.core.delivery.profile import Profile
from silent_loom.core.moving.resample import at_most
from silent_loom.core.steps.tiling.seamless import SEAMLESS, SeamlessSettings
from silent_loom.core.weave.step import DECISION_SIZE, Geometry, Sheet, Sources

Make = Callable[[str], Image]
MOST_OVERLAP = 0.3
LEAST_OVERLAP = 0.02
_NO_SOURCES = cast(Sources, None)


def squared(make: Make, names: Sequence[str], wanted: Profile, size_mm: tuple[float, float], task: Task = IDLE) -> Make:
    """What makes the maps of a square repeat, where a profile asks for a crop and the sheet is not square already.

    Parameters
    ----------
    make : callable
        Gives one map of the whole sheet; all of one size.
    names : sequence of str
        Maps that will be asked for; the base colour decides where the cut runs, or the first of them.
    wanted : Profile
    size_mm : tuple of float
        Of the sheet.

    Notes
    -----
    The shorter side goes on to meet itself all but for the overlap that the cut needs at least; the longer one is cropped in
    its middle to as much as leaves a square when its overlap is consumed.
    """
    w, h = size_mm
    if wanted.square != "crop" or abs(w / h - 1) <= NEAR or not names:
        return make
    short, longer = min(w, h), max(w, h)
    side = CROPPED * short
    kept = min(longer, side / (1 - MOST_OVERLAP))
    overlap = 1 - side / kept
    along = {"overlap_x": overlap, "overlap_y": LEAST_OVERLAP} if w > h else {"overlap_x": LEAST_OVERLAP, "overlap_y": overlap}
    s = SeamlessSettings(method="cut", **along)
    area = (kept, h) if w > h else (w, kept)
    before = Geometry(area)
    after = SEAMLESS.geometry(s, before, _NO_SOURCES)

    def cropped(name: str) -> Image:
        image = make(name)
        across, down = (max(8, round(n * a / f)) for n, a, f in zip((image.width, image.height), area, size_mm, strict=True))
        left, top = (image.width - across) // 2, (image.height - down) // 2
        part = np.ascontiguousarray(image.pixels[top : top + down, left : left + across])
        return replace(image, pixels=part, size_mm=area, wraps=False)

    guide = cropped("base" if "base" in names else names[0])
    decision = SEAMLESS.decide(s, {"base": at_most(guide, DECISION_SIZE)}, before, task.part(0, 0))

    def closed(name: str) -> Image:
        image = cropped(name)
        texels = image.width * after.size_mm[0] / area[0], image.height * after.size_mm[1] / area[1]
        sheet = Sheet(before, after, (float(round(texels[0])), float(round(texels[1]))), _NO_SOURCES)
        return SEAMLESS.carry(s, image, decision, sheet, task.part(0, 0))

    return closed
