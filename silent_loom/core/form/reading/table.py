"""One table of model formats: which file is read by what."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from silent_loom.core.base.errors import FileError, LoomError
from silent_loom.core.form.model import Model, Up
from silent_loom.core.form.reading.gltf import read_gltf
from silent_loom.core.form.reading.obj import read_obj
from silent_loom.core.form.reading.ply_stl import read_ply, read_stl

READERS: dict[str, Callable[[Path, str], Model]] = {
    ".obj": read_obj,
    ".gltf": read_gltf,
    ".glb": read_gltf,
    ".ply": read_ply,
    ".stl": read_stl,
}
FORMATS = frozenset(ending.removeprefix(".") for ending in READERS)
"""Formats of models, as a weave names those of its files."""
HEADS = {b"glTF": ".glb", b"ply\n": ".ply", b"ply\r": ".ply"}
"""How files begin that came under a name without an ending."""
UNITS = {"mm": 1.0, "cm": 10.0, "m": 1000.0, "in": 25.4, "ft": 304.8}


def read_model(path: Path, name: str = "", *, unit: str = "", up: Up | None = None) -> Model:
    """The model in a file.

    Parameters
    ----------
    path : path
        OBJ with its MTL beside it, glTF with its files, GLB, PLY or STL.
    name : str
        What the file is called, where it is kept under another name.
    unit : str
        'mm', 'cm', 'm', 'in' or 'ft': where the format does not say, or says what is not so.
    up : 'y' or 'z', optional

    Raises
    ------
    FileError
        It is no such file, or is damaged.
    LoomError
        There is no such unit.

    >>> import tempfile
    >>> folder = tempfile.TemporaryDirectory()
    >>> path = Path(folder.name) / "one.obj"
    >>> _ = path.write_text("v 0 0 0\\nv 1 0 0\\nv 0 1 0\\nf 1 2 3\\n")
    >>> len(read_model(path)), read_model(path, unit="cm").size_mm
    (1, (10.0, 10.0, 0.0))
    """
    called = name or path.name
    reader = READERS.get(Path(called).suffix.lower()) or READERS.get(path.suffix.lower()) or READERS.get(_looks_like(path))
    if reader is None:
        raise FileError("this is no model that can be read", called, f"Use one of {', '.join(READERS)}.")
    return taken_as(reader(path, called), unit, up or "")


def taken_as(model: Model, unit: str = "", up: str = "") -> Model:
    """A model whose unit and upward axis are what somebody says; what is left empty stays as the file has it.

    Parameters
    ----------
    model : Model
    unit : str
        'mm', 'cm', 'm', 'in', 'ft' or ''.
    up : str
        'y', 'z' or ''.

    Raises
    ------
    LoomError
        There is no such unit or axis.

    >>> import numpy as np
    >>> from silent_loom.core.form.model import Table
    >>> at = Table(np.array([[0.0, 0, 0], [1, 0, 0], [0, 0, 2]]), np.array([[0, 1, 2]], np.int32))
    >>> nothing = np.zeros(1, np.int32)
    >>> [float(v) for v in taken_as(Model(at, nothing, nothing), "cm", "z").size_mm]
    [10.0, 20.0, 0.0]
    """
    known_taking(unit, up)
    if unit:
        model = replace(model, unit_mm=UNITS[unit], unit_told=True)
    return replace(model, up=up) if up else model  # type: ignore[arg-type]


def known_taking(unit: str, up: str) -> None:
    """Refuse a unit or an axis that there is not.

    Raises
    ------
    LoomError
    """
    if unit and unit not in UNITS:
        raise LoomError(f"there is no unit {unit!r}", "", f"Use one of {', '.join(UNITS)}.")
    if up not in ("", "y", "z"):
        raise LoomError(f"there is no axis {up!r} that could point up", "", "Use y or z.")


def _looks_like(path: Path) -> str:
    try:
        with path.open("rb") as stream:
            return HEADS.get(stream.read(4), "")
    except OSError:
        return ""
