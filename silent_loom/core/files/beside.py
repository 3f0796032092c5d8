"""Files that a document names beside itself."""

from __future__ import annotations

from pathlib import Path

from silent_loom.core.base.errors import FileError


def safe(folder: Path, uri: str, where: str) -> Path:
    """A file that a document names beside itself.

    Raises
    ------
    FileError
        It lies elsewhere, or is not there.
    """
    from urllib.parse import unquote

    name = unquote(uri)
    path = folder / name
    if (
        name.startswith(("/", "\\"))
        or ":" in name
        or ".." in Path(name).parts
        or not path.resolve().is_relative_to(folder.resolve())
    ):
        raise FileError(
            "it names a file that does not lie beside it", f"{where}: {uri[:120]}", "Put all its files into one folder."
        )
    if not path.is_file():
        path = folder / Path(name).name  # a browser brings files without their folders
    if not path.is_file():
        raise FileError(
            "a file that it needs is missing", f"{where}: {uri[:120]}", "Bring the pictures along, beside the document."
        )
    return path
