"""Formats that a general image library writes."""

from __future__ import annotations

from typing import Any

import numpy as np
import OpenImageIO as oiio
from numpy.typing import NDArray

from silent_loom.core.base.lazy_modules import later
from silent_loom.core.files.writing.how import How

_tags = later("silent_loom.core.files.tags")
KINDS = {"8": "uint8", "16": "uint16", "half": "half", "float": "float"}
"""What the library calls each depth."""


def engine_write(path: str, values: NDArray[Any], how: How, about: dict[str, Any]) -> None:
    """Write values with these attributes.

    Raises
    ------
    ValueError
        The library could not; in its words.
    """
    out = oiio.ImageOutput.create(how.fmt)
    if out is None:
        raise ValueError(oiio.geterror())
    spec = oiio.ImageSpec(values.shape[1], values.shape[0], values.shape[2], KINDS[how.depth])
    if values.shape[2] in (2, 4):
        spec.alpha_channel = values.shape[2] - 1
        spec.channelnames = ("Y", "A") if values.shape[2] == 2 else ("R", "G", "B", "A")
    elif values.shape[2] == 1:
        spec.channelnames = ("Y",)
    for key, value in about.items():
        if isinstance(value, bytes):
            spec.attribute(key, oiio.TypeDesc(f"uint8[{len(value)}]"), np.frombuffer(value, np.uint8))
        elif isinstance(value, tuple):
            spec.attribute(key, oiio.TypeDesc(f"float[{len(value)}]"), value)
        else:
            spec.attribute(key, value)
    try:
        if not out.open(path, spec) or not out.write_image(np.ascontiguousarray(values)):
            raise ValueError(out.geterror())
    finally:
        if not out.close():
            raise ValueError(out.geterror())


def plain_about(how: How) -> dict[str, Any]:
    """Alpha stays apart from colour, and coded colour says which.

    >>> plain_about(How("bmp", "8", True, 90, False, 0))
    {'oiio:UnassociatedAlpha': 1}
    """
    about: dict[str, Any] = {"oiio:UnassociatedAlpha": 1}
    if how.colour and how.fmt in ("jpeg", "tiff") and how.depth != "float":
        about["ICCProfile"] = _tags.srgb_profile()
    return about
