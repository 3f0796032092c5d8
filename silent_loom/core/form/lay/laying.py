"""Ways of laying a sheet on a model, and the maps of it in the model's UV set."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.form.bake.dense import between
from silent_loom.core.form.bake.fill import nearest_covered
from silent_loom.core.form.bake.surface import Band, Surface
from silent_loom.core.form.lay.sheet_at import sheet_at
from silent_loom.core.form.model import Model
from silent_loom.core.form.normals import unit

By = Literal["uv", "sides", "camera"]


@dataclass(frozen=True)
class Camera:
    """Where a sheet is thrown on a model from, in millimetres with y up.

    Attributes
    ----------
    eye, target : tuple of float
    width_mm : float
        How much of the model the sheet's width covers at the target; it does not widen with distance.
    """

    eye: tuple[float, float, float]
    target: tuple[float, float, float] = (0.0, 0.0, 0.0)
    width_mm: float = 0.0

    @classmethod
    def around(cls, model: Model, around_deg: float, above_deg: float, width_mm: float) -> Camera:
        """A camera well outside of a model that looks at its middle, from an angle around it (0 is in front, z) and a height."""
        used = model.corners.reshape(-1, 3)
        low, high = used.min(0), used.max(0)
        middle, far = (low + high) / 2, 3 * float(np.linalg.norm(high - low))
        a, b = np.radians(around_deg), np.radians(above_deg)
        out = np.array([np.sin(a) * np.cos(b), np.sin(b), np.cos(a) * np.cos(b)])
        ex, ey, ez = (float(v) for v in middle + far * out)
        tx, ty, tz = (float(v) for v in middle)
        return cls((ex, ey, ez), (tx, ty, tz), width_mm)


@dataclass(frozen=True)
class Laying:
    """How a sheet is laid on.

    Attributes
    ----------
    by : str
        'uv': through the UVs; 'sides': projected along x, y and z, mixed where the surface turns; 'camera': from one place.
    scale : float
        How many times larger than in truth it is laid on.
    turn_deg : float
        Anticlockwise.
    shift_mm : tuple of float
        To the right and up.
    blend : float
        Of three sides: how wide they mix, 0 (an edge) … 1 (all over).
    camera : Camera, optional
    """

    by: By = "uv"
    scale: float = 1.0
    turn_deg: float = 0.0
    shift_mm: tuple[float, float] = (0.0, 0.0)
    blend: float = 0.3
    camera: Camera | None = None


@dataclass(frozen=True)
class _Patch:
    """One projection of the sheet on the samples of a band.

    Attributes
    ----------
    x, y : float arrays, shape (N,)
        Places on the sheet in millimetres.
    right, up : float arrays, shape (N, 3)
        Which way x and y of the sheet run on the model, unit length.
    share : float array, shape (N,)
    """

    x: NDArray[np.float64]
    y: NDArray[np.float64]
    right: NDArray[np.float64]
    up: NDArray[np.float64]
    share: NDArray[np.float64]


@dataclass
class Laid:
    """Maps in the model's UV set.

    Attributes
    ----------
    maps : dict of str to Image
    covered : bool array, shape (H, W)
        Texels that show the model.
    """

    maps: dict[str, Image]
    covered: NDArray[np.bool_]


def repeats(surface: Surface, size_mm: tuple[float, float], laying: Laying) -> tuple[float, float]:
    """How often a sheet comes across the square of the UVs, so that it has its real size on the model in the middle.

    >>> from silent_loom.core.form.model import plate
    >>> repeats(Surface(plate(), "", (8, 8), 1, []), (500.0, 250.0), Laying())
    (2.0, 4.0)
    """
    unit_mm = surface.unit_mm / laying.scale
    return unit_mm / size_mm[0], unit_mm / size_mm[1]


def lay(
    surface: Surface,
    sheets: Mapping[str, Image],
    laying: Laying,
    padding: float = 0.0,
    task: Task = IDLE,
) -> Laid:
    """Lay a sheet on.

    Parameters
    ----------
    surface : Surface
        The model laid out, with one sample a texel, and onto itself (see `places.onto_itself`).
    sheets : mapping of str to Image
        Maps of a repeating sheet, all of one size in millimetres.
    padding : float
        Texels around islands that are filled; all there are if 0.

    Raises
    ------
    LoomError
        A camera is wished and none is told.

    Notes
    -----
    Three sides: weights are powers of how much the surface faces each axis. Their directions are mixed as slopes of the
    surface and not as colours (surface gradients; Mikkelsen 2020), so that relief keeps its height where two sides mix; what
    lies in the tangent space of the sheet is brought into that of the model. Nothing of it depends on where islands lie.

    >>> from silent_loom.core.form.model import plate
    >>> from silent_loom.core.form.lay.places import onto_itself
    >>> half = Image(np.full((4, 4, 1), 0.5, np.float32), Kind.DATA, (500.0, 500.0), True)
    >>> float(lay(onto_itself(plate(), (8, 8)), {"roughness": half}, Laying("sides")).maps["roughness"].pixels.mean())
    0.5
    """
    width, height = surface.size
    maps: dict[str, Floats] = {n: np.zeros((height, width, i.pixels.shape[2]), np.float32) for n, i in sheets.items()}
    covered, known = np.zeros((height, width), bool), np.zeros((height, width), bool)
    size_mm = next(iter(sheets.values())).size_mm
    patches = _patches(surface, size_mm, laying)
    for band in surface.bands(task):
        found = list(patches(band))
        rows = slice(*band.rows)
        flat = np.zeros((band.rows[1] - band.rows[0]) * width, bool)
        flat[band.sample] = True
        covered[rows] = flat.reshape(-1, width)
        flat[band.sample] = sum(p.share for p in found) > 1e-6
        known[rows] = flat.reshape(-1, width)
        for name, image in sheets.items():
            part = maps[name][rows].reshape(-1, image.pixels.shape[2])
            part[band.sample] = _mixed(surface, band, image, found)
    empty, source = nearest_covered(known, padding)
    side = surface.unit_mm or 1000.0
    out = {}
    for name, samples in maps.items():
        flat_samples = samples.reshape(-1, samples.shape[2])
        flat_samples[empty] = flat_samples[source]
        if sheets[name].kind is Kind.NORMAL:
            bare = ~(np.abs(samples).max(-1) > 0)
            samples[bare] = (0.0, 0.0, 1.0)
        out[name] = Image(samples, sheets[name].kind, (side, side * height / width), False)
    return Laid(out, covered)


def _mixed(surface: Surface, band: Band, image: Image, patches: list[_Patch]) -> NDArray[np.float64]:
    n = len(band.sample)
    total = np.maximum(sum(p.share for p in patches), 1e-12)
    if image.kind is Kind.ID:
        values = np.stack([sheet_at(image, p.x, p.y) for p in patches])
        best = np.stack([p.share for p in patches]).argmax(0)
        return values[best, np.arange(n)].astype(np.float64)
    if image.kind is Kind.NORMAL:
        normal = surface.normal(band)
        slope = np.zeros((n, 3))
        for p in patches:
            seen = sheet_at(image, p.x, p.y).astype(np.float64)
            z = np.maximum(seen[:, 2], 1e-3)
            down = -(seen[:, :1] / z[:, None]) * p.right - (seen[:, 1:2] / z[:, None]) * p.up
            slope += (p.share / total)[:, None] * down
        slope -= normal * np.einsum("nk,nk->n", normal, slope)[:, None]
        return surface.into_frame(band, unit(normal - slope))
    out = np.zeros((n, image.pixels.shape[2]))
    for p in patches:
        seen = sheet_at(image, p.x, p.y).astype(np.float64)
        if image.kind is Kind.VECTOR:  # directions on the sheet become directions along u and v
            way = surface.into_frame(band, unit(seen[:, :1] * p.right + seen[:, 1:2] * p.up))
            seen = way[:, :2] * np.linalg.norm(seen, axis=1, keepdims=True)
        out += (p.share / total)[:, None] * seen
    return out


def _patches(surface: Surface, size_mm: tuple[float, float], laying: Laying) -> Callable[[Band], Iterable[_Patch]]:
    if laying.by == "uv":
        return lambda band: [_by_uv(surface, band, laying)]
    if laying.by == "sides":
        return lambda band: _by_sides(surface, band, laying)
    if laying.camera is None:
        raise LoomError("no camera is told", "camera", "Say where it stands and what it looks at.")
    camera = laying.camera
    return lambda band: [_by_camera(surface, band, size_mm, laying, camera)]


def _turned(
    x: NDArray[np.float64], y: NDArray[np.float64], right: NDArray[np.float64], up: NDArray[np.float64], laying: Laying
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    """Places and directions after the sheet was turned, moved and scaled under them."""
    a = np.radians(laying.turn_deg)
    c, s = np.cos(a), np.sin(a)
    x, y = x / laying.scale - laying.shift_mm[0], y / laying.scale - laying.shift_mm[1]
    return c * x + s * y, -s * x + c * y, c * right + s * up, -s * right + c * up


def _by_uv(surface: Surface, band: Band, laying: Laying) -> _Patch:
    uv = between(surface.uv, band.triangle, band.weights) * surface.unit_mm
    right, up, _ = surface.frame(band)
    x, y, right, up = _turned(uv[:, 0], uv[:, 1], right, up, laying)
    return _Patch(x, y, right, up, np.ones(len(x)))


SIDES = (
    (0, (0.0, 0.0, -1.0), (0.0, 1.0, 0.0)),
    (1, (1.0, 0.0, 0.0), (0.0, 0.0, -1.0)),
    (2, (1.0, 0.0, 0.0), (0.0, 1.0, 0.0)),
)
"""For each axis, which way the sheet's right and up run as it is seen from its far end."""


