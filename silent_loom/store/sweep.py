"""What a process that was ended left unfinished in the data folder, put away at the next start."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path

PART = ".part-"
ADDING = ".adding-"
"""A mark beside the blobs, from before a file gets its name until the database knows of it."""


def sweep(folder: Path, known: Callable[[str], bool]) -> int:
    """Remove unfinished files of a data folder that nobody else uses now.

    Parameters
    ----------
    folder : path
    known : callable
        Whether the database knows a blob. A blob is removed only if it was being added when the process was ended.

    Returns
    -------
    int
        How many files and folders were removed.
    """
    removed = 0
    for place in (folder, folder / "blobs", folder / "pictures", folder / "snapshots", folder / "glances", folder / "deliveries"):
        for left in [*place.glob(f"{PART}*"), *(place.glob(".opened-*") if place == folder else ())]:
            if left.is_dir():
                shutil.rmtree(left, ignore_errors=True)
            else:
                left.unlink(missing_ok=True)
            removed += 1
    for mark in (folder / "blobs").glob(f"{ADDING}*"):
        digest = mark.name.removeprefix(ADDING)
        if not known(digest):
            (folder / "blobs" / digest[:2] / digest).unlink(missing_ok=True)
            removed += 1
        mark.unlink(missing_ok=True)
    return removed
