"""Metal by halves: a surface is bare metal, or is not."""

from __future__ import annotations

from silent_loom.core.report.check import Checked

PLACE = 4
"""Where it comes among the checks."""


def found(what: Checked) -> list[str]:
    if what.meaning.name != "metallic" or what.constant:
        return []
    half = float(((what.image.pixels > 0.2) & (what.image.pixels < 0.8)).mean())
    return [f"{100 * half:.0f} % half metal"] if half > 0.25 else []
