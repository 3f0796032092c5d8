"""What was done to a delivered file afterwards, told by the file itself: its tag, its format, its size, its bits."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from silent_loom.core.files.formats import WORDS, by_content
from silent_loom.core.files.tags import colour_tag

_BITS = {"8": 8, "16": 16, "half": 32, "float": 32}


@dataclass(frozen=True)
class Remade:
    """What a file shows of what was done to it.

    Attributes
    ----------
    tag : str
        In what way its colour tag is wrong, in words: samples may be right, and a receiver still reads them wrongly.
    saved : str
        Format, size or bits that it was saved again with, in words.
    """

    tag: str = ""
    saved: str = ""


def remade(path: Path, entry: Mapping[str, Any], size: tuple[int, int], bits: int) -> Remade:
    """Hold a file against its line of the manifest.

    Parameters
    ----------
    path : path
    entry : mapping
        The line: see `package.manifest.Listed`.
    size : tuple of int
        Texels across and down, as the file has them now.
    bits : int
        Bits a sample now: 8, 16 or 32.
    """
    with path.open("rb") as stream:
        now = by_content(stream.read(32)) or str(entry.get("format", ""))
    words = []
    if now != entry.get("format"):
        lossy = ", which does not keep every code" if now == "jpeg" else ""
        words.append(f"it was saved again as {WORDS.get(now, now)}{lossy}")
    meant = [int(v) for v in entry.get("size") or size]
    if list(size) != meant:
        words.append(f"it was scaled from {meant[0]} × {meant[1]} to {size[0]} × {size[1]}")
    wanted = _BITS.get(str(entry.get("bits")), bits)
    if bits < wanted and now != "jpeg":
        words.append(f"it was saved again with {bits} bits instead of {wanted}")
    return Remade(_tag(path, str(entry.get("colour", ""))), "; ".join(words))


def _tag(path: Path, colour: str) -> str:
    found = colour_tag(path)
    if colour == "data" and found in ("srgb", "profile"):
        kind = "sRGB" if found == "srgb" else "a colour profile"
        return f"its file is tagged as colour ({kind}): whoever goes by tags reads data as colour"
    if colour == "sRGB" and found == "linear":
        return "its file is tagged as linear: whoever goes by tags reads colour as data"
    return ""
