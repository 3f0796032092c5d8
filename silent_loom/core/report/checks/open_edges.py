"""Edges that do not meet."""

from __future__ import annotations

from silent_loom.core.report.check import Checked

PLACE = 5
"""Where it comes among the checks."""


def found(what: Checked) -> list[str]:
    return [] if what.image.wraps else ["not seamless"]
