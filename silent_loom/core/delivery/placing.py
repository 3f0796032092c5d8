"""A folder of finished files: made out of sight, named together at the end, and what an ended run left is recognised."""

from __future__ import annotations

import errno
import hashlib
import json
import os
import shutil
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from importlib import import_module
from pathlib import Path

from silent_loom.core.base.errors import LoomError, refusal
from silent_loom.core.files.place import place

MANIFEST = "manifest.json"


def sha256(path: Path) -> str:
    with path.open("rb") as stream:
        return hashlib.file_digest(stream, "sha256").hexdigest()


def check_folder(folder: Path, force: bool) -> dict[str, str]:
    """Make sure that nothing of the artist's will be touched; files that may be replaced, by name.

    Raises
    ------
    LoomError
        The folder holds something and ``force`` is False, or it is a file.
    """
    try:
        if folder.exists() and not folder.is_dir():
            raise LoomError("this is a file, not a folder", str(folder), "Name a folder.")
        if not folder.exists():
            above = next(p for p in folder.absolute().parents if p.exists())
            if not os.access(above, os.W_OK | os.X_OK):
                raise refusal(PermissionError(errno.EACCES, "", str(above)))
            return {}
        if not os.access(folder, os.W_OK | os.X_OK):
            raise refusal(PermissionError(errno.EACCES, "", str(folder)))
        left = unfinished(folder)
        rest = [p.name for p in folder.iterdir() if p.name not in left and not p.name.startswith(PART)]
    except OSError as error:
        raise refusal(error, str(folder)) from None
    if not rest:
        return left
    if not force:
        raise LoomError("the folder is not empty", str(folder), "Choose another, or use --force to write beside what is there.")
    return {**ours(folder), **left}


PART = ".part-"
"""How the hidden folder begins in which files are made; a run that was ended leaves it."""


def unfinished(folder: Path) -> dict[str, str]:
    """Files that a run gave their names before it was ended, by name: its hidden folder still holds the list of them.

    Hidden folders of runs that were ended are removed; one of a run that is still going on is locked, and left alone.
    """
    found: dict[str, str] = {}
    for hidden in folder.glob(f"{PART}*"):
        with lock(hidden) as mine:
            if not mine:
                continue
            listed = _listed(hidden)
            found.update({n: d for n, d in listed.items() if (folder / n).is_file() and sha256(folder / n) == d})
            if not any((folder / n).is_file() for n in listed):
                shutil.rmtree(hidden, ignore_errors=True)
    return found


@contextmanager
def lock(hidden: Path) -> Iterator[bool]:
    """Hold a hidden folder while files are made in it; False where somebody else does."""
    if os.name != "posix":
        yield True
        return
    fcntl = import_module("fcntl")
    handle = os.open(hidden, os.O_RDONLY)
    try:
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            yield False
            return
        yield True
    finally:
        os.close(handle)


def _listed(folder: Path) -> dict[str, str]:
    """Names and hashes that the manifest in a folder lists; nothing where there is none that can be read."""
    path = folder / MANIFEST
    try:
        files = {str(f["file"]): str(f["sha256"]) for f in json.loads(path.read_text("utf-8"))["files"]}
        return {**{n: d for n, d in files.items() if Path(n).name == n and n not in ("", ".", "..")}, MANIFEST: sha256(path)}
    except (OSError, ValueError, KeyError, TypeError):
        return {}


def ours(folder: Path) -> dict[str, str]:
    """Files that an earlier manifest in the folder lists and that are still as they were written."""
    return {n: d for n, d in _listed(folder).items() if (folder / n).is_file() and sha256(folder / n) == d}


def check_targets(folder: Path, targets: Sequence[str], replaceable: Mapping[str, str]) -> None:
    for target in targets:
        path = folder / target
        if path.exists() and (target not in replaceable or sha256(path) != replaceable[target]):
            raise LoomError(
                "a file of this name is there and is not from an earlier delivery as it was written",
                target,
                "Move it, or choose another folder.",
            )


@contextmanager
def gathered(folder: Path, replaceable: Mapping[str, str]) -> Iterator[Path]:
    """A hidden folder to make files in; at the end of the block they get their names together, the manifest last.

    Whatever goes wrong before, nothing is left half written; whoever is ended in between leaves a list of what is his.

    Raises
    ------
    LoomError
        A file of the artist's is in the way, or the folder cannot be written.
    """
    fresh = not folder.exists()
    try:
        folder.mkdir(parents=True, exist_ok=True)
        before = list(folder.glob(f"{PART}*"))  # of runs that were ended: their lists are needed until all is in its place
        hidden = Path(tempfile.mkdtemp(prefix=PART, dir=folder))
    except OSError as error:
        raise refusal(error, str(folder)) from None
    with lock(hidden):
        try:
            yield hidden
            targets = sorted((p.name for p in hidden.iterdir()), key=lambda n: n == MANIFEST)
            check_targets(folder, targets, replaceable)
            for target in targets:
                place(hidden / target, folder / target, replace=target in replaceable, keep=target == MANIFEST)
            for left in before:
                with lock(left) as mine:
                    if mine:
                        shutil.rmtree(left, ignore_errors=True)
        except FileExistsError as error:
            raise LoomError("a file of this name appeared meanwhile", str(error), "Choose another folder.") from None
        except OSError as error:
            raise refusal(error, str(folder)) from None
        finally:
            shutil.rmtree(hidden, ignore_errors=True)
            if fresh and folder.is_dir() and not any(folder.iterdir()):
                folder.rmdir()
