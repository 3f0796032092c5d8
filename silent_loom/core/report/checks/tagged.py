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
    """What is odd, in a few words each; nothing where all is well.

    >>> import numpy as np
    >>> from silent_loom.core.base.images import Image, Kind
    >>> from silent_loom.core.weave.threads import spec
    >>> image = Image(np.full((32, 32, 1), 0.5, np.float32), Kind.DATA)
    >>> found(Checked(image, spec("roughness"), {"tag": "srgb"}))
    ['tagged as colour (sRGB)']
    """
    tag = what.sheet.get("tag", "")
    if what.meaning.kind is not Kind.COLOUR and tag == "srgb":
        return ["tagged as colour (sRGB)"]
    return ["tagged as linear"] if what.meaning.name == "base" and tag == "linear" else []
