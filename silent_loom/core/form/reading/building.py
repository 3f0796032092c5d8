"""What readers have in common: bounds, and a model out of what they found."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.errors import FileError
from silent_loom.core.form.model import Model, Slot, Table, Up, guessed_unit

MOST_TRIANGLES = 5_000_000
MOST_BYTES = 2 << 30
MOST_NAMES = 10_000
"""Meshes and materials of a model at most."""
AGAIN = "Export it again from where it was made."


def bytes_of(path: Path, called: str) -> bytes:
    """A file whole.

    Raises
    ------
    FileError
        It cannot be read, is empty, or is larger than any model that is taken.
    """
    try:
        size = path.stat().st_size
        body = path.read_bytes() if 0 < size <= MOST_BYTES and path.is_file() else b""
    except OSError as error:
        raise FileError(f"the model cannot be read ({error.strerror})", called, "Check the path.") from None
    if size > MOST_BYTES:
        raise FileError(f"the model has {size >> 20} MB", called, f"Use one of at most {MOST_BYTES >> 20} MB.")
    if not body:
        raise FileError("the model is empty", called, AGAIN)
    return body


@dataclass
class Piece:
    """Triangles with tables of their own.

    Attributes
    ----------
    meshes : sequence of str
        Names of the meshes that they are of, mostly one.
    mesh_of : int array, shape (T,)
        Which of those each triangle is of.
    positions : float64 array, shape (N, 3)
    triangles : int array, shape (T, 3)
    slots : int array, shape (T,)
    uvs, uv_index, normals, colours
        Tables of corners beside the positions, each with its index; where a corner has none, its index is −1.
    """

    meshes: Sequence[str]
    mesh_of: NDArray[Any]
    positions: NDArray[Any]
    triangles: NDArray[Any]
    slots: NDArray[Any]
    uvs: Mapping[str, tuple[NDArray[Any], NDArray[Any]]] = field(default_factory=dict)
    normals: tuple[NDArray[Any], NDArray[Any]] | None = None
    colours: tuple[NDArray[Any], NDArray[Any]] | None = None


def built(pieces: Sequence[Piece], slots: Sequence[Slot], called: str, *, form: str, up: Up = "y", unit_mm: float = 0.0) -> Model:
    """One model out of pieces.

    Parameters
    ----------
    unit_mm : float
        What the format says; 0 where it says nothing and the size has to tell.

    Raises
    ------
    FileError
        There is no surface, too much of it, a corner that is not there, or one at no place.

    >>> at, faces = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0.0]]), np.array([[0, 1, 2]])
    >>> len(built([Piece(["hull"], np.zeros(1, int), at, faces, np.zeros(1, int))], [], "hull.obj", form="obj"))
    1
    """
    count = sum(len(p.triangles) for p in pieces)
    if not count:
        raise FileError("there is no surface in this model", called, "Export its faces, too.")
    if count > MOST_TRIANGLES:
        raise FileError(f"the model has {count:,} triangles", called, f"Use one of at most {MOST_TRIANGLES:,}.")
    for p in pieces:
        _check(p.triangles, len(p.positions), called)
        for table in (*p.uvs.values(), p.normals, p.colours):
            if table is not None and len(table[1]):
                _check(table[1], len(table[0]), called, least=-1)
    positions = _joined([(p.positions, p.triangles) for p in pieces], 3, np.float64)
    used = positions.values[np.unique(positions.index)]
    if not np.isfinite(used).all() or np.abs(used).max() > 1e12:
        raise FileError("the model has corners at no place (not a number, or without end)", called, AGAIN)
    names = tuple(dict.fromkeys(name for p in pieces for name in p.meshes))
    if len(names) > MOST_NAMES or len(slots) > MOST_NAMES:
        raise FileError(f"the model has more than {MOST_NAMES:,} meshes or materials", called, "Join some of them.")
    of = {name: k for k, name in enumerate(names)}
    sets = tuple(dict.fromkeys(name for p in pieces for name in p.uvs))
    extent = float((used.max(0) - used.min(0)).max())
    return Model(
        positions,
        np.concatenate([np.array([of[name] for name in p.meshes], np.int32)[p.mesh_of] for p in pieces]),
        np.concatenate([np.asarray(p.slots, np.int32) for p in pieces]),
        names,
        tuple(slots) or (Slot("material"),),
        {name: _joined([p.uvs.get(name, _nothing(p)) for p in pieces], 2, np.float64) for name in sets},
        _optional([p.normals for p in pieces], pieces, 3),
        _optional([p.colours for p in pieces], pieces, 4),
        unit_mm or guessed_unit(extent),
        unit_mm > 0,
        up,
        form,
    )


def _check(index: NDArray[Any], count: int, called: str, least: int = 0) -> None:
    if len(index) and (index.min() < least or index.max() >= count):
        raise FileError("a face of the model names a corner that is not there", called, AGAIN)


def _nothing(piece: Piece) -> tuple[NDArray[Any], NDArray[Any]]:
    return np.zeros((0, 1)), np.full((len(piece.triangles), 3), -1)


def _optional(tables: Sequence[tuple[NDArray[Any], NDArray[Any]] | None], pieces: Sequence[Piece], width: int) -> Table | None:
    if all(t is None for t in tables):
        return None
    found = [t if t is not None else _nothing(p) for t, p in zip(tables, pieces, strict=True)]
    return _joined(found, width, np.float32)


def _joined(tables: Sequence[tuple[NDArray[Any], NDArray[Any]]], width: int, kind: Any) -> Table:
    """Tables one after the other; the last row is that of corners that have none, and is not a number."""
    lacks = any(len(i) and i.min() < 0 for _, i in tables)
    first, values, index = 0, [], []
    count = sum(len(v) for v, _ in tables)
    for v, i in tables:
        values.append(np.asarray(v, kind).reshape(len(v), -1)[:, :width] if len(v) else np.zeros((0, width), kind))
        index.append(np.where(i < 0, count, i + first).astype(np.int32))
        first += len(v)
    if lacks:
        values.append(np.full((1, width), np.nan, kind))
    return Table(np.concatenate(values), np.concatenate(index).reshape(-1, 3))
