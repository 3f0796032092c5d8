"""Triangles that rays are cast against, through Embree."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.lazy_modules import later
from silent_loom.core.base.parallel import IDLE, WORKERS, Task, over_rows

embree = later("embreex.rtcore_scene")
meshes = later("embreex.mesh_construction")
LOT = 1 << 18
"""Rays between two looks at whether anybody still wants them."""


@dataclass(frozen=True)
class Hits:
    """What rays met first.

    Attributes
    ----------
    triangle : int32 array, shape (N,)
        −1 where a ray met nothing.
    weights : float32 array, shape (N, 2)
        Shares of the second and of the third corner of the triangle, at the place where it was met.
    distance : float32 array, shape (N,)
        Along the ray, in millimetres; infinite where it met nothing.
    """

    triangle: NDArray[np.int32]
    weights: NDArray[np.float32]
    distance: NDArray[np.float32]


class Scene:
    """Triangles in a tree of boxes.

    Parameters
    ----------
    corners : float array, shape (T, 3, 3)
        In millimetres.

    Notes
    -----
    Embree (Wald et al. 2014) works in single precision: places are taken from the middle of the model, so that one that stands
    far from the origin loses nothing.
    """

    def __init__(self, corners: NDArray[np.float64]) -> None:
        flat = corners.reshape(-1, 3)
        self.middle = (flat.min(0) + flat.max(0)) / 2
        self.reach = float(np.linalg.norm(flat.max(0) - flat.min(0)))
        """Length of its diagonal in millimetres."""
        self._scene = embree.EmbreeScene()
        self._mesh = meshes.TriangleMesh(self._scene, np.ascontiguousarray(corners - self.middle, np.float32))

    def hits(
        self,
        origins: NDArray[np.float64],
        directions: NDArray[np.float64],
        most: NDArray[np.float64] | None = None,
        task: Task = IDLE,
    ) -> Hits:
        """The first triangle along each ray.

        Parameters
        ----------
        origins, directions : float arrays, shape (N, 3)
            Directions have unit length.
        most : float array, shape (N,), optional
            How far each ray goes.

        >>> s = Scene(np.array([[[0, 0, 0], [1, 0, 0], [0, 1, 0.0]]]))
        >>> h = s.hits(np.array([[0.2, 0.2, 5.0]]), np.array([[0, 0, -1.0]]))
        >>> int(h.triangle[0]), float(h.distance[0])
        (0, 5.0)
        """
        n = len(origins)
        triangle = np.full(n, -1, np.int32)
        weights = np.zeros((n, 2), np.float32)
        distance = np.full(n, np.inf, np.float32)

        def work(first: int, last: int) -> None:
            part = slice(first, last)
            o = np.ascontiguousarray(origins[part] - self.middle, np.float32)
            d = np.ascontiguousarray(directions[part], np.float32)
            far = None if most is None else np.ascontiguousarray(most[part], np.float32)
            told = self._scene.run(o, d, far, output=1)
            met = told["primID"] >= 0
            triangle[part] = told["primID"]
            weights[part, 0], weights[part, 1] = np.where(met, told["u"], 0), np.where(met, told["v"], 0)
            distance[part] = np.where(met, told["tfar"], np.inf)

        over_rows(n, work, task, least=4096, cost=64 * 30 * WORKERS / LOT)
        return Hits(triangle, weights, distance)

    def hidden(
        self, origins: NDArray[np.float32], directions: NDArray[np.float32], most: NDArray[np.float32] | None = None
    ) -> NDArray[np.bool_]:
        """Whether each ray meets anything, shape (N,). Origins are from `middle`.

        >>> s = Scene(np.array([[[0, 0, 0], [1, 0, 0], [0, 1, 0.0]]]))
        >>> o = (np.array([[0.2, 0.2, 5.0], [3, 3, 5.0]]) - s.middle).astype(np.float32)
        >>> s.hidden(o, np.array([[0, 0, -1], [0, 0, -1]], np.float32)).tolist()
        [True, False]
        """
        found: NDArray[np.bool_] = self._scene.run(origins, directions, most, query="OCCLUDED") >= 0
        return found

    def distances(self, origins: NDArray[np.float32], directions: NDArray[np.float32]) -> NDArray[np.float32]:
        """How far each ray goes until it meets something, shape (N,); 1e30 and more where it meets nothing.

        >>> s = Scene(np.array([[[0, 0, 0], [1, 0, 0], [0, 1, 0.0]]]))
        >>> o = (np.array([[0.2, 0.2, 5.0]]) - s.middle).astype(np.float32)
        >>> s.distances(o, np.array([[0, 0, -1]], np.float32)).tolist()
        [5.0]
        """
        found: NDArray[np.float32] = self._scene.run(origins, directions, query="DISTANCE")
        return found
