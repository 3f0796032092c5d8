"""The sheet that a pattern is drawn on."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from silent_loom.core.base.bounded_memory import Memory
from silent_loom.core.base.images import Floats


@dataclass(frozen=True)
class Ground:
    """A sheet that repeats, and the texels that are asked for.

    Attributes
    ----------
    width, height : int
        Texels of the array.
    size_mm : tuple of float
        One repeat, across and down.
    texels : tuple of float
        One repeat in texels; seldom whole above a step that consumes an overlap.
    """

    width: int
    height: int
    size_mm: tuple[float, float]
    texels: tuple[float, float]

    @staticmethod
    def of(width: int, height: int, size_mm: tuple[float, float]) -> Ground:
        """A sheet whose array is one repeat."""
        return Ground(width, height, size_mm, (float(width), float(height)))

    @property
    def pitch(self) -> tuple[float, float]:
        """Millimetres of a texel, across and down."""
        return self.size_mm[0] / self.texels[0], self.size_mm[1] / self.texels[1]

    @property
    def texel(self) -> float:
        """Millimetres of the larger side of a texel: over so much an edge goes from one side to the other."""
        return max(self.pitch)

    def across(self) -> Floats:
        """Middles of the columns in mm, shape (1, W)."""
        return ((np.arange(self.width, dtype=np.float32) + np.float32(0.5)) * np.float32(self.pitch[0]))[None]

    def down(self) -> Floats:
        """Middles of the rows in mm, shape (H, 1)."""
        return ((np.arange(self.height, dtype=np.float32) + np.float32(0.5)) * np.float32(self.pitch[1]))[:, None]

    def turned(self) -> Ground:
        """The same sheet with its sides changed: what is drawn there across runs down here, after a transposition."""
        return Ground(self.height, self.width, self.size_mm[::-1], self.texels[::-1])

    def counts(self, across_mm: float, down_mm: float, of: tuple[int, int] = (1, 1)) -> tuple[int, int]:
        """How many pieces of about a size go on a repeat: whole numbers, multiples of ``of``.

        >>> Ground.of(8, 8, (1000, 500)).counts(240, 80, (1, 2))
        (4, 6)
        """
        return whole(self.size_mm[0] / across_mm, of[0]), whole(self.size_mm[1] / down_mm, of[1])


def whole(count: float, of: int = 1) -> int:
    """The nearest multiple of a number, at least that number.

    >>> whole(6.4), whole(6.4, 4), whole(0.2)
    (6, 8, 1)
    """
    return max(1, math.floor(count / of + 0.5)) * of


KEPT_BYTES = 96 << 20
"""Bytes of fields that are kept at most."""
LARGEST_KEPT = 32 << 20
"""Bytes of a field that is worth keeping: a dial waits for 1024 texels, and larger fields are seldom asked for twice."""

FIELDS: Memory[Any, Any] = Memory(most_bytes=KEPT_BYTES, largest=LARGEST_KEPT)
"""Fields drawn last, of all patterns, kept for the next touch of a dial: most dials of a pattern leave most of its fields as they
are. Nobody changes what comes of it."""
