"""OpenEXR."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.lazy_modules import later
from silent_loom.core.base.parallel import Task
from silent_loom.core.files.writing.engine import engine_write
from silent_loom.core.files.writing.how import How

_tags = later("silent_loom.core.files.tags")


def encode(path: str, samples: Floats, codes: NDArray[Any], how: How, task: Task) -> None:
    """Colour is kept multiplied by alpha, as the format has it; under alpha 0 it stays as it is."""
    values = samples
    if samples.shape[2] in (2, 4):
        a = samples[..., -1:]
        values = np.concatenate([samples[..., :-1] * np.where(a > 0, a, 1), a], -1).astype(np.float32)
    about: dict[str, Any] = {"compression": "piz" if how.depth == "half" else "zip"}
    if how.colour:
        about["chromaticities"] = _tags.REC_709
    engine_write(path, values, how, about)
