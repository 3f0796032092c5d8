"""The shell around a light mesh that rays start from, and how far it stands off."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.form.model import Model
from silent_loom.core.form.normals import averaged
from silent_loom.core.form.rays.scene import Scene

REACH = 0.08
"""How far from the light mesh the dense one is looked for, as a share of the diagonal …"""
SPARE, LEAST = 1.25, 0.002
"""… and how much further than the furthest that is found rays start; at least that share of the diagonal."""
SAMPLES = 60_000
SPLIT_DEG = 180.0
"""Edges at which the shell would open. It stays closed: what opens leaves strips that no ray crosses."""


@dataclass(frozen=True)
class Cage:
    """The shell.

    Attributes
    ----------
    direction : float64 array, shape (T, 3, 3)
        Which way it lies from each corner, unit length, the same at corners in one place.
    front_mm, back_mm : float
        How far outside rays start, and how far inside they end.
    """

    direction: NDArray[np.float64]
    front_mm: float
    back_mm: float


def directions(model: Model) -> NDArray[np.float64]:
    """Directions of a closed shell: at every place the average of the faces round it, whatever is sharp there.

    >>> from silent_loom.core.form.model import Table
    >>> at = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0.0]])
    >>> zero = np.zeros(1, np.int32)
    >>> directions(Model(Table(at, np.array([[0, 1, 2]], np.int32)), zero, zero))[0, 0].tolist()
    [0.0, 0.0, 1.0]
    """
    return averaged(model, SPLIT_DEG)


def fitted(model: Model, dense: Scene, distance_mm: float = 0.0, task: Task = IDLE) -> Cage:
    """A cage that holds a dense mesh.

    Parameters
    ----------
    model : Model
        The light one.
    dense : Scene
    distance_mm : float
        How far it stands off on both sides; found by itself if 0.

    Notes
    -----
    Rays from places all over the light mesh go both ways; the nearer of what they meet tells how far the dense one lies there.
    The furthest of nearly all of them, and a quarter more, is how far the cage stands off.

    >>> from silent_loom.core.form.model import plate
    >>> fitted(plate(), Scene(plate().corners + [0, 0, 5.0]), task=IDLE).front_mm.__round__(2)
    6.25
    """
    toward = directions(model)
    if distance_mm > 0:
        return Cage(toward, distance_mm, distance_mm)
    rng = np.random.default_rng(1)
    areas = model.areas_mm2
    weights = areas / max(float(areas.sum()), 1e-300)
    picked = rng.choice(len(model), SAMPLES, p=weights)
    share = rng.dirichlet((0.7, 0.7, 0.7), SAMPLES)[..., None]  # more of them at the corners, where most is missed
    at = (model.corners[picked] * share).sum(1)
    way = (toward[picked] * share).sum(1)
    way /= np.maximum(np.linalg.norm(way, axis=1, keepdims=True), 1e-12)
    reach = np.full(SAMPLES, REACH * max(dense.reach, 1e-9))
    lift = 1e-6 * dense.reach
    out = dense.hits(at - lift * way, way, reach, task).distance
    back = dense.hits(at + lift * way, -way, reach, task).distance
    outward, inward = out <= back, back < out
    least = LEAST * dense.reach

    def furthest(distances: NDArray[np.float32], counted: NDArray[np.bool_]) -> float:
        near = distances[counted & np.isfinite(distances)]
        return max(least, SPARE * float(np.quantile(near, 0.9995))) if len(near) else least

    return Cage(toward, furthest(out, outward), furthest(back, inward))
