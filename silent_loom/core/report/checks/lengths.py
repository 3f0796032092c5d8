"""Normals that are no unit vectors."""

from __future__ import annotations

from silent_loom.core.base.images import Kind
from silent_loom.core.report.check import Checked

PLACE = 8
"""Where it comes among the checks."""

SAYS = (
    "The three channels do not make vectors of length 1: it was scaled, painted on or saved with loss. "
    "Opened here it is made whole."
)
"""What it means."""

OFF = 0.04
"""Deviation of the length, in the median, from which on that is said."""


def found(what: Checked) -> list[str]:
    off = what.sheet.get("length_off", 0.0)
    return [f"not of unit length ({off:.2f} off)"] if what.meaning.kind is Kind.NORMAL and off > OFF else []
