"""Which delivered material each material of a model gets, and what it is called there."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from silent_loom.core.base.errors import FileError, LoomError
from silent_loom.core.delivery.names import file_name
from silent_loom.core.delivery.open.surface import Surface, surface_of
from silent_loom.core.delivery.unpacking import manifest_of
from silent_loom.core.form.model import Model


@dataclass(frozen=True)
class Dress:
    """A delivered material on a material slot.

    Attributes
    ----------
    name : str
        What the slot is called in the files that are written.
    surface : Surface
    folder : path
        Where its pictures lie.
    """

    name: str
    surface: Surface
    folder: Path

    def read(self, file: str) -> bytes:
        """The bytes of one of its pictures."""
        return (self.folder / file).read_bytes()


@dataclass(frozen=True)
class Mismatch:
    """A slot that is called otherwise than the files it gets.

    Attributes
    ----------
    slot, stem : str
    """

    slot: str
    stem: str

    @property
    def words(self) -> str:
        case = " They differ in case alone." if self.slot.lower() == self.stem.lower() else ""
        return f"The material of the model is called {self.slot}, its files {self.stem}.{case}"


def delivered(folder: Path) -> tuple[Surface, str]:
    """The surface in a delivered folder, and the stem of its files.

    Raises
    ------
    FileError
        It has no manifest.
    """
    manifest = manifest_of(folder)
    if manifest is None:
        raise FileError(
            "this folder is no delivery: it has no manifest", folder.name, "Name one that bake, deliver or lay wrote."
        )
    surface = surface_of(manifest)
    return surface, file_name(str(manifest["name"]))


def dressed(model: Model, folders: Mapping[str, Path], *, rename: bool = False) -> tuple[dict[int, Dress], list[Mismatch]]:
    """Delivered materials by the slots that they go on, and what does not match.

    Parameters
    ----------
    model : Model
    folders : mapping of str to path
        By names of slots; '' for all that are not named.
    rename : bool
        Slots take the stems of their files, numbered where several would have the same.

    Raises
    ------
    LoomError
        A slot is not there, or nothing is put on.
    """
    names = [s.name for s in model.slots]
    unknown = [n for n in folders if n and n not in names]
    if unknown:
        alike = [n for n in names if n.lower() == unknown[0].lower()]
        todo = f"It is called {alike[0]}: case counts." if alike else f"It has {', '.join(names[:20])}."
        raise LoomError(f"the model has no material {unknown[0]!r}", "", todo)
    found: dict[int, Dress] = {}
    mismatches = []
    stems: list[str] = []
    known = {folder: delivered(folder) for folder in dict.fromkeys(folders.values())}
    for k, name in enumerate(names):
        folder = folders.get(name, folders.get(""))
        if folder is None:
            continue
        surface, stem = known[folder]
        found[k] = Dress(name, surface, folder)
        stems.append(stem)
        if name != stem:
            mismatches.append(Mismatch(name, stem))
    if not found:
        raise LoomError("no material is put on the model", "", "Name a delivered folder.")
    if rename:
        called = numbered(stems)
        found = {k: Dress(called[i], d.surface, d.folder) for i, (k, d) in enumerate(found.items())}
        mismatches = []
    return found, mismatches


def pictures(dresses: Mapping[int, Dress]) -> dict[str, bytes]:
    """The pictures of all materials, by file name.

    Raises
    ------
    FileError
        Two materials have different ones of one name.

    >>> pictures({})
    {}
    """
    found: dict[str, bytes] = {}
    for dress in dresses.values():
        for file in dict.fromkeys(s.file for s in dress.surface.slots.values()):
            if found.setdefault(file, body := dress.read(file)) != body:
                raise FileError(
                    "two materials have different files of this name", file, "Deliver one of them under another name."
                )
    return found


def numbered(stems: Sequence[str]) -> list[str]:
    """Names, those that come several times with a number from 1.

    >>> numbered(["hull", "rope", "hull"])
    ['hull_1', 'rope', 'hull_2']
    """
    count: dict[str, int] = {}
    out = []
    for stem in stems:
        if stems.count(stem) == 1:
            out.append(stem)
            continue
        count[stem] = count.get(stem, 0) + 1
        out.append(f"{stem}_{count[stem]}")
    return out
