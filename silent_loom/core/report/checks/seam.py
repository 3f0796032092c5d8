"""A join that shows, or has lost its contrast."""

from __future__ import annotations

from silent_loom.core.report.check import Checked

PLACE = 3
"""Where it comes among the checks."""

BLURRED = 0.9
"""Part of local contrast that is left at a join, below which it is said."""

SAYS = "Along its edges the repeat shows: lines that break off, or a blurred strip. Another method, or more overlap, may hide it."
"""What it means."""


def found(what: Checked) -> list[str]:
    """What is odd, in a few words each; nothing where all is well.

    >>> import numpy as np
    >>> from silent_loom.core.base.images import Image, Kind
    >>> from silent_loom.core.weave.threads import spec
    >>> image = Image(np.full((32, 32, 3), 0.5, np.float32), Kind.COLOUR)
    >>> found(Checked(image, spec("base"), {"seam_x_after": 2.4}))
    ['seam 2.4, visible above 1']
    """
    if what.meaning.name != "base":
        return []
    said = []
    worst = max(what.sheet.get("seam_x_after", 0), what.sheet.get("seam_y_after", 0))
    if worst > 1:
        said.append(f"seam {worst:.1f}, visible above 1")
    kept = min(what.sheet.get("contrast_x_after", 1), what.sheet.get("contrast_y_after", 1))
    if what.image.wraps and kept < BLURRED:
        said.append(f"{100 * kept:.0f} % of its contrast at the join")
    return said
