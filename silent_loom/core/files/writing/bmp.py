"""BMP."""

from __future__ import annotations

from typing import Any

from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.parallel import Task
from silent_loom.core.files.writing.engine import engine_write, plain_about
from silent_loom.core.files.writing.how import How


def encode(path: str, samples: Floats, codes: NDArray[Any], how: How, task: Task) -> None:
    """As it is."""
    engine_write(path, codes, how, plain_about(how))
