"""Edges that do not meet."""

from __future__ import annotations

from silent_loom.core.report.check import Checked, Mend

PLACE = 5
"""Where it comes among the checks."""

SAYS = "Its edges do not meet: repeated, it shows a line at every join."
"""What it means."""


def found(what: Checked) -> list[str]:
    return [] if what.image.wraps else ["not seamless"]


def mend(what: Checked) -> Mend:
    """Close it by a cut."""
    return Mend("Make it seamless", "seamless", {"method": "cut"})
