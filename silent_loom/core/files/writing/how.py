"""What a file is to be."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.parallel import Task
from silent_loom.core.files.formats import Depth


@dataclass(frozen=True)
class How:
    """What a file is to be: see `write.write`."""

    fmt: str
    depth: Depth
    colour: bool
    quality: int
    small: bool
    palette: int


Encode = Callable[[str, Floats, NDArray[Any], How, Task], None]
"""Writes a file under its passing name, out of samples and their codes: the samples themselves where floats are kept."""
