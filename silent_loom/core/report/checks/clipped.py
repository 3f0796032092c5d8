"""Values that a file cannot hold."""

from __future__ import annotations

from silent_loom.core.report.check import Checked, Mend
from silent_loom.core.screen.display import shown
from silent_loom.core.weave import registry

PLACE = 1
"""Where it comes among the checks."""

SAYS = "Some of it lies outside of what a file can hold, and is cut there: detail is lost in the lightest or darkest parts."
"""What it means."""


def found(what: Checked) -> list[str]:
    """What is odd, in a few words each; nothing where all is well.

    >>> import numpy as np
    >>> from silent_loom.core.base.images import Image, Kind
    >>> from silent_loom.core.weave.threads import spec
    >>> image = Image(20 * np.random.default_rng(1).random((32, 32, 1), np.float32), Kind.DATA)
    >>> found(Checked(image, spec("height")))
    ['clipped 76.2 %']
    """
    if what.constant or not what.meaning.read_of:
        return []
    seen = shown(what.image, what.meaning)
    cut = float(((seen < -1e-3) | (seen > 1.001)).mean())
    return [f"clipped {100 * cut:.1f} %"] if cut > 0.001 else []


def mend(what: Checked) -> Mend | None:
    """A height by its contrast; other maps by bringing their range within black and white.

    >>> import numpy as np
    >>> from silent_loom.core.base.images import Image, Kind
    >>> from silent_loom.core.weave.threads import spec
    >>> image = Image(2 * np.random.default_rng(1).random((32, 32, 1), np.float32) - np.float32(0.5), Kind.DATA)
    >>> mend(Checked(image, spec("roughness"))).settings["thread"]
    'roughness'
    """
    if what.meaning.unit:
        return Mend("Take the contrast back", registry.able("depth"), {"contrast": 0.0})
    low, high = float(what.image.pixels.min()), float(what.image.pixels.max())
    levels = {"thread": what.meaning.name, "black": max(-1.0, min(0.0, low)), "white": min(4.0, max(1.0, high))}
    return Mend("Bring all of it within", registry.able("tone"), levels, adds=True, anew=True)
