"""A file that says the wrong thing about its own numbers."""

from __future__ import annotations

from silent_loom.core.base.images import Kind
from silent_loom.core.report.check import Checked

PLACE = 9
"""Where it comes among the checks."""

SAYS = (
    "The file says that its numbers are colour, and a receiver that believes it bends them; "
    "or it holds colour and says they are not."
)
"""What it means."""


def found(what: Checked) -> list[str]:
    tag = what.sheet.get("tag", "")
    if what.meaning.kind is not Kind.COLOUR and tag == "srgb":
        return ["tagged as colour (sRGB)"]
    return ["tagged as linear"] if what.meaning.name == "base" and tag == "linear" else []
