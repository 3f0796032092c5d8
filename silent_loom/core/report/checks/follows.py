"""Metal that follows the brightness of the picture: a guess, not a measurement."""

from __future__ import annotations

import numpy as np

from silent_loom.core.base.colour import luminance
from silent_loom.core.report.check import Checked
from silent_loom.core.report.checks.half_metal import mend as mend

PLACE = 6
"""Where it comes among the checks."""

SAYS = (
    "Much of it lies between metal and none, or it rises and falls with the brightness of the base colour, as if a grey "
    "picture had been taken for it. Is any of it bare metal? If not, it is 0."
)
"""What it means."""

ALIKE = 0.8
"""Correlation with brightness from which on that is said."""
BETWEEN = 0.35
"""Share between 0.1 and 0.9 from which on it is said to lie broadly between."""


def found(what: Checked) -> list[str]:
    """What is odd, in a few words each; nothing where all is well.

    >>> import numpy as np
    >>> from silent_loom.core.base.images import Image, Kind
    >>> from silent_loom.core.weave.threads import spec
    >>> image = Image(np.random.default_rng(1).random((32, 32, 1), np.float32), Kind.DATA)
    >>> found(Checked(image, spec("metallic")))
    []
    """
    if what.meaning.name != "metallic" or what.constant:
        return []
    plane = what.image.pixels[..., 0]
    said = []
    between = float(((plane > 0.1) & (plane < 0.9)).mean())
    half = float(((plane > 0.2) & (plane < 0.8)).mean())
    if between > BETWEEN and half <= 0.25:  # else another check says it
        said.append(f"{100 * between:.0f} % neither metal nor none")
    base = what.sheet.get("base")
    if base is not None and base.pixels.shape[:2] == plane.shape:
        light = luminance(base.pixels)
        if light.std() > 1e-4 and abs(float(np.corrcoef(light.ravel(), plane.ravel())[0, 1])) > ALIKE:
            said.append("follows the brightness of base")
    return said
