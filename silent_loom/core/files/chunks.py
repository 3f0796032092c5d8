"""The chunks of a PNG that lie before its pixels (PNG 3rd edition, 5.3)."""

from __future__ import annotations

import struct
from pathlib import Path

MOST = 1 << 16
"""Bytes of a chunk that are looked at; a colour profile may be longer, and is known by its name."""


def png_chunks(path: Path) -> dict[bytes, bytes]:
    """Names and beginnings of the chunks before the pixels; none where the file is no PNG."""
    found: dict[bytes, bytes] = {}
    with path.open("rb") as stream:
        if stream.read(8) != b"\x89PNG\r\n\x1a\n":
            return found
        while len(head := stream.read(8)) == 8:
            size, kind = struct.unpack(">I4s", head)
            if kind in (b"IDAT", b"IEND"):
                break
            found.setdefault(kind, stream.read(min(size, MOST)))
            stream.seek(max(0, size - MOST) + 4, 1)
    return found
