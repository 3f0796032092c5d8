"""Base colours that no real surface has: dielectrics lie at about sRGB 50 to 240."""

from __future__ import annotations

import numpy as np

from silent_loom.core.files.codes import quantise
from silent_loom.core.report.check import Checked, Mend
from silent_loom.core.weave import registry

PLACE = 2
"""Where it comes among the checks."""

SAYS = (
    "Things that are no metal reflect between about 3 % (sRGB 50) and 90 % (sRGB 240) of the light; "
    "outside of that nothing looks right."
)
"""What it means."""


def found(what: Checked) -> list[str]:
    """What is odd, in a few words each; nothing where all is well.

    >>> import numpy as np
    >>> from silent_loom.core.base.images import Image, Kind
    >>> from silent_loom.core.weave.threads import spec
    >>> image = Image(np.full((32, 32, 3), 0.01, np.float32), Kind.COLOUR)
    >>> found(Checked(image, spec("base")))
    ['darker than real surfaces']
    """
    if what.meaning.name != "base":
        return []
    # Judged by the middle of the picture, not by its extremes
    codes, _ = quantise(what.image.pixels, "8", colour=True)
    low, high = np.percentile(codes.max(2), [10, 90])
    return [*(["darker than real surfaces"] if high < 50 else []), *(["brighter than real surfaces"] if low > 240 else [])]


def mend(what: Checked) -> Mend:
    """As many stops as bring its middle half into the range.

    >>> import numpy as np
    >>> from silent_loom.core.base.images import Image, Kind
    >>> from silent_loom.core.weave.threads import spec
    >>> image = Image(np.full((32, 32, 3), 0.0125, np.float32), Kind.COLOUR)
    >>> mend(Checked(image, spec("base"))).settings
    {'brightness': 2.0}
    """
    middle = float(np.median(what.image.pixels.max(2)))
    wanted = 0.05 if middle < 0.2 else 0.8
    stops = round(float(np.clip(np.log2(wanted / max(middle, 1e-4)), -5, 5)), 2)
    return Mend("Bring it into the range", registry.able("tone"), {"brightness": stops}, adds=True, anew=True)
