"""WebP."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image as Pillow

from silent_loom.core.base.images import Floats
from silent_loom.core.base.lazy_modules import later
from silent_loom.core.base.parallel import Task
from silent_loom.core.files.writing.how import How

_tags = later("silent_loom.core.files.tags")


def encode(path: str, samples: Floats, codes: NDArray[Any], how: How, task: Task) -> None:
    """8-bit codes; it has no grey, so grey is three times the same. What is no colour is kept without loss."""
    planes = [Pillow.fromarray(np.ascontiguousarray(codes[..., k])) for k in range(codes.shape[2])]
    if len(planes) <= 2:
        planes = [planes[0]] * 3 + planes[1:]
    picture = Pillow.merge("RGBA" if len(planes) == 4 else "RGB", planes)
    profile = {"icc_profile": _tags.srgb_profile()} if how.colour else {}
    quality = how.quality if how.colour else 60
    picture.save(path, "WEBP", lossless=not how.colour, quality=quality, exact=True, method=3, **profile)
