"""Models as a screen takes them: corners with everything that shading needs, and triangles of them."""

from __future__ import annotations

import struct
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.form.model import Model, turned_up
from silent_loom.core.form.normals import corner_normals, face_normals
from silent_loom.core.form.reading.table import read_model
from silent_loom.core.form.welding import welded

SMOOTH_DEG = 180.0
"""Where a file gives no normals, edges that turn by more are sharp: for looking on, none is."""


@dataclass(frozen=True)
class Mesh:
    """Triangles with everything that shading needs.

    Attributes
    ----------
    positions : float32 array, shape (N, 3)
        In the units of the file; y is up.
    normals : float32 array, shape (N, 3)
        Unit length.
    uv : float32 array, shape (N, 2)
        u to the right, v up.
    triangles : uint32 array, shape (M, 3)
    own_uv : bool
        The file says how textures lie; else they were laid from the sides, a unit of the file a repeat.
    """

    positions: NDArray[np.float32]
    normals: NDArray[np.float32]
    uv: NDArray[np.float32]
    triangles: NDArray[np.uint32]
    own_uv: bool

    def packed(self) -> bytes:
        """Little-endian: corners and triangles (uint32), then positions, normals, uv (float32) and triangles (uint32)."""
        head = struct.pack("<II", len(self.positions), len(self.triangles))
        parts = (self.positions, self.normals, self.uv)
        return head + b"".join(p.astype("<f4").tobytes() for p in parts) + self.triangles.astype("<u4").tobytes()


def read_mesh(path: Path, name: str = "") -> Mesh:
    """The triangles of a file.

    Raises
    ------
    FileError
        It is no such file, is damaged, or has nothing to show.

    >>> import tempfile
    >>> folder = tempfile.TemporaryDirectory()
    >>> path = Path(folder.name) / "one.obj"
    >>> _ = path.write_text("v 0 0 0\\nv 1 0 0\\nv 0 1 0\\nf 1 2 3\\n")
    >>> read_mesh(path).uv.tolist()
    [[0.0, 0.0], [1.0, 0.0], [0.0, 1.0]]
    """
    return shown(read_model(path, name))


def shown(model: Model) -> Mesh:
    """A model for the screen: corners that have everything in common are one.

    >>> from silent_loom.core.form.model import Table
    >>> zero = np.zeros(1, np.int32)
    >>> one = Table(np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0.0]]), np.array([[0, 1, 2]], np.int32))
    >>> len(shown(Model(one, zero, zero)).packed())
    116
    """
    places = turned_up(model.positions.values.astype(np.float64), model.up)[model.positions.index]
    normals = corner_normals(model, SMOOTH_DEG)
    own = bool(model.uvs) and bool(np.isfinite(model.uv().values[np.unique(model.uv().index)]).all())
    uv = model.uv().at_corners() if own else _from_the_sides(places)
    rows = np.concatenate([places, normals, uv], -1).astype(np.float32).reshape(-1, 8)
    first, number = welded(rows)
    order = np.argsort(first)  # in the order in which triangles name them
    rank = np.empty(len(first), np.int64)
    rank[order] = np.arange(len(first))
    kept = rows[first[order]]
    triangles = rank[number].reshape(-1, 3).astype(np.uint32)
    return Mesh(kept[:, :3].copy(), kept[:, 3:6].copy(), kept[:, 6:].copy(), triangles, own)


def _from_the_sides(places: NDArray[np.float64]) -> NDArray[np.float64]:
    """UVs of corners from the axis that each face looks along most, shape (T, 3, 2)."""
    axis = np.abs(face_normals(places)).argmax(1)[:, None]
    x, y, z = (places[..., k] for k in range(3))
    return np.stack([np.where(axis == 0, -z, x), np.where(axis == 1, -z, y)], -1)
