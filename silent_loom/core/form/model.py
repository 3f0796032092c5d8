"""What a model is: triangles whose corners have places, UVs, normals and colours, in meshes and with materials."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.errors import LoomError

Up = Literal["y", "z"]
Corners = NDArray[np.int32]
"""Shape (T, 3): for each corner of each triangle, a row of a table."""


@dataclass(frozen=True)
class Table:
    """Values of corners.

    Attributes
    ----------
    values : float array, shape (N, K)
    index : int32 array, shape (T, 3)
        Which row each corner of each triangle has.

    >>> t = Table(np.array([[0.0], [10.0]]), np.array([[0, 1, 1]], np.int32))
    >>> t.at_corners().tolist()
    [[[0.0], [10.0], [10.0]]]
    """

    values: NDArray[Any]
    index: Corners

    def at_corners(self) -> NDArray[Any]:
        """Shape (T, 3, K)."""
        taken: NDArray[Any] = self.values[self.index]
        return taken

    def of(self, triangles: NDArray[Any]) -> Table:
        """The same values at some of the triangles."""
        return Table(self.values, self.index[triangles])


@dataclass(frozen=True)
class Slot:
    """A material of a model, as its file names it.

    Attributes
    ----------
    name : str
    textures : mapping
        What a texture is for ('base', 'normal', 'roughness' …) and the file or the picture in the file that it names.
    colour : tuple of float
        Linear base colour where there is no texture.
    """

    name: str
    textures: Mapping[str, str] = field(default_factory=dict)
    colour: tuple[float, float, float] = (0.5, 0.5, 0.5)


@dataclass(frozen=True)
class Model:
    """Triangles in the places where their file puts them.

    Attributes
    ----------
    positions : Table, K = 3, float64
        In units of the file.
    triangle_mesh, triangle_slot : int32 arrays, shape (T,)
        Which of `meshes` and `slots` each triangle belongs to.
    uvs : mapping of str to Table, K = 2, float64
        UV sets by name, u to the right, v up. A corner without UVs has NaN.
    normals : Table or None, K = 3, float32
        As the file gives them, unit length.
    colours : Table or None, K = 4, float32
        Vertex colours, linear red, green and blue with alpha.
    unit_mm : float
        Millimetres in a unit of the file.
    unit_told : bool
        The format or the file says the unit; else it was guessed from the size.
    up : 'y' or 'z'
        Which axis of the file points up.
    format : str
    """

    positions: Table
    triangle_mesh: NDArray[np.int32]
    triangle_slot: NDArray[np.int32]
    meshes: tuple[str, ...] = ("mesh",)
    slots: tuple[Slot, ...] = (Slot("material"),)
    uvs: Mapping[str, Table] = field(default_factory=dict)
    normals: Table | None = None
    colours: Table | None = None
    unit_mm: float = 1000.0
    unit_told: bool = True
    up: Up = "y"
    format: str = ""

    def __len__(self) -> int:
        return len(self.positions.index)

    @cached_property
    def placed(self) -> NDArray[np.float64]:
        """Places of all positions in millimetres with y up, shape (N, 3)."""
        at = self.positions.values.astype(np.float64) * self.unit_mm
        return turned_up(at, self.up)

    @cached_property
    def corners(self) -> NDArray[np.float64]:
        """Places of the corners in millimetres with y up, shape (T, 3, 3)."""
        out: NDArray[np.float64] = self.placed[self.positions.index]
        return out

    @cached_property
    def size_mm(self) -> tuple[float, float, float]:
        """Extent along x, y (up) and z, in millimetres."""
        used = self.corners.reshape(-1, 3)
        low, high = used.min(0), used.max(0)
        x, y, z = (float(v) for v in high - low)
        return x, y, z

    @cached_property
    def areas_mm2(self) -> NDArray[np.float64]:
        """Areas of the triangles in square millimetres, shape (T,)."""
        a, b, c = (self.corners[:, k] for k in range(3))
        area: NDArray[np.float64] = 0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1)
        return area

    def uv(self, name: str = "") -> Table:
        """A UV set by name; the first where none is named.

        Raises
        ------
        LoomError
            There is none.
        """
        if not self.uvs:
            raise LoomError("this model has no UVs", "", "Unwrap it first: silent-loom model unwrap.")
        if not name:
            return next(iter(self.uvs.values()))
        if name not in self.uvs:
            raise LoomError(f"there is no UV set {name!r}", "", f"It has {', '.join(self.uvs)}.")
        return self.uvs[name]

    def of(self, triangles: NDArray[Any]) -> Model:
        """Some of its triangles, by a mask or by their numbers; tables are kept whole."""
        return replace(
            self,
            positions=self.positions.of(triangles),
            triangle_mesh=self.triangle_mesh[triangles],
            triangle_slot=self.triangle_slot[triangles],
            uvs={k: t.of(triangles) for k, t in self.uvs.items()},
            normals=self.normals and self.normals.of(triangles),
            colours=self.colours and self.colours.of(triangles),
        )


def plate(side: float = 1.0) -> Model:
    """A square in the plane of the screen, laid out as it is: two triangles, for examples.

    >>> len(plate()), plate().size_mm
    (2, (1000.0, 1000.0, 0.0))
    """
    at = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0.0]]) * side
    index, zero = np.array([[0, 1, 2], [0, 2, 3]], np.int32), np.zeros(2, np.int32)
    return Model(Table(at, index), zero, zero, uvs={"UV": Table(at[:, :2] / side, index)})


def turned_up(vectors: NDArray[np.float64], up: Up) -> NDArray[np.float64]:
    """Vectors of a file as they are with y up.

    >>> turned_up(np.array([[1.0, 2.0, 3.0]]), "z").tolist()
    [[1.0, 3.0, -2.0]]
    """
    return vectors if up == "y" else vectors[..., [0, 2, 1]] * np.array([1.0, 1.0, -1.0])


def with_first(model: Model, uv: str) -> Model:
    """A model with one of its UV sets before the others; as it is where none is named.

    >>> list(with_first(plate(), "UV").uvs)
    ['UV']
    """
    if not uv:
        return model
    return replace(model, uvs={uv: model.uv(uv), **{k: t for k, t in model.uvs.items() if k != uv}})


def lowest(corners: NDArray[Any]) -> NDArray[Any]:
    """The least of the three corners of each triangle, shape (T, …) of (T, 3, …): many times as fast as ``min(1)``.

    >>> lowest(np.array([[3, 1, 2]])).tolist()
    [1]
    """
    found: NDArray[Any] = np.minimum(np.minimum(corners[:, 0], corners[:, 1]), corners[:, 2])
    return found


def highest(corners: NDArray[Any]) -> NDArray[Any]:
    """The largest of the three corners of each triangle, shape (T, …) of (T, 3, …).

    >>> highest(np.array([[3, 1, 2]])).tolist()
    [3]
    """
    found: NDArray[Any] = np.maximum(np.maximum(corners[:, 0], corners[:, 1]), corners[:, 2])
    return found


GUESSES = ((40.0, 1000.0), (4000.0, 10.0), (np.inf, 1.0))
"""Up to which extent in units of the file they are taken for metres, for centimetres, and else for millimetres."""


def guessed_unit(extent: float) -> float:
    """Millimetres in a unit of a file that does not say: people model in metres, in centimetres or in millimetres.

    >>> [guessed_unit(e) for e in (1.8, 180, 18000)]
    [1000.0, 10.0, 1.0]
    """
    return next(mm for most, mm in GUESSES if extent <= most)
