"""Values that a file cannot hold."""

from __future__ import annotations

from silent_loom.core.report.check import Checked
from silent_loom.core.screen.display import shown

PLACE = 1
"""Where it comes among the checks."""


def found(what: Checked) -> list[str]:
    if what.constant or not what.meaning.read_of:
        return []
    seen = shown(what.image, what.meaning)
    cut = float(((seen < -1e-3) | (seen > 1.001)).mean())
    return [f"clipped {100 * cut:.1f} %"] if cut > 0.001 else []
