"""Folders and zips of files: what may come out of them, and what is refused."""

from __future__ import annotations

import stat
import zipfile
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from silent_loom.core.base.errors import FileError
from silent_loom.core.files import formats
from silent_loom.core.opening.own import MANIFEST, MOST

SUFFIXES = frozenset(s for known in formats.SUFFIXES.values() for s in known)


@dataclass(frozen=True)
class ZipLimits:
    """Bounds on what a zip may hold.

    Attributes
    ----------
    files : int
        Entries at all.
    total_bytes : int
        Of all files unpacked.
    ratio : float
        Unpacked over packed, for files beyond a megabyte: pictures are packed already.
    """

    files: int = 2000
    total_bytes: int = 4 << 30
    ratio: float = 200.0


def pictures_in(folder: Path) -> list[Path]:
    """Pictures in a folder and below it, links left out, in the order of their names.

    Raises
    ------
    FileError
        It is no folder, or holds no picture.
    """
    if not folder.is_dir():
        raise FileError("this is not a folder", str(folder), "Name a folder, a zip or a file.")
    found = sorted(p for p in folder.rglob("*") if p.suffix.lower() in SUFFIXES and p.is_file() and not p.is_symlink())
    if not found:
        raise FileError("there is no picture in it", str(folder), f"Pictures end in {', '.join(sorted(SUFFIXES))}.")
    return found


def unpack(path: Path, to: Path, limits: ZipLimits | None = None) -> list[Path]:
    """Unpack the pictures of a zip, each under its own name, into a folder.

    Nothing is written outside the folder: names are reduced to their last part, entries that climb, are absolute, or are
    links refuse the whole zip. Sizes are bounded while unpacking, whatever the directory claims.

    Raises
    ------
    FileError
        It is no zip, is damaged, holds no picture, or tries something.
    """
    bounds = limits or ZipLimits()
    try:
        archive = zipfile.ZipFile(path)
    except (zipfile.BadZipFile, OSError, ValueError) as error:
        raise FileError("this zip cannot be read", path.name, "It may be damaged: get it again.") from error
    with archive:
        entries = archive.infolist()
        if len(entries) > bounds.files:
            raise FileError(f"this zip holds {len(entries)} entries", path.name, f"At most {bounds.files} are taken.")
        total, small, small_packed = 0, 0, 0
        chosen = []
        for entry in entries:
            name = entry.filename.replace("\\", "/")
            parts = PurePosixPath(name).parts
            mode = entry.external_attr >> 16
            if name.startswith("/") or ".." in parts or (parts and ":" in parts[0]):
                raise FileError("this zip tries to write outside its folder", f"{path.name}: {entry.filename}", "Do not use it.")
            if stat.S_ISLNK(mode):
                raise FileError("this zip holds a link", f"{path.name}: {entry.filename}", "Pack the files themselves.")
            if entry.flag_bits & 1:
                raise FileError("this zip is locked by a password", path.name, "Unpack it first.")
            called = PurePosixPath(name).name
            if entry.is_dir() or called.startswith("."):
                continue
            if PurePosixPath(name).suffix.lower() not in SUFFIXES and not (called == MANIFEST and entry.file_size <= MOST):
                continue
            if entry.file_size > (1 << 20) and entry.file_size > bounds.ratio * max(entry.compress_size, 1):
                raise FileError("this zip unpacks to far more than it holds", f"{path.name}: {entry.filename}", "Do not use it.")
            if entry.file_size <= 1 << 20:  # a thousand small files of zeros are as bad as a large one
                small, small_packed = small + entry.file_size, small_packed + entry.compress_size
                if small > (16 << 20) and small > bounds.ratio * max(small_packed, 1):
                    raise FileError("this zip unpacks to far more than it holds", path.name, "Do not use it.")
            total += entry.file_size
            if total > bounds.total_bytes:
                raise FileError("this zip unpacks to too much", path.name, f"At most {bounds.total_bytes >> 20} MiB are taken.")
            chosen.append(entry)
        if not any(PurePosixPath(e.filename).name != MANIFEST for e in chosen):
            raise FileError("there is no picture in this zip", path.name, "Pack the maps themselves.")
        to.mkdir(parents=True, exist_ok=True)
        out: list[Path] = []
        for entry in chosen:
            target = _free(to, PurePosixPath(entry.filename.replace("\\", "/")).name)
            try:
                with archive.open(entry) as source, target.open("xb") as sink:
                    left = entry.file_size
                    while chunk := source.read(1 << 20):
                        left -= len(chunk)
                        if left < 0:
                            raise FileError("this zip lies about its sizes", f"{path.name}: {entry.filename}", "Do not use it.")
                        sink.write(chunk)
            except (zipfile.BadZipFile, NotImplementedError, EOFError, OSError, ValueError) as error:
                raise FileError("a file in this zip is damaged", f"{path.name}: {entry.filename}", "Get it again.") from error
            out.append(target)
    return out


def short_name(name: str, otherwise: str = "file") -> str:
    """A name that a file can have: not too long for a disk, no step up, no halves of characters.

    >>> short_name("a" * 300 + ".png")[-8:], short_name("deck.png")
    ('aaaa.png', 'deck.png')
    """
    plain = "".join(c for c in name.encode("utf-8", "replace").decode("utf-8") if c.isprintable() and c != "/")
    if plain in ("", ".", ".."):
        return otherwise
    stem, dot, suffix = plain.rpartition(".")
    if not dot or len(suffix) > 8:
        stem, dot, suffix = plain, "", ""
    while len(stem.encode()) > 120:
        stem = stem[: max(1, len(stem) * 3 // 4)]
    return f"{stem}{dot}{suffix}"


def _free(folder: Path, name: str) -> Path:
    name = short_name(name)
    target, n = folder / name, 2
    while target.exists():
        target = folder / f"{Path(name).stem}_{n}{Path(name).suffix}"
        n += 1
    return target
