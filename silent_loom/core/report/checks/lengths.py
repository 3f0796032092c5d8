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
    """What is odd, in a few words each; nothing where all is well.

    >>> import numpy as np
    >>> from silent_loom.core.base.images import Image, Kind
    >>> from silent_loom.core.weave.threads import spec
    >>> image = Image(np.full((32, 32, 3), 0.5, np.float32), Kind.NORMAL)
    >>> found(Checked(image, spec("normal"), {"length_off": 0.13}))
    ['not of unit length (0.13 off)']
    """
    off = what.sheet.get("length_off", 0.0)
    return [f"not of unit length ({off:.2f} off)"] if what.meaning.kind is Kind.NORMAL and off > OFF else []
