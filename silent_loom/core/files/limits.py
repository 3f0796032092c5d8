"""How large a file may be before it is decoded."""

from __future__ import annotations

import os
from dataclasses import dataclass, field

from silent_loom.core.base.errors import FileError


def _from_environment(name: str, otherwise: int) -> int:
    value = os.environ.get(name, "")
    return int(value) if value.isdigit() and int(value) > 0 else otherwise


@dataclass(frozen=True)
class Limits:
    """Bounds that are checked on the header, before any pixel is decoded.

    Attributes
    ----------
    max_pixels : int
        Width times height (environment: ``SILENT_LOOM_MAX_PIXELS``; 200 million unless set).
    max_bytes : int
        Memory of the decoded samples (environment: ``SILENT_LOOM_MAX_BYTES``; 4 GiB unless set).
    max_side : int
        Width or height alone.
    """

    max_pixels: int = field(default_factory=lambda: _from_environment("SILENT_LOOM_MAX_PIXELS", 200_000_000))
    max_bytes: int = field(default_factory=lambda: _from_environment("SILENT_LOOM_MAX_BYTES", 4 << 30))
    max_side: int = 65_535

    def check(self, name: str, width: int, height: int, bytes_per_pixel: int) -> None:
        """Refuse what is too large.

        Raises
        ------
        FileError
            Says the size found, the bound, and how to raise it.
        """
        if width < 1 or height < 1:
            raise FileError("the file says it has no pixels", name, "It is damaged; save it again from its source.")
        if width * height > self.max_pixels or max(width, height) > self.max_side:
            raise FileError(
                f"{width} × {height} pixels is more than the {self.max_pixels:,} that are allowed",
                name,
                "Make it smaller, or raise SILENT_LOOM_MAX_PIXELS.",
            )
        if width * height * bytes_per_pixel > self.max_bytes:
            raise FileError(
                f"{width} × {height} pixels of {bytes_per_pixel} bytes need more memory than is allowed",
                name,
                "Make it smaller, or raise SILENT_LOOM_MAX_BYTES.",
            )
