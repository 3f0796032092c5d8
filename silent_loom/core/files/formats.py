"""Which format a file has, told from its first bytes, and which names go with it."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from silent_loom.core.base.errors import FileError

Depth = Literal["8", "16", "half", "float"]
"""Bits a sample, or the kind of float."""


@dataclass(frozen=True)
class Format:
    """An image format.

    Attributes
    ----------
    title : str
    suffixes : tuple of str
        Endings of its files, the usual one first.
    depths : tuple of str
        What is written of it; nothing where it is only read. `writing` has a file for each that is written.
    """

    title: str
    suffixes: tuple[str, ...]
    depths: tuple[Depth, ...] = ()


FORMATS = {
    "png": Format("PNG", (".png",), ("8", "16")),
    "jpeg": Format("JPEG", (".jpg", ".jpeg", ".jpe", ".jfif"), ("8",)),
    "targa": Format("TGA", (".tga",), ("8",)),
    "tiff": Format("TIFF", (".tif", ".tiff"), ("8", "16", "float")),
    "bmp": Format("BMP", (".bmp", ".dib"), ("8",)),
    "webp": Format("WebP", (".webp",), ("8",)),
    "openexr": Format("EXR", (".exr",), ("half", "float")),
    "hdr": Format("HDR", (".hdr", ".rgbe")),
}
"""Every format that is read or written."""
SUFFIXES = {name: f.suffixes for name, f in FORMATS.items()}
WORDS = {name: f.title for name, f in FORMATS.items()}
DEPTHS = {name: f.depths for name, f in FORMATS.items() if f.depths}
READABLE = " and ".join(", ".join(WORDS.values()).rsplit(", ", 1))


def _looks_like_targa(head: bytes) -> bool:
    return (
        len(head) >= 18
        and head[1] in (0, 1)
        and head[2] in (1, 2, 3, 9, 10, 11)
        and head[16] in (8, 15, 16, 24, 32)
        and head[12] + head[13] > 0
        and head[14] + head[15] > 0
    )


def by_content(head: bytes) -> str | None:
    """Format of a file that starts with ``head`` (at least 18 bytes), or None; TGA has no mark and is never told.

    >>> by_content(bytes.fromhex("89504e470d0a1a0a") + bytes(10)), by_content(bytes(18))
    ('png', None)
    """
    if head.startswith(b"\x89PNG\r\n\x1a\n"):
        return "png"
    if head.startswith(b"\xff\xd8\xff"):
        return "jpeg"
    if head[:4] in (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+"):
        return "tiff"
    if head.startswith(b"BM") and len(head) >= 18 and head[6:10] == b"\0\0\0\0":
        return "bmp"
    if head.startswith(b"RIFF") and head[8:12] == b"WEBP":
        return "webp"
    if head.startswith(b"\x76\x2f\x31\x01"):
        return "openexr"
    if head.startswith((b"#?RADIANCE", b"#?RGBE")):
        return "hdr"
    return None


def by_name(name: str) -> str | None:
    """Format that the name of a file claims, or None when it claims none of ours.

    >>> by_name("deck.JPG"), by_name("deck.txt")
    ('jpeg', None)
    """
    suffix = Path(name).suffix.lower()
    return next((fmt for fmt, suffixes in SUFFIXES.items() if suffix in suffixes), None)


def identify(path: Path, name: str, fmt: str | None = None) -> str:
    """Format of a file, from its content, held against its name.

    Raises
    ------
    FileError
        Empty, not an image, or an image of another format than its name says.
    """
    try:
        with path.open("rb") as stream:
            head = stream.read(32)
    except FileNotFoundError:
        raise FileError("there is no such file", name, "Check the path.") from None
    except (OSError, ValueError) as error:
        raise FileError(f"cannot be opened ({type(error).__name__})", name, "Check the path and its rights.") from None
    if not head:
        raise FileError("the file is empty", name, "Save or copy it again from its source.")
    claimed, found = fmt or by_name(name), by_content(head)
    if found is None and claimed in ("targa", None) and _looks_like_targa(head) and (claimed or not Path(name).suffix):
        found = "targa"
    if found is None:
        what = f"this is not a {WORDS[claimed]} file, though its name says so" if claimed else "this is not an image"
        raise FileError(what, name, f"Silent Loom reads {READABLE}.")
    if claimed not in (None, found):
        right = SUFFIXES[found][0]
        raise FileError(
            f"this is a {WORDS[found]} file, though its name says {WORDS[claimed or found]}",
            name,
            f"Rename it to end in {right}.",
        )
    return found
