"""Put a finished file in its place: whole or not at all, and never over another."""

from __future__ import annotations

import os
import shutil
from contextlib import suppress
from pathlib import Path


def drop(partial: str | Path) -> None:
    """Remove an unfinished file, if it is still there."""
    with suppress(FileNotFoundError):
        os.unlink(partial)


def place(partial: str | Path, path: Path, *, replace: bool = False, keep: bool = False) -> None:
    """Give a finished file its name; with ``keep`` it stays under its old one, too.

    Raises
    ------
    FileExistsError
        When the name is taken and ``replace`` is False; the finished file then stays where it is.
    """
    os.chmod(partial, 0o644)
    if keep:
        copy = Path(f"{partial}.copy")
        shutil.copyfile(partial, copy)
        partial = copy
    if replace:
        os.replace(partial, path)
        return
    try:
        os.link(partial, path)  # fails, and does not overwrite, when the name is taken meanwhile
    except FileExistsError:
        raise
    except OSError:  # a disk without hard links
        if path.exists():
            raise FileExistsError(str(path)) from None
        os.rename(partial, path)
        return
    os.unlink(partial)
