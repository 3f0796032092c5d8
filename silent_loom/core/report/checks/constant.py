"""A map of one value."""

from __future__ import annotations

from silent_loom.core.report.check import Checked

PLACE = 0
"""Where it comes among the checks."""

SAYS = "Every texel has the same value. That may be right, as for a surface without metal; a number in the material does as well."
"""What it means."""


def found(what: Checked) -> list[str]:
    """What is odd, in a few words each; nothing where all is well.

    >>> import numpy as np
    >>> from silent_loom.core.base.images import Image, Kind
    >>> from silent_loom.core.weave.threads import spec
    >>> image = Image(np.full((32, 32, 1), 0.5, np.float32), Kind.DATA)
    >>> found(Checked(image, spec("roughness")))
    ['constant 0.5']
    """
    if not what.constant:
        return []
    value = what.image.pixels.reshape(-1, what.image.pixels.shape[2])[0]
    return ["constant " + " ".join(f"{v:.2f}".rstrip("0").rstrip(".") for v in value)]
