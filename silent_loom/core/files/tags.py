"""What files say of their colour."""

from __future__ import annotations

import struct
import warnings
from functools import cache
from pathlib import Path

from PIL import Image as Pillow
from PIL import ImageCms

from silent_loom.core.files.chunks import png_chunks

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


def colour_tag(path: Path) -> str:
    """What a file says of its colour, in its header alone: 'srgb', 'profile' (of its own), 'linear', or '' where it says nothing.

    Chunks of PNG after its 3rd edition (11.3.2); embedded profiles of JPEG, TIFF and WebP. Other formats say nothing here.
    """
    chunks = png_chunks(path)
    if chunks:
        return _png_tag(chunks)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            with Pillow.open(path, formats=["JPEG", "TIFF", "WEBP"]) as image:
                profile = image.info.get("icc_profile")
    except (OSError, SyntaxError, ValueError, struct.error, Pillow.DecompressionBombError):
        return ""
    return "" if not profile else "srgb" if b"sRGB" in profile or profile == srgb_profile() else "profile"


def _png_tag(chunks: dict[bytes, bytes]) -> str:
    if b"sRGB" in chunks:
        return "srgb"
    if {b"iCCP", b"cICP"} & chunks.keys():
        return "profile"
    body = chunks.get(b"gAMA", b"")
    if len(body) < 4:
        return ""
    gamma = struct.unpack(">I", body[:4])[0]
    return "srgb" if abs(gamma - 45455) < 400 else "linear" if abs(gamma - 100000) < 400 else "profile"
