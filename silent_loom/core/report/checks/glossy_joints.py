"""Joints that shine because they are pale."""

from __future__ import annotations

import numpy as np

from silent_loom.core.report.check import Checked, Mend
from silent_loom.core.weave import registry

PLACE = 10
"""Where it comes among the checks."""

SAYS = "Joints are of sand and lime, rough whatever their colour; here they are smoother than what they lie between."
"""What it means."""


def found(what: Checked) -> list[str]:
    """What is odd, in a few words each; nothing where all is well.

    >>> import numpy as np
    >>> from silent_loom.core.base.images import Image, Kind
    >>> from silent_loom.core.weave.threads import spec
    >>> joint = Image(np.zeros((32, 32, 1), np.float32), Kind.DATA)
    >>> joint.pixels[:, 10:14] = 1
    >>> image = Image(0.8 - 0.5 * joint.pixels, Kind.DATA)
    >>> found(Checked(image, spec("roughness"), {"joint": joint}))
    ['joints glossier (0.30) than the rest (0.80)']
    """
    joint = what.sheet.get("joint")
    if what.meaning.name != "roughness" or what.constant or joint is None or joint.pixels.shape != what.image.pixels.shape:
        return []
    inside = joint.pixels > 0.6
    if not 0.005 < inside.mean() < 0.6:
        return []
    here, there = float(np.median(what.image.pixels[inside])), float(np.median(what.image.pixels[~inside]))
    return [f"joints glossier ({here:.2f}) than the rest ({there:.2f})"] if here < there - 0.02 else []


def mend(what: Checked) -> Mend:
    """Joints of their own roughness.

    >>> import numpy as np
    >>> from silent_loom.core.base.images import Image, Kind
    >>> from silent_loom.core.weave.threads import spec
    >>> image = Image(np.full((32, 32, 1), 0.5, np.float32), Kind.DATA)
    >>> mend(Checked(image, spec("roughness"))).settings
    {'rough': True}
    """
    return Mend("Make the joints rough", registry.able("joints"), {"rough": True}, adds=True)
