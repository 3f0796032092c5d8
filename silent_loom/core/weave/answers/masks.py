"""Where a row takes effect: the one place that turns masks into weights."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from silent_loom.core.base.colour import encode, luminance
from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.weave.rows.model import Mask
from silent_loom.core.weave.threads import NOUNS, ThreadSpec

KINDS = (Kind.DATA, Kind.COLOUR, Kind.CHANNELS)
"""Kinds of threads that can say how much."""


def check(mask: Mask, present: Mapping[str, ThreadSpec], where: str) -> WeaveError | None:
    """What is wrong with a mask at a place of a weave, if anything.

    >>> from silent_loom.core.weave.threads import spec
    >>> check(Mask(thread="height"), {"height": spec("height")}, "Tone") is None
    True
    """
    meaning = present.get(mask.thread)
    if meaning is None:
        return WeaveError(
            f"its mask is {mask.thread.replace('_', ' ')}, which no step above it makes",
            where,
            "Choose another mask, or add a step that makes it above.",
        )
    if meaning.kind not in KINDS:
        return WeaveError(
            f"a mask is plain numbers or colour, and {meaning.title.lower()} is {NOUNS[meaning.kind]}",
            where,
            "Choose another mask.",
        )
    if mask.channel and "rgba".index(mask.channel) >= len(meaning.neutral):
        return WeaveError(f"{meaning.title.lower()} has no channel {mask.channel}", where, "Choose another channel of the mask.")
    return None


def weight(mask: Mask, image: Image, task: Task = IDLE) -> Floats:
    """How much takes effect at each place, float32 0…1, shape (H, W, 1).

    Without a channel colour counts by its luminance, encoded as sRGB (an even ramp to the eye), and packed channels by the first.

    >>> ramp = Image(np.float32([[[0], [5], [10]]]), Kind.DATA)
    >>> weight(Mask(thread="height", low=0, high=10, inverted=True), ramp)[0, :, 0].tolist()
    [1.0, 0.5, 0.0]
    """
    if mask.channel:
        plane = image.pixels[..., "rgba".index(mask.channel)]
        if image.kind is Kind.COLOUR:
            plane = encode(np.ascontiguousarray(plane), task)
    elif image.kind is Kind.COLOUR:
        plane = encode(luminance(image.pixels, task), task)
    else:
        plane = image.pixels[..., 0]
    out = plane - np.float32(mask.low)
    out /= np.float32(mask.high - mask.low)
    np.clip(out, 0, 1, out=out)
    if mask.inverted:
        np.subtract(1, out, out=out)
    return np.ascontiguousarray(out, np.float32)[..., None]