def _by_sides(surface: Surface, band: Band, laying: Laying) -> list[_Patch]:
    at, normal = surface.place(band), surface.normal(band)
    sharp = 2.0 ** (1 + 6 * (1 - min(1.0, max(0.0, laying.blend))))
    weight = np.abs(normal) ** sharp
    weight /= np.maximum(weight.sum(1, keepdims=True), 1e-12)
    weight = np.where(weight > 0.002, weight, 0.0)
    found = []
    for axis, right, up in SIDES:
        far = np.sign(normal[:, axis])
        far = np.where(far == 0, 1.0, far)[:, None]
        along = np.array(right) * far  # seen from behind, right is left
        upward = np.broadcast_to(np.array(up), at.shape)
        if axis == 1:  # from below, up is down rather than right left: the sheet reads the same way round
            along, upward = np.broadcast_to(np.array(right), at.shape), np.array(up) * far
        x, y = np.einsum("nk,nk->n", at, along), np.einsum("nk,nk->n", at, upward)
        x, y, along, upward = _turned(x, y, along, upward, laying)
        found.append(_Patch(x, y, along, upward, weight[:, axis]))
    return found


def _by_camera(surface: Surface, band: Band, size_mm: tuple[float, float], laying: Laying, camera: Camera) -> _Patch:
    eye, target = np.array(camera.eye, float), np.array(camera.target, float)
    out = unit((eye - target)[None])[0]
    right = unit(np.cross([0.0, 1.0, 0.0], out)[None])[0]
    if not right.any():  # straight from above or below
        right = np.array([1.0, 0.0, 0.0])
    up = np.cross(out, right)
    at, normal = surface.place(band), surface.normal(band)
    x, y = (at - target) @ right, (at - target) @ up
    fit = size_mm[0] / camera.width_mm if camera.width_mm > 0 else 1.0
    toward = eye - at
    far = np.linalg.norm(toward, axis=1)
    toward = toward / far[:, None]
    facing = np.einsum("nk,nk->n", normal, toward)
    scene = surface.hiding
    lift = 1e-4 * scene.reach
    hidden = scene.hidden(
        (at + lift * normal - scene.middle).astype(np.float32), toward.astype(np.float32), far.astype(np.float32)
    )
    share = np.where(hidden, 0.0, np.clip((facing - 0.05) / 0.2, 0, 1))
    half_x, half_y = size_mm[0] / 2, size_mm[1] / 2
    x, y = x * fit + half_x, y * fit + half_y
    inside = (x >= 0) & (x <= size_mm[0]) & (y >= 0) & (y <= size_mm[1]) if camera.width_mm > 0 else np.ones(len(x), bool)
    n = len(at)
    x, y, along, upward = _turned(x, y, np.broadcast_to(right, (n, 3)), np.broadcast_to(up, (n, 3)), laying)
    return _Patch(x, y, along, upward, share * inside)
