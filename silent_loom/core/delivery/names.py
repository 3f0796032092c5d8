"""File names that every system takes."""

from __future__ import annotations

import re
import unicodedata

RESERVED = {"con", "prn", "aux", "nul", *(f"com{i}" for i in range(1, 10)), *(f"lpt{i}" for i in range(1, 10))}


def file_name(title: str) -> str:
    """A title as a file name: letters, digits, '-' and '_', at most 60 characters, never empty.

    >>> file_name("Keeper's roof slate")
    'keepers_roof_slate'
    """
    plain = unicodedata.normalize("NFKD", title).encode("ascii", "ignore").decode().lower().replace("'", "")
    name = re.sub(r"[^a-z0-9-]+", "_", plain).strip("_-")[:60].strip("_-")
    return f"{name}_" if name in RESERVED else name or "material"
