"""Metal by halves: a surface is bare metal, or is not."""

from __future__ import annotations

from silent_loom.core.report.check import Checked, Mend
from silent_loom.core.weave import registry

PLACE = 4
"""Where it comes among the checks."""

SAYS = "A surface is bare metal, or is none: values between are dirt or a wrong guess. Is any of it bare metal? If not, it is 0."
"""What it means."""


def found(what: Checked) -> list[str]:
    """What is odd, in a few words each; nothing where all is well.

    >>> import numpy as np
    >>> from silent_loom.core.base.images import Image, Kind
    >>> from silent_loom.core.weave.threads import spec
    >>> image = Image(np.random.default_rng(1).random((32, 32, 1), np.float32), Kind.DATA)
    >>> found(Checked(image, spec("metallic")))
    ['60 % half metal']
    """
    if what.meaning.name != "metallic" or what.constant:
        return []
    half = float(((what.image.pixels > 0.2) & (what.image.pixels < 0.8)).mean())
    return [f"{100 * half:.0f} % half metal"] if half > 0.25 else []


def mend(what: Checked) -> Mend:
    """None of it is metal, unless somebody says so.

    >>> import numpy as np
    >>> from silent_loom.core.base.images import Image, Kind
    >>> from silent_loom.core.weave.threads import spec
    >>> image = Image(np.random.default_rng(1).random((32, 32, 1), np.float32), Kind.DATA)
    >>> mend(Checked(image, spec("metallic"))).settings
    {'mode': 'constant', 'value': 0.0}
    """
    return Mend("None of it is bare metal", registry.able("metal"), {"mode": "constant", "value": 0.0})
