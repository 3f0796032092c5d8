"""A height of too few levels: stairs where slopes should be."""

from __future__ import annotations

import numpy as np

from silent_loom.core.maps.stairs import step_of
from silent_loom.core.report.check import Checked, Mend
from silent_loom.core.weave import registry

PLACE = 7
"""Where it comes among the checks."""

SAYS = "It has so few different levels that slopes come out as stairs, which light shows. Its file may hold 8 bits only."
"""What it means."""

FEW = 300
"""Levels below which stairs may show: 8 bits hold 256."""


def found(what: Checked) -> list[str]:
    """What is odd, in a few words each; nothing where all is well.

    >>> import numpy as np
    >>> from silent_loom.core.base.images import Image, Kind
    >>> from silent_loom.core.weave.threads import spec
    >>> image = Image(np.arange(1024, dtype=np.float32).reshape(32, 32, 1) // 64, Kind.DATA)
    >>> found(Checked(image, spec("height")))
    ['terraced: 16 levels']
    """
    if not (what.meaning.unit and what.meaning.read_of) or what.constant or what.image.pixels.shape[2] != 1:
        return []
    levels = what.sheet.get("levels") or len(np.unique(np.round(what.image.pixels / what.meaning.depth, 5)))
    return [f"terraced: {levels} levels"] if levels < min(FEW, what.image.pixels.size // 8) else []


def mend(what: Checked) -> Mend:
    """The step between its levels told, and smoothed by no more than half of it.

    >>> import numpy as np
    >>> from silent_loom.core.base.images import Image, Kind
    >>> from silent_loom.core.weave.threads import spec
    >>> image = Image(np.arange(1024, dtype=np.float32).reshape(32, 32, 1) // 64, Kind.DATA)
    >>> mend(Checked(image, spec("height"))).settings["levels"]
    11
    """
    step = step_of(what.image.pixels[..., 0])
    levels = round(what.meaning.depth / step) + 1 if step > 0 else 256
    settings = {"thread": what.meaning.name, "levels": int(min(65536, max(4, levels)))}
    return Mend("Smooth the stairs", registry.able("unstep"), settings, adds=True)
