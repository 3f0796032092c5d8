"""What a new material is called, from its file, its folder or what its photo shows."""

from __future__ import annotations

import re
from pathlib import PurePath

from silent_loom.core.base.parallel import IDLE
from silent_loom.core.files.picture import Picture
from silent_loom.core.report.finding import seen
from silent_loom.core.report.likeness import likeness
from silent_loom.core.ways.prepare import everything_is_there

PLAIN = re.compile(
    r"^(photo|image|img|dsc[nf]?|pxl|scan|picture|pasted|untitled|unnamed|p|foto)?[ _-]*(\d{4,8}[ _-]*)*\d*(\s*\(\d+\))?$", re.I
)
"""Names that cameras and clipboards give, which say nothing of what is shown."""


def says_nothing(stem: str) -> bool:
    """Whether a file's name says nothing of what it shows.

    >>> [says_nothing(n) for n in ("IMG_2041", "photo", "DSC00012 (2)", "keepers slate")]
    [True, True, True, False]
    """
    return PLAIN.match(stem.strip()) is not None


def name_of(file: str, picture: Picture) -> str:
    """The name of a material begun from a photo: that of its file, or what the photo shows where the file's says nothing.

    >>> import numpy as np
    >>> from silent_loom.core.files.profile import SRGB
    >>> grey = Picture(np.full((64, 64, 3), 120, np.uint8), None, SRGB, 8, "png")
    >>> name_of("quay_wall.jpg", grey), name_of("IMG_0007.jpg", grey)
    ('Quay wall', 'Grey even surface')
    """
    stem = PurePath(file).stem
    if says_nothing(stem):  # looking needs kernels, which nobody waits for on a first start
        return likeness(seen(picture, None, IDLE).image) if everything_is_there() else "Photo"
    return stem.replace("_", " ").strip().capitalize() or "Material"
