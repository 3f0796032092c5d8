"""Edges that do not meet."""

from __future__ import annotations

from silent_loom.core.report.check import Checked, Mend
from silent_loom.core.weave import registry

PLACE = 5
"""Where it comes among the checks."""

SAYS = "Its edges do not meet: repeated, it shows a line at every join."
"""What it means."""


def found(what: Checked) -> list[str]:
    """What is odd, in a few words each; nothing where all is well.

    >>> import numpy as np
    >>> from silent_loom.core.base.images import Image, Kind
    >>> from silent_loom.core.weave.threads import spec
    >>> image = Image(np.full((32, 32, 1), 0.5, np.float32), Kind.DATA)
    >>> found(Checked(image, spec("roughness")))
    ['not seamless']
    """
    return [] if what.image.wraps or what.sheet.get("on_model") else ["not seamless"]


def mend(what: Checked) -> Mend:
    """Close it by a cut.

    >>> import numpy as np
    >>> from silent_loom.core.base.images import Image, Kind
    >>> from silent_loom.core.weave.threads import spec
    >>> image = Image(np.full((32, 32, 1), 0.5, np.float32), Kind.DATA)
    >>> mend(Checked(image, spec("roughness"))).settings
    {'method': 'cut'}
    """
    return Mend("Make it seamless", registry.able("close"), {"method": "cut"})
