"""What files say of their colour."""

from __future__ import annotations

import struct
import warnings
from functools import cache
from pathlib import Path

from PIL import Image as Pillow
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


def colour_tag(path: Path) -> str:
    """What a file says of its colour, in its header alone: 'srgb', 'profile' (of its own), 'linear', or '' where it says nothing.

    Chunks of PNG after its 3rd edition (11.3.2); embedded profiles of JPEG, TIFF and WebP. Other formats say nothing here.
    """
    with path.open("rb") as stream:
        if stream.read(8) == b"\x89PNG\r\n\x1a\n":
            return _png_tag(stream.read(1 << 16))
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            with Pillow.open(path, formats=["JPEG", "TIFF", "WEBP"]) as image:
                profile = image.info.get("icc_profile")
    except (OSError, SyntaxError, ValueError, struct.error, Pillow.DecompressionBombError):
        return ""
    return "" if not profile else "srgb" if b"sRGB" in profile or profile == srgb_profile() else "profile"


def _png_tag(head: bytes) -> str:
    found, at = "", 0
    while at + 8 <= len(head):
        size, kind = struct.unpack(">I4s", head[at : at + 8])
        if kind in (b"IDAT", b"IEND"):
            break
        if kind == b"sRGB":
            return "srgb"
        if kind in (b"iCCP", b"cICP"):
            found = "profile"
        if kind == b"gAMA" and not found and at + 12 <= len(head):
            gamma = struct.unpack(">I", head[at + 8 : at + 12])[0]
            found = "srgb" if abs(gamma - 45455) < 400 else "linear" if abs(gamma - 100000) < 400 else "profile"
        at += 12 + size
    return found
