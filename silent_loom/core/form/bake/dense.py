"""What lies on a dense mesh, at the places that rays meet."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.form.fans import summed
from silent_loom.core.form.model import Model
from silent_loom.core.form.normals import averaged, corner_normals
from silent_loom.core.form.rays.scene import Scene
from silent_loom.core.form.welding import welded

Weights = NDArray[np.float32]


@dataclass(frozen=True)
class Source:
    """One or several meshes as one.

    Attributes
    ----------
    models : sequence of Model
    pictures : mapping of (model, slot) to array, shape (H, W, 3)
        Base colour textures in linear light, where there are any.
    """

    models: Sequence[Model]
    pictures: Mapping[tuple[int, int], Floats]

    @cached_property
    def corners(self) -> NDArray[np.float64]:
        return np.concatenate([m.corners for m in self.models])

    @cached_property
    def scene(self) -> Scene:
        return Scene(self.corners)

    @cached_property
    def normals(self) -> NDArray[np.float32]:
        """Of all corners, shape (T, 3, 3)."""
        return np.concatenate([corner_normals(m) for m in self.models]).astype(np.float32)

    @cached_property
    def first(self) -> NDArray[np.int64]:
        """The first triangle of each model, and how many there are in all."""
        return np.concatenate([[0], np.cumsum([len(m) for m in self.models])])

    @cached_property
    def mesh_names(self) -> list[str]:
        """Names of all meshes, each once; `mesh` gives their numbers."""
        return list(dict.fromkeys(name for m in self.models for name in m.meshes))

    @cached_property
    def slot_names(self) -> list[str]:
        return list(dict.fromkeys(s.name for m in self.models for s in m.slots))

    @cached_property
    def mesh(self) -> NDArray[np.int32]:
        of = {name: k for k, name in enumerate(self.mesh_names)}
        return np.concatenate([np.array([of[n] for n in m.meshes], np.int32)[m.triangle_mesh] for m in self.models])

    @cached_property
    def slot(self) -> NDArray[np.int32]:
        of = {name: k for k, name in enumerate(self.slot_names)}
        return np.concatenate([np.array([of[s.name] for s in m.slots], np.int32)[m.triangle_slot] for m in self.models])

    def place(self, triangle: NDArray[np.int32], weights: Weights) -> NDArray[np.float64]:
        return between(self.corners, triangle, weights)

    def normal(self, triangle: NDArray[np.int32], weights: Weights) -> NDArray[np.float64]:
        """Unit normals, shape (N, 3)."""
        found = between(self.normals, triangle, weights)
        length = np.sqrt(np.einsum("nk,nk->n", found, found))[:, None]
        out: NDArray[np.float64] = found / np.where(length > 1e-12, length, 1.0)
        return out

    @cached_property
    def curvatures(self) -> NDArray[np.float32]:
        """Mean curvature at all corners in 1/mm, above zero where the surface bulges, shape (T, 3, 1)."""
        return np.concatenate([mean_curvature(m) for m in self.models]).astype(np.float32)

    @cached_property
    def painted(self) -> NDArray[np.float32] | None:
        """Vertex colours of all corners, linear, shape (T, 3, 3); white where a model has none, None where none has any."""
        if all(m.colours is None for m in self.models):
            return None
        parts = [
            np.nan_to_num(m.colours.at_corners()[..., :3], nan=1.0)
            if m.colours is not None
            else np.ones((len(m), 3, 3), np.float32)
            for m in self.models
        ]
        return np.concatenate(parts).astype(np.float32)

    def colour(self, triangle: NDArray[np.int32], weights: Weights) -> NDArray[np.float32]:
        """Base colour in linear light, shape (N, 3): the texture's, or the material's."""
        out = np.zeros((len(triangle), 3), np.float32)
        model_of = np.searchsorted(self.first, triangle, "right") - 1
        for k, m in enumerate(self.models):
            mine = np.flatnonzero(model_of == k)
            own = triangle[mine] - self.first[k]
            slots = m.triangle_slot[own]
            uv = between(m.uv().at_corners(), own, weights[mine]) if m.uvs else None
            for s in np.unique(slots):
                here = np.flatnonzero(slots == s)
                picture = self.pictures.get((k, int(s)))
                if picture is None or uv is None:
                    out[mine[here]] = np.array(m.slots[s].colour, np.float32)
                else:
                    out[mine[here]] = sampled(picture, uv[here])
        return out


def between(
    values: NDArray[np.float64] | NDArray[np.float32], triangle: NDArray[np.int32], weights: Weights
) -> NDArray[np.float64]:
    """Values of corners at places in their triangles.

    Parameters
    ----------
    values : float array, shape (T, 3, K)
    triangle : int array, shape (N,)
    weights : float array, shape (N, 2)
        Shares of the second and of the third corner.

    >>> between(np.array([[[0.0], [10.0], [20.0]]]), np.array([0], np.int32), np.array([[0.5, 0.25]], np.float32)).tolist()
    [[10.0]]
    """
    second, third = weights[:, :1].astype(np.float64), weights[:, 1:].astype(np.float64)
    taken = values[triangle]
    out: NDArray[np.float64] = taken[:, 0] * (1 - second - third) + taken[:, 1] * second + taken[:, 2] * third
    return out


def sampled(picture: Floats, uv: NDArray[np.float64]) -> NDArray[np.float32]:
    """A picture at UVs, bilinear, repeated beyond its edges, shape (N, C).

    >>> checker = np.array([[[0.0], [1.0]], [[0.0], [1.0]]], np.float32)
    >>> sampled(checker, np.array([[0.25, 0.5], [0.5, 0.5]])).tolist()
    [[0.0], [0.5]]
    """
    h, w = picture.shape[:2]
    uv = np.nan_to_num(uv)
    x = np.mod(uv[:, 0], 1.0) * w - 0.5
    y = np.mod(1 - uv[:, 1], 1.0) * h - 0.5
    x0, y0 = np.floor(x).astype(np.int64), np.floor(y).astype(np.int64)
    fx, fy = (x - x0)[:, None].astype(np.float32), (y - y0)[:, None].astype(np.float32)
    x1, y1 = (x0 + 1) % w, (y0 + 1) % h
    x0, y0 = x0 % w, y0 % h
    top = picture[y0, x0] * (1 - fx) + picture[y0, x1] * fx
    bottom = picture[y1, x0] * (1 - fx) + picture[y1, x1] * fx
    out: NDArray[np.float32] = top * (1 - fy) + bottom * fy
    return out


def mean_curvature(model: Model) -> NDArray[np.float64]:
    """Mean curvature at all corners in 1/mm, above zero where the surface bulges, shape (T, 3, 1).

    Notes
    -----
    How far normals turn along each edge for its length (Taubin 1995, as an average over the edges round a corner), with
    normals that are smooth across all edges.

    >>> import trimesh
    >>> from silent_loom.core.form.model import Table
    >>> ball = trimesh.creation.icosphere(3, 100.0)
    >>> zero = np.zeros(len(ball.faces), np.int32)
    >>> m = Model(Table(ball.vertices, ball.faces.astype(np.int32)), zero, zero, unit_mm=1.0)
    >>> round(float(mean_curvature(m).mean()), 4)
    0.01
    """
    corners = model.corners
    facing = averaged(model, 180.0)
    place = welded(model.positions.values)[1][model.positions.index]
    total, weight = np.zeros((len(model), 3, 1)), np.zeros((len(model), 3, 1))
    for k in range(3):
        j = (k + 1) % 3
        edge = corners[:, j] - corners[:, k]
        length2 = np.einsum("tk,tk->t", edge, edge)
        turn = np.einsum("tk,tk->t", facing[:, j] - facing[:, k], edge)
        length = np.sqrt(length2)
        bend = np.where(length2 > 0, turn / np.where(length2 > 0, length2, 1), 0.0) * length
        for c in (k, j):
            total[:, c, 0] += bend
            weight[:, c, 0] += length
    both = summed(np.concatenate([total, weight], -1), place)
    out: NDArray[np.float64] = both[..., :1] / np.maximum(both[..., 1:], 1e-300)
    return out
