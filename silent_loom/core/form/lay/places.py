"""Where on a model what is: masks by slope, altitude, facing, bend, shelter, thickness, paint, island, mesh and material."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.form.bake.dense import Source, between
from silent_loom.core.form.bake.fill import nearest_covered
from silent_loom.core.form.bake.surface import Band, Pair, Surface
from silent_loom.core.form.bake.targets import quiet, seed
from silent_loom.core.form.model import Model
from silent_loom.core.form.normals import unit
from silent_loom.core.form.rays.gather import openness, thickness

Values = NDArray[np.float64]


@dataclass(frozen=True)
class Where:
    """A mask: what it goes by, and from where to where it rises.

    Attributes
    ----------
    kind : str
        One of `KINDS`.
    low, high : float
        0 at and below `low`, 1 at and above `high`, smoothly between; the other way round where `low` is larger.
    what : str
        For 'facing' a direction as x,y,z; for 'paint' a channel; for 'island', 'mesh' and 'material' a number or a name.
    """

    kind: str
    low: float = 0.0
    high: float = 1.0
    what: str = ""


@dataclass(frozen=True)
class Place:
    """One kind of mask.

    Attributes
    ----------
    title, says : str
    unit : str
    usual : tuple of float
        Where it rises if nothing is said.
    find : callable
        Values of the samples of a band.
    """

    title: str
    says: str
    unit: str
    usual: tuple[float, float]
    find: Callable[[Surface, Band, Where, Task], Values]


def _slope(surface: Surface, band: Band, where: Where, task: Task) -> Values:
    return np.degrees(np.arccos(np.clip(surface.normal(band)[:, 1], -1, 1)))


def _altitude(surface: Surface, band: Band, where: Where, task: Task) -> Values:
    up = surface.model.corners[..., 1]
    low, high = float(up.min()), float(up.max())
    return (surface.place(band)[:, 1] - low) / max(high - low, 1e-9)


def _facing(surface: Surface, band: Band, where: Where, task: Task) -> Values:
    try:
        x, y, z = (float(v) for v in (where.what or "0,1,0").split(","))
    except ValueError:
        raise LoomError("this is no direction", where.what, "Three numbers: 0,1,0 is up.") from None
    return surface.normal(band) @ unit(np.array([[x, y, z]]))[0]


def _bend(surface: Surface, band: Band, where: Where, task: Task) -> Values:
    return between(surface.pairs[0].source.curvatures, band.met, band.met_weights)[:, 0] * 10  # per centimetre


def _cavity(surface: Surface, band: Band, where: Where, task: Task) -> Values:
    return np.maximum(0.0, -_bend(surface, band, where, task))


def _shelter(surface: Surface, band: Band, where: Where, task: Task) -> Values:
    seen = openness(surface.hiding, surface.place(band), surface.normal(band), 48, 0.0, seed(surface, band), quiet(task))
    return 1.0 - seen.share.astype(np.float64)


def _thickness(surface: Surface, band: Band, where: Where, task: Task) -> Values:
    deep = thickness(surface.hiding, surface.place(band), surface.normal(band), 24, 0.0, seed(surface, band), quiet(task))
    return deep.astype(np.float64)


def _paint(surface: Surface, band: Band, where: Where, task: Task) -> Values:
    colours = surface.model.colours
    if colours is None:
        raise LoomError("this model has no vertex colours", "paint", "Paint them in the program that it comes from.")
    seen = between(np.nan_to_num(colours.at_corners(), nan=1.0), band.triangle, band.weights)
    channel = (where.what or "red").lower()
    if channel in ("red", "green", "blue", "alpha"):
        return seen[:, ["red", "green", "blue", "alpha"].index(channel)]
    if channel in ("lightness", "grey"):
        return seen[:, :3] @ np.array([0.2126, 0.7152, 0.0722])
    raise LoomError(f"there is no channel {where.what!r}", "paint", "Use red, green, blue, alpha or lightness.")


def _numbered(of: NDArray[np.int32], names: tuple[str, ...], where: Where, what: str) -> NDArray[np.bool_]:
    """Which rows are meant by numbers from 0, or by names."""
    wanted = [w.strip() for w in where.what.split(",") if w.strip()]
    if not wanted:
        raise LoomError(f"no {what} is named", what, "Say which: a number from 0, or a name.")
    numbers = set()
    for w in wanted:
        if w in names:
            numbers |= {k for k, n in enumerate(names) if n == w}
        elif re.fullmatch(r"\d+", w):
            numbers.add(int(w))
        else:
            raise LoomError(f"there is no {what} {w!r}", what, f"There are {', '.join(names[:20])}.")
    return np.isin(of, sorted(numbers))


def _island(surface: Surface, band: Band, where: Where, task: Task) -> Values:
    return _numbered(surface.island, (), where, "island")[band.triangle].astype(np.float64)


def _mesh(surface: Surface, band: Band, where: Where, task: Task) -> Values:
    model = surface.model
    return _numbered(model.triangle_mesh, model.meshes, where, "mesh")[band.triangle].astype(np.float64)


def _material(surface: Surface, band: Band, where: Where, task: Task) -> Values:
    model = surface.model
    names = tuple(s.name for s in model.slots)
    return _numbered(model.triangle_slot, names, where, "material")[band.triangle].astype(np.float64)


KINDS: dict[str, Place] = {
    "slope": Place("Slope", "How far the surface leans away from lying flat and facing up.", "°", (50.0, 30.0), _slope),
    "altitude": Place("Altitude", "How high it lies: 0 at the foot of the model, 1 at its top.", "", (0.4, 0.6), _altitude),
    "facing": Place("Facing", "How much it faces a direction: 1 straight, 0 sideways, −1 away.", "", (0.3, 0.7), _facing),
    "cavity": Place("Cavity", "How much it is hollowed.", "1/cm", (0.0, 0.3), _cavity),
    "bend": Place("Curvature", "How much it bends; above zero where it bulges.", "1/cm", (0.0, 0.3), _bend),
    "shelter": Place("Occlusion", "How much of the sky is hidden.", "", (0.2, 0.6), _shelter),
    "thickness": Place("Thickness", "How far it is through the body.", "mm", (0.0, 50.0), _thickness),
    "paint": Place("Vertex colour", "A channel of the colours that its corners were painted with.", "", (0.0, 1.0), _paint),
    "island": Place("Island", "Islands of the UV layout, by number.", "", (0.0, 1.0), _island),
    "mesh": Place("Mesh", "Meshes of the model, by name.", "", (0.0, 1.0), _mesh),
    "material": Place("Material slot", "Materials of the model, by name.", "", (0.0, 1.0), _material),
}  # fmt: skip


def parsed(text: str) -> Where:
    """A mask from words: KIND, KIND:WHAT, KIND=LOW..HIGH or KIND:WHAT=LOW..HIGH.

    Raises
    ------
    LoomError

    >>> parsed("altitude=0.6..0.8"), parsed("paint:red").what
    (Where(kind='altitude', low=0.6, high=0.8, what=''), 'red')
    """
    head, _, span = text.partition("=")
    kind, _, what = head.partition(":")
    kind = kind.strip().lower()
    if kind not in KINDS:
        raise LoomError(f"there is no mask {kind!r}", text, f"Choose from {', '.join(KINDS)}.")
    low, high = KINDS[kind].usual
    if span:
        try:
            low, high = (float(v) for v in span.split(".."))
        except ValueError:
            raise LoomError("this is no span", text, "For example: altitude=0.6..0.8") from None
    return Where(kind, low, high, what.strip())


def rising(values: Values, low: float, high: float) -> Values:
    """0 at `low`, 1 at `high`, smoothly between (Hermite); a step where both are the same.

    >>> rising(np.array([0.0, 0.5, 1.0]), 0.0, 1.0).tolist(), rising(np.array([0.2]), 1.0, 0.0).round(3).tolist()
    ([0.0, 0.5, 1.0], [0.896])
    """
    if low == high:
        return (values >= low).astype(np.float64)
    t = np.clip((values - low) / (high - low), 0.0, 1.0)
    out: Values = t * t * (3 - 2 * t)
    return out


def mask(surface: Surface, where: Where, padding: float = 0.0, task: Task = IDLE) -> Image:
    """A mask in the model's UV set, 0…1.

    Parameters
    ----------
    surface : Surface
        The model laid out, baked onto itself (one pair without a cage).
    where : Where

    Raises
    ------
    LoomError
        The model lacks what it goes by.

    >>> from silent_loom.core.form.model import plate
    >>> image = mask(onto_itself(plate(), (8, 8)), Where("altitude"))
    >>> bool(image.pixels[0, 0, 0] > image.pixels[-1, 0, 0])
    True
    """
    width, height = surface.size
    out: Floats = np.zeros((height, width, 1), np.float32)
    covered = np.zeros((height, width), bool)
    for band in surface.bands(task):
        values = rising(KINDS[where.kind].find(surface, band, where, task), where.low, where.high)
        rows = slice(*band.rows)
        flat = np.zeros((band.rows[1] - band.rows[0]) * width, bool)
        flat[band.sample] = True
        covered[rows] = flat.reshape(-1, width)
        out[rows].reshape(-1, 1)[band.sample] = values[:, None]
    empty, source = nearest_covered(covered, padding)
    flat_out = out.reshape(-1, 1)
    flat_out[empty] = flat_out[source]
    return Image(out, Kind.DATA, (float(width), float(height)), False)


def onto_itself(model: Model, size: tuple[int, int], uv: str = "") -> Surface:
    """A model laid out with one sample a texel, for `mask` and `lay`.

    Raises
    ------
    LoomError
        It has no such UVs.

    >>> from silent_loom.core.form.model import plate
    >>> onto_itself(plate(), (8, 8)).size
    (8, 8)
    """
    model.uv(uv)
    return Surface(model, uv, size, 1, [Pair(np.ones(len(model), bool), Source((model,), {}), None)])
