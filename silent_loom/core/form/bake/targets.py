"""What can be baked: a row for each map, and how its samples are found."""

from __future__ import annotations

import colorsys
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Kind
from silent_loom.core.base.parallel import Task
from silent_loom.core.base.srgb import decode_srgb
from silent_loom.core.form.bake.dense import Source, between
from silent_loom.core.form.bake.surface import Band, Surface
from silent_loom.core.form.rays.gather import Open, openness, thickness

Samples = NDArray[Any]


@dataclass(frozen=True)
class How:
    """What the costly maps go by.

    Attributes
    ----------
    rays : int
        Of occlusion, bent normal and thickness, for each texel.
    reach_mm : float
        How far away something still hides; 0 for any distance.
    samples : int
        Samples of a texel: rays are shared out among them.
    """

    rays: int = 64
    reach_mm: float = 0.0
    samples: int = 1

    @property
    def each(self) -> int:
        """Rays from each sample."""
        return max(1, round(self.rays / self.samples))


Make = Callable[[Surface, Band, How, Task], Samples]


@dataclass(frozen=True)
class Target:
    """A map that can be baked.

    Attributes
    ----------
    name, title, says : str
    kind : Kind
    unit : str
        What its numbers are; empty for colours and directions.
    make : callable
        Values of the samples of a band that met something, shape (N, C).
    """

    name: str
    title: str
    says: str
    kind: Kind
    make: Make
    unit: str = ""


def _over(
    surface: Surface, band: Band, of: Callable[[Source, NDArray[np.int32], NDArray[np.float32]], Samples], width: int
) -> Samples:
    """Something of the dense mesh that belongs to each sample."""
    out = np.zeros((len(band.met), width))
    for k, pair in enumerate(surface.pairs):
        mine = np.flatnonzero((band.pair == k) & (band.met >= 0))
        if len(mine):
            out[mine] = of(pair.source, band.met[mine], band.met_weights[mine])
    return out


def _normals(surface: Surface, band: Band) -> Samples:
    return _over(surface, band, Source.normal, 3)


def _places(surface: Surface, band: Band) -> Samples:
    return _over(surface, band, Source.place, 3)


def _normal(surface: Surface, band: Band, how: How, task: Task) -> Samples:
    return surface.into_frame(band, _normals(surface, band))


def _normal_object(surface: Surface, band: Band, how: How, task: Task) -> Samples:
    return _normals(surface, band)


def _height(surface: Surface, band: Band, how: How, task: Task) -> Samples:
    away = _places(surface, band) - surface.place(band)
    return np.einsum("nk,nk->n", away, surface.normal(band))[:, None]


def _open(surface: Surface, band: Band, how: How, task: Task) -> Open:
    places, normals = _places(surface, band), _normals(surface, band)
    return openness(surface.hiding, places, normals, how.each, how.reach_mm, seed(surface, band), quiet(task))


def _occlusion(surface: Surface, band: Band, how: How, task: Task) -> Samples:
    return _open(surface, band, how, task).share[:, None]


def _bent(surface: Surface, band: Band, how: How, task: Task) -> Samples:
    return surface.into_frame(band, _open(surface, band, how, task).direction.astype(np.float64))


def _thickness(surface: Surface, band: Band, how: How, task: Task) -> Samples:
    places, normals = _places(surface, band), _normals(surface, band)
    return thickness(surface.hiding, places, normals, how.each, 0.0, seed(surface, band), quiet(task))[:, None]


def seed(surface: Surface, band: Band) -> int:
    """Of the turns of rays: the number of the band's first sample, so that no two samples share one.

    >>> from silent_loom.core.form.lay.places import onto_itself
    >>> from silent_loom.core.form.model import plate
    >>> surface = onto_itself(plate(), (8, 8))
    >>> [seed(surface, band) for band in surface.bands()]
    [0]
    """
    return band.rows[0] * surface.size[0]


def quiet(task: Task) -> Task:
    """Cancelled with the whole, without moving its bar.

    >>> told = []
    >>> quiet(Task(progress=lambda part, words: told.append(part))).report(0.5)
    >>> told
    []
    """
    return task.part(0.0, 0.0)


