"""A height of too few levels: stairs where slopes should be."""

from __future__ import annotations

import numpy as np

from silent_loom.core.report.check import Checked, Mend

PLACE = 7
"""Where it comes among the checks."""

SAYS = "It has so few different levels that slopes come out as stairs, which light shows. Its file may hold 8 bits only."
"""What it means."""

FEW = 300
"""Levels below which stairs may show: 8 bits hold 256."""


def found(what: Checked) -> list[str]:
    if not (what.meaning.unit and what.meaning.read_of) or what.constant or what.image.pixels.shape[2] != 1:
        return []
    levels = what.sheet.get("levels") or len(np.unique(np.round(what.image.pixels / what.meaning.depth, 5)))
    return [f"terraced: {levels} levels"] if levels < min(FEW, what.image.pixels.size // 8) else []


def mend(what: Checked) -> Mend:
    """Softened by a texel or two."""
    return Mend("Soften the stairs", "height", {"soften_mm": round(2 * max(what.image.size_mm) / 1024, 3)})
