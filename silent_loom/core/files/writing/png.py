"""PNG."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.lazy_modules import later
from silent_loom.core.base.parallel import Task
from silent_loom.core.files.writing.how import How

_png = later("silent_loom.core.files.png")
_palette = later("silent_loom.core.files.palette")


def encode(path: str, samples: Floats, codes: NDArray[Any], how: How, task: Task) -> None:
    """With a palette where one is asked for."""
    if how.palette:
        body = _palette.palette_bytes(codes, how.palette, colour=how.colour)
    else:
        body = _png.png_bytes(codes, colour=how.colour, small=how.small, task=task)
    Path(path).write_bytes(body)