def _curvature(surface: Surface, band: Band, how: How, task: Task) -> Samples:
    return _over(surface, band, lambda s, t, w: between(s.curvatures, t, w), 1)


def _position(surface: Surface, band: Band, how: How, task: Task) -> Samples:
    low = surface.model.corners.reshape(-1, 3).min(0)
    size = np.maximum(surface.model.corners.reshape(-1, 3).max(0) - low, 1e-9)
    return (_places(surface, band) - low) / size


def _colour(surface: Surface, band: Band, how: How, task: Task) -> Samples:
    return _over(surface, band, Source.colour, 3)


def _vertex_colour(surface: Surface, band: Band, how: How, task: Task) -> Samples:
    return _over(surface, band, lambda s, t, w: np.ones((len(t), 3)) if s.painted is None else between(s.painted, t, w), 3)


def _mesh_id(surface: Surface, band: Band, how: How, task: Task) -> Samples:
    names = id_names(surface, "mesh_id")
    return _over(surface, band, lambda s, t, w: _numbers(s.mesh[t], s.mesh_names, names), 1)


def _material_id(surface: Surface, band: Band, how: How, task: Task) -> Samples:
    names = id_names(surface, "material_id")
    return _over(surface, band, lambda s, t, w: _numbers(s.slot[t], s.slot_names, names), 1)


def _numbers(own: NDArray[np.int32], names: Sequence[str], all_names: Sequence[str]) -> Samples:
    return np.array([all_names.index(n) for n in names])[own][:, None].astype(np.float64)


def id_names(surface: Surface, what: str) -> list[str]:
    """Names behind the numbers of 'mesh_id' or 'material_id'.

    >>> from silent_loom.core.form.model import plate
    >>> from silent_loom.core.form.lay.places import onto_itself
    >>> id_names(onto_itself(plate(), (8, 8)), "mesh_id")
    ['mesh']
    """
    of = {"mesh_id": "mesh_names", "material_id": "slot_names"}[what]
    return list(dict.fromkeys(n for p in surface.pairs for n in getattr(p.source, of)))


def id_colour(number: int) -> tuple[float, float, float]:
    """A colour of its own for each number, in linear light: hues a golden section of the circle apart.

    >>> id_colour(0) != id_colour(1)
    True
    """
    hue = (0.08 + number * 0.6180339887498949) % 1.0
    codes = colorsys.hsv_to_rgb(hue, (0.75, 0.5)[number // 8 % 2], (0.95, 0.65)[number // 16 % 2])
    r, g, b = (float(v) for v in decode_srgb(np.array(codes)))
    return r, g, b


_T, _K = Target, Kind
TARGETS: dict[str, Target] = {
    t.name: t
    for t in (
        _T("normal", "Normal", "Directions of the surface in tangent space, x along u, y along v.", _K.NORMAL, _normal),
        _T("normal_object", "Normal, object", "Directions of the surface as the model stands.", _K.NORMAL, _normal_object),
        _T("height", "Height", "How far the dense surface lies outside the light one.", _K.DATA, _height, "mm"),
        _T("occlusion", "Occlusion", "How much of the sky a place sees.", _K.DATA, _occlusion),
        _T("bent", "Bent normal", "Where the open sky lies from a place, in tangent space.", _K.NORMAL, _bent),
        _T("curvature", "Curvature", "How much the surface bends; above zero where it bulges.", _K.DATA, _curvature, "1/mm"),
        _T("thickness", "Thickness", "How far it is through the body.", _K.DATA, _thickness, "mm"),
        _T("position", "Position", "Where a place lies in the box around the model, 0 to 1.", _K.CHANNELS, _position),
        _T("colour", "Colour", "Base colour of the dense mesh's textures and materials.", _K.COLOUR, _colour),
        _T("vertex_colour", "Vertex colour", "Colours of the dense mesh's corners.", _K.COLOUR, _vertex_colour),
        _T("material_id", "Material ID", "A colour for each material.", _K.ID, _material_id),
        _T("mesh_id", "Mesh ID", "A colour for each mesh.", _K.ID, _mesh_id),
    )
}
"""Maps that can be baked, in the order in which they are listed."""
