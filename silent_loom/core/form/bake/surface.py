"""The samples of a layout, and what of a dense mesh lies over each of them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.form.bake.cage import Cage
from silent_loom.core.form.bake.dense import Source, between
from silent_loom.core.form.model import Model
from silent_loom.core.form.normals import corner_normals, unit
from silent_loom.core.form.rays.scene import Scene
from silent_loom.core.form.tangents import frames
from silent_loom.core.form.uv.islands import islands
from silent_loom.core.form.uv.raster import rasterised
from silent_loom.core.form.uv.stretch import stretch

LOT = 1 << 20
"""Samples that are worked on at a time."""
KEPT = 1 << 24
"""Samples up to which what rays met is kept for the next map, instead of cast again."""
FURTHER, TIMES = 2.0, 3
"""How much further rays go that missed, and how often, where the distance was found by itself."""


@dataclass(frozen=True)
class Pair:
    """Triangles of the light mesh, and the dense mesh that belongs to them.

    Attributes
    ----------
    triangles : bool array, shape (T,)
    source : Source
    cage : Cage or None
        None where the mesh is baked onto itself.
    grows : bool
        Rays that missed go further.
    """

    triangles: NDArray[np.bool_]
    source: Source
    cage: Cage | None
    grows: bool = True


@dataclass(frozen=True)
class Band:
    """Samples of some rows.

    Attributes
    ----------
    rows : tuple of int
        Of samples: the first, and the one after the last.
    sample : int array, shape (N,)
        Where each lies in the band, row by row.
    triangle, weights
        Of the light mesh: shape (N,), and shares of the second and the third corner, shape (N, 2).
    pair : int array, shape (N,)
        Which dense mesh belongs to it.
    met, met_weights
        Of that dense mesh; −1 where nothing was met.
    """

    rows: tuple[int, int]
    sample: NDArray[np.int64]
    triangle: NDArray[np.int32]
    weights: NDArray[np.float32]
    pair: NDArray[np.int8]
    met: NDArray[np.int32]
    met_weights: NDArray[np.float32]


class Surface:
    """A light mesh laid out, and dense meshes over it.

    Parameters
    ----------
    model : Model
    uv : str
    size : tuple of int
        Width and height in samples.
    step : int
        Rows of samples that make a row of texels: bands are never cut within one.
    pairs : sequence of Pair
    """

    def __init__(self, model: Model, uv: str, size: tuple[int, int], step: int, pairs: Sequence[Pair]) -> None:
        self.model, self.size, self.step, self.pairs = model, size, step, pairs
        self.uv_name = uv
        self.uv = model.uv(uv).at_corners()
        self._kept: dict[int, Band] = {}
        rows = max(1, LOT // (size[0] * step)) * step
        self.starts = list(range(0, size[1], rows))
        self._rows = rows

    @cached_property
    def normals(self) -> NDArray[np.float32]:
        return corner_normals(self.model).astype(np.float32)

    @cached_property
    def tangents(self) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
        """Tangents of corners and their signs, shapes (T, 3, 3) and (T, 3, 1)."""
        found = frames(self.model.corners, self.normals.astype(np.float64), self.uv)
        return found.tangent.astype(np.float32), found.sign[..., None].astype(np.float32)

    @cached_property
    def unit_mm(self) -> float:
        """Millimetres of the surface to a unit of the UVs, in the middle."""
        return stretch(self.model.corners, self.uv).scale()

    @cached_property
    def hiding(self) -> Scene:
        """Everything that hides something: all dense meshes together."""
        sources = list({id(p.source): p.source for p in self.pairs}.values())
        return sources[0].scene if len(sources) == 1 else Scene(np.concatenate([s.corners for s in sources]))

    @cached_property
    def island(self) -> NDArray[np.int32]:
        """Which island each triangle is of."""
        return islands(self.model, self.uv_name).of

    def bands(self, task: Task = IDLE) -> Iterator[Band]:
        """Band by band, from the top."""
        few = self.size[0] * self.size[1] <= KEPT
        for k, start in enumerate(self.starts):
            task.checkpoint()
            task.report(k / len(self.starts))
            band = self._kept.get(start) or self._band(start, task)
            if few:
                self._kept[start] = band
            yield band
        task.report(1.0)

    def _band(self, start: int, task: Task) -> Band:
        width, height = self.size
        rows = start, min(height, start + self._rows)
        seen = rasterised(self.uv, width, height, task, rows)
        sample = np.flatnonzero(seen.triangle.ravel() >= 0)
        triangle = seen.triangle.ravel()[sample]
        first = seen.weights.reshape(-1, 2)[sample]
        weights = np.stack([first[:, 1], 1 - first[:, 0] - first[:, 1]], 1)
        pair = np.full(len(sample), -1, np.int8)
        met = np.full(len(sample), -1, np.int32)
        met_weights = np.zeros((len(sample), 2), np.float32)
        for k, one in enumerate(self.pairs):
            mine = np.flatnonzero(one.triangles[triangle])
            pair[mine] = k
            if not len(mine):
                continue
            if one.cage is None:
                met[mine], met_weights[mine] = triangle[mine], weights[mine]
                continue
            met[mine], met_weights[mine] = self._cast(one, triangle[mine], weights[mine], task)
        return Band(rows, sample, triangle, weights, pair, met, met_weights)

    def _cast(
        self, pair: Pair, triangle: NDArray[np.int32], weights: NDArray[np.float32], task: Task
    ) -> tuple[NDArray[np.int32], NDArray[np.float32]]:
        cage = pair.cage
        assert cage is not None
        at = between(self.model.corners, triangle, weights)
        way = unit(between(cage.direction, triangle, weights))
        met = np.full(len(triangle), -1, np.int32)
        met_weights = np.zeros((len(triangle), 2), np.float32)
        front, back = cage.front_mm, cage.back_mm
        left = np.arange(len(triangle))
        for _ in range(1 + (TIMES if pair.grows else 0)):
            far = np.full(len(left), front + back)
            hits = pair.source.scene.hits(at[left] + front * way[left], -way[left], far, task)
            good = hits.triangle >= 0
            met[left[good]], met_weights[left[good]] = hits.triangle[good], hits.weights[good]
            left = left[~good]
            if not len(left):
                break
            front, back = front * FURTHER, back * FURTHER
        return met, met_weights

    def place(self, band: Band) -> NDArray[np.float64]:
        """Where samples lie on the light mesh, in millimetres."""
        return between(self.model.corners, band.triangle, band.weights)

    def normal(self, band: Band) -> NDArray[np.float64]:
        return unit(between(self.normals, band.triangle, band.weights))

    def frame(self, band: Band) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
        """Tangent, bitangent and normal at each sample, as a receiver works them out, shape (N, 3) each."""
        tangents, signs = self.tangents
        n = self.normal(band)
        t = unit(between(tangents, band.triangle, band.weights))
        sign = np.where(between(signs, band.triangle, band.weights) < 0, -1.0, 1.0)
        return t, unit(np.cross(n, t)) * sign, n

    def into_frame(self, band: Band, vectors: NDArray[np.float64]) -> NDArray[np.float64]:
        """Unit vectors as a receiver of a normal map has to find them: x along u, y along v, z out.

        It works out normal · z + tangent · x + bitangent · y from what it interpolates between corners; that is undone exactly,
        although the three are not at right angles between corners.
        """
        t, b, n = self.frame(band)
        # Cramer's rule, with the columns t, b, n
        bn, nt, tb = np.cross(b, n), np.cross(n, t), np.cross(t, b)
        volume = np.einsum("nk,nk->n", t, bn)
        volume = np.where(np.abs(volume) > 1e-9, volume, 1.0)
        out = np.stack([np.einsum("nk,nk->n", vectors, c) / volume for c in (bn, nt, tb)], 1)
        return unit(out)
