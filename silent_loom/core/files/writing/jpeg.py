"""JPEG."""

from __future__ import annotations

from typing import Any

from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.parallel import Task
from silent_loom.core.files.writing.engine import engine_write, plain_about
from silent_loom.core.files.writing.how import How


def encode(path: str, samples: Floats, codes: NDArray[Any], how: How, task: Task) -> None:
    """It has no alpha; what is no colour keeps all of its texels."""
    if codes.shape[2] in (2, 4):
        codes = codes[..., :-1]
    about = {"Compression": f"jpeg:{how.quality}", "jpeg:subsampling": "4:2:0" if how.colour else "4:4:4"}
    engine_write(path, codes, how, plain_about(how) | about)
