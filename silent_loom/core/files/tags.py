"""What files say of their colour."""

from __future__ import annotations

from functools import cache

from PIL import ImageCms

REC_709 = (0.64, 0.33, 0.30, 0.60, 0.15, 0.06, 0.3127, 0.3290)
"""Chromaticities of red, green, blue and white of Rec. ITU-R BT.709, as the header of an EXR holds them."""


@cache
def srgb_profile() -> bytes:
    """An ICC profile of sRGB, the same bytes every day: the date in its header is taken out.

    >>> srgb_profile()[36:40]
    b'acsp'
    """
    raw = bytearray(ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes())
    raw[24:36] = bytes((7, 208, 0, 1, 0, 1)) + bytes(6)  # 1 January 2000
    raw[84:100] = bytes(16)  # a checksum that no longer fits
    return bytes(raw)
