"""Detail of dense meshes, and of the model itself, carried into its texels."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.form.bake.cage import Cage, fitted
from silent_loom.core.form.bake.dense import Source
from silent_loom.core.form.bake.fill import nearest_covered
from silent_loom.core.form.bake.matching import matched
from silent_loom.core.form.bake.surface import Pair, Surface
from silent_loom.core.form.bake.targets import TARGETS, How, Target, id_names
from silent_loom.core.form.model import Model


@dataclass(frozen=True)
class Order:
    """What is wished.

    Attributes
    ----------
    maps : tuple of str
        Names of `TARGETS`.
    size : tuple of int
        Width and height in texels.
    uv : str
        Name of the UV set; the first if empty.
    samples : int
        Samples of a texel along each side: 1, 2 or 4.
    distance_mm : float
        How far rays start outside and end inside; found by itself if 0.
    rays : int
        For occlusion, bent normal and thickness, from each texel.
    reach_mm : float
        How far away something still occludes; 0 for any distance.
    padding : float
        Texels around islands that are filled; all there are if 0.
    by_name : bool
        Each mesh takes the dense mesh of its name alone.
    """

    maps: tuple[str, ...] = ("normal", "height", "occlusion")
    size: tuple[int, int] = (2048, 2048)
    uv: str = ""
    samples: int = 1
    distance_mm: float = 0.0
    rays: int = 64
    reach_mm: float = 0.0
    padding: float = 0.0
    by_name: bool = False


@dataclass
class Baked:
    """What came of it.

    Attributes
    ----------
    covered : bool array, shape (H, W)
        Texels that show the model.
    missed : bool array, shape (H, W)
        Those of them from which no ray met anything.
    cages : list of Cage
    names : mapping
        Names behind the numbers of ID maps.
    seconds : mapping
        By map.
    """

    covered: NDArray[np.bool_]
    missed: NDArray[np.bool_]
    cages: list[Cage] = field(default_factory=list)
    names: dict[str, list[str]] = field(default_factory=dict)
    seconds: dict[str, float] = field(default_factory=dict)

    @property
    def missed_share(self) -> float:
        """Of the texels that show the model, 0…1."""
        return float(self.missed.sum()) / max(1, int(self.covered.sum()))


def pairs_of(model: Model, dense: Source | None, order: Order, task: Task = IDLE) -> list[Pair]:
    """Which triangles take what from where.

    Raises
    ------
    LoomError
        Names are to match, and some do not.

    >>> from silent_loom.core.form.model import plate
    >>> pairs_of(plate(), None, Order())[0].cage is None
    True
    """
    everything = np.ones(len(model), bool)
    if dense is None:
        return [Pair(everything, Source((model,), {}), None)]
    if not order.by_name:
        return [Pair(everything, dense, fitted(model, dense.scene, order.distance_mm, task), order.distance_mm <= 0)]
    found = []
    for triangles, source in matched(model, dense):
        cage = fitted(model.of(triangles), source.scene, order.distance_mm, task)
        toward = np.zeros((len(model), 3, 3))
        toward[triangles] = cage.direction
        found.append(Pair(triangles, source, Cage(toward, cage.front_mm, cage.back_mm), order.distance_mm <= 0))
    return found


def bake(
    model: Model,
    dense: Source | None,
    order: Order,
    keep: Callable[[Target, Image], None],
    task: Task = IDLE,
) -> Baked:
    """Bake maps, one after the other.

    Parameters
    ----------
    model : Model
        The light mesh, with UVs.
    dense : Source or None
        What detail comes from; the model itself if None.
    order : Order
    keep : callable
        Takes each map as soon as it is done: the target, and an image of it. Numbers of ID maps are whole.
    task : Task
        Its progress runs map by map.

    Raises
    ------
    LoomError
        A map, or the UVs, are not there.

    Notes
    -----
    From every sample of the layout a ray starts at a closed shell around the light mesh and goes inward along the mean of the
    faces round it; what it meets first counts. Samples of a texel are averaged, directions as vectors. What is empty takes the
    nearest texel of an island.
    """
    unknown = [m for m in order.maps if m not in TARGETS]
    if unknown:
        raise LoomError(f"there is no map {unknown[0]!r} to bake", "", f"Choose from {', '.join(TARGETS)}.")
    model.uv(order.uv)
    task.report(0.0, "distance")
    began = time.perf_counter()
    pairs = pairs_of(model, dense, order, task.part(0.0, 0.0))
    n = order.samples
    width, height = order.size
    surface = Surface(model, order.uv, (width * n, height * n), n, pairs)
    out = Baked(np.zeros((height, width), bool), np.zeros((height, width), bool), [p.cage for p in pairs if p.cage is not None])
    _cover(surface, n, out, task.part(0.0, 0.1))
    out.seconds["rays"] = time.perf_counter() - began
    empty, source = nearest_covered(out.covered & ~out.missed, order.padding)
    how = How(order.rays, order.reach_mm, n * n)
    costs = np.cumsum([0.0, *(8.0 if m in ("occlusion", "bent", "thickness") else 1.0 for m in order.maps)])
    costs = 0.1 + 0.9 * costs / max(costs[-1], 1e-9)
    for k, name in enumerate(order.maps):
        began = time.perf_counter()
        target = TARGETS[name]
        part = task.part(float(costs[k]), float(costs[k + 1]))
        part.report(0.0, target.title)
        samples = _made(surface, target, how, n, part)
        flat = samples.reshape(-1, samples.shape[2])
        flat[empty] = flat[source]
        if target.kind is Kind.NORMAL:
            bare = ~(np.abs(samples).max(-1) > 0)
            samples[bare] = (0.0, 0.0, 1.0)
        if target.kind is Kind.ID:
            out.names[name] = id_names(surface, name)
        keep(target, Image(samples, target.kind, (float(width), float(height)), False))
        out.seconds[name] = time.perf_counter() - began
    return out


def _cover(surface: Surface, n: int, out: Baked, task: Task) -> None:
    """Which texels show the model, and which of them met nothing."""
    width = surface.size[0]
    for band in surface.bands(task):
        rows = band.rows[1] - band.rows[0]
        seen, met = np.zeros(rows * width, bool), np.zeros(rows * width, bool)
        seen[band.sample] = True
        met[band.sample] = band.met >= 0
        top, end = band.rows[0] // n, band.rows[1] // n
        shape = rows // n, n, width // n, n
        out.covered[top:end] = seen.reshape(shape).any((1, 3))
        out.missed[top:end] = out.covered[top:end] & ~met.reshape(shape).any((1, 3))


def _made(surface: Surface, target: Target, how: How, n: int, task: Task) -> Floats:
    """A map in texels, shape (H, W, C): the mean of the samples that met something."""
    width, height = surface.size[0] // n, surface.size[1] // n
    out: Floats | None = None
    for band in surface.bands(task):
        values = target.make(surface, band, how, task)
        if out is None:
            out = np.zeros((height, width, values.shape[1]), np.float32)
        good = band.met >= 0
        at = band.sample[good]
        y, x = at // surface.size[0] // n, at % surface.size[0] // n
        rows = (band.rows[1] - band.rows[0]) // n
        texel = y * width + x
        part = out[band.rows[0] // n : band.rows[1] // n].reshape(rows * width, -1)
        if target.kind is Kind.ID:  # numbers never mix
            part[texel[::-1]] = values[good][::-1]
            continue
        if n == 1:
            part[texel] = values[good]
        else:
            count = np.maximum(np.bincount(texel, minlength=rows * width), 1)
            for c in range(values.shape[1]):
                part[:, c] = np.bincount(texel, values[good, c], rows * width) / count
        if target.kind is Kind.NORMAL and n > 1:
            length = np.sqrt(np.einsum("nk,nk->n", part, part))[:, None]
            part /= np.where(length > 1e-9, length, 1.0)
    assert out is not None
    return out


def sources(models: Sequence[Model], pictures: Mapping[tuple[int, int], Floats] | None = None) -> Source | None:
    """Dense meshes as one source; None where there are none.

    >>> from silent_loom.core.form.model import plate
    >>> sources([]) is None, len(sources([plate()]).models)
    (True, 1)
    """
    return Source(tuple(models), dict(pictures or {})) if models else None
