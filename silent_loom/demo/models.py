"""Models of the quay, made by code: a mooring buoy, a bollard, a lifebelt, each with the faults that UVs have in practice."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.delivery.models.writing import written_bytes
from silent_loom.core.form.model import Model, Slot, Table

Points = NDArray[np.float64]


class _Building:
    """Quads put together, corner by corner."""

    def __init__(self) -> None:
        self.places: list[Points] = []
        self.uvs: list[Points] = []
        self.colours: list[Points] = []
        self.meshes: list[str] = []
        self.slots: list[str] = []
        self.mesh_of: list[NDArray[np.int32]] = []
        self.slot_of: list[NDArray[np.int32]] = []

    def grid(self, mesh: str, slot: str, at: Points, uv: Points, colour: tuple[float, float, float] = (1.0, 1.0, 1.0)) -> None:
        """A grid of places, shape (n, m, 3), seen from the side on which u × v points outward."""
        a, b, c, d = at[:-1, :-1], at[:-1, 1:], at[1:, 1:], at[1:, :-1]
        p, q, r, s = uv[:-1, :-1], uv[:-1, 1:], uv[1:, 1:], uv[1:, :-1]
        corners = np.concatenate([np.stack([a, b, c], 2).reshape(-1, 3, 3), np.stack([a, c, d], 2).reshape(-1, 3, 3)])
        laid = np.concatenate([np.stack([p, q, r], 2).reshape(-1, 3, 2), np.stack([p, r, s], 2).reshape(-1, 3, 2)])
        area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
        good = area > 1e-12
        for name, names in ((mesh, self.meshes), (slot, self.slots)):
            if name not in names:
                names.append(name)
        count = int(good.sum())
        self.places.append(corners[good])
        self.uvs.append(laid[good])
        self.colours.append(np.broadcast_to(np.array([*colour, 1.0]), (count, 3, 4)))
        self.mesh_of.append(np.full(count, self.meshes.index(mesh), np.int32))
        self.slot_of.append(np.full(count, self.slots.index(slot), np.int32))

    def model(self) -> Model:
        """Metres, y up."""
        corners, uv = np.concatenate(self.places), np.concatenate(self.uvs)
        colours = np.concatenate(self.colours)
        rows, index = np.unique(corners.reshape(-1, 3).round(9), axis=0, return_inverse=True)
        laid, uv_index = np.unique(uv.reshape(-1, 2).round(9), axis=0, return_inverse=True)
        paint, paint_index = np.unique(colours.reshape(-1, 4), axis=0, return_inverse=True)

        def table(values: NDArray[np.float64], number: NDArray[np.int64]) -> Table:
            return Table(values, number.reshape(-1, 3).astype(np.int32))

        return Model(
            table(rows, index),
            np.concatenate(self.mesh_of),
            np.concatenate(self.slot_of),
            tuple(self.meshes),
            tuple(Slot(s) for s in self.slots),
            {"UV": table(laid, uv_index)},
            colours=table(paint.astype(np.float32), paint_index),
        )


def _turned(profile: Sequence[tuple[float, float]], around: int, box: tuple[float, float, float, float]) -> tuple[Points, Points]:
    """A profile of radius and height, from the foot up, turned round the y axis, and a box of the square for it."""
    r, y = np.array(profile, float).T
    length = np.concatenate([[0], np.cumsum(np.hypot(np.diff(r), np.diff(y)))])
    t = np.linspace(0, 1, around + 1)
    angle = 2 * np.pi * t
    at = np.stack([r[:, None] * np.sin(angle), np.broadcast_to(y[:, None], (len(r), around + 1)), r[:, None] * np.cos(angle)], -1)
    left, low, right, high = box
    uv = np.stack(np.broadcast_arrays(left + (right - left) * t, (low + (high - low) * length / length[-1])[:, None]), -1)
    return at, uv


def _lid(radius: float, y: float, up: bool, around: int, middle: tuple[float, float], size: float) -> tuple[Points, Points]:
    """A disc, laid out as seen."""
    t = np.linspace(0, 2 * np.pi, around + 1)
    r = np.array([0.0, radius]) if not up else np.array([radius, 0.0])
    at = np.stack([r[:, None] * np.sin(t), np.full((2, around + 1), y), r[:, None] * np.cos(t)], -1)
    side = 1.0 if up else -1.0
    uv = np.stack([middle[0] + size * at[..., 0] / radius, middle[1] - side * size * at[..., 2] / radius], -1)
    return at, uv


def _ring(
    radius: float, thick: float, around: int, across: int, box: tuple[float, float, float, float],
    lie: Callable[[Points], Points] = lambda p: p, span: tuple[float, float] = (0.0, 1.0),
) -> tuple[Points, Points]:  # fmt: skip
    """A ring round the z axis, or the part of it from and to a share of its round."""
    u = np.linspace(*span, around + 1)
    v = np.linspace(0, 1, across + 1)
    a, b = 2 * np.pi * u[None, :], 2 * np.pi * v[:, None]
    out = radius + thick * np.cos(b)
    at = np.stack(np.broadcast_arrays(out * np.cos(a), out * np.sin(a), thick * np.sin(b)), -1)
    left, low, right, high = box
    s = (u - span[0]) / (span[1] - span[0])
    uv = np.stack(np.broadcast_arrays(left + (right - left) * s, (low + (high - low) * v)[:, None]), -1)
    return lie(at), uv


def buoy(fine: int = 1) -> Model:
    """A mooring buoy of 0.9 m: its foot is laid out over its body, and its ring reaches out of the square.

    Parameters
    ----------
    fine : int
        1 for the light mesh; more for a dense one with dents and a welded rim.
    """
    out = _Building()
    n = 24 * fine
    heights = np.linspace(0, 1, 8 * fine + 1)
    profile = [(0.18 + 0.27 * np.sin(np.pi * (0.12 + 0.8 * h)), 0.9 * h) for h in heights]
    at, uv = _turned(profile, n, (0.02, 0.3, 0.98, 0.98))
    if fine > 1:
        angle = np.arctan2(at[..., 0], at[..., 2])
        dents = 0.004 * np.sin(7 * angle) * np.sin(9 * at[..., 1] * np.pi) + 0.006 * np.exp(-(((at[..., 1] - 0.45) / 0.012) ** 2))
        away = at * np.array([1.0, 0.0, 1.0])
        at = at + dents[..., None] * away / np.maximum(np.linalg.norm(away, axis=-1, keepdims=True), 1e-9)
    out.grid("body", "paint", at, uv, (0.85, 0.25, 0.08))
    out.grid("body", "paint", *_lid(profile[0][0], 0.0, False, n, (0.3, 0.42), 0.12), colour=(0.3, 0.3, 0.3))
    out.grid("body", "paint", *_lid(profile[-1][0], 0.9, True, n, (0.16, 0.15), 0.12), colour=(0.85, 0.25, 0.08))

    def lie(p: Points) -> Points:
        return p + np.array([0.0, 0.98, 0.0])

    out.grid("ring", "iron", *_ring(0.09, 0.02, n, 8 * fine, (0.4, 0.05, 1.15, 0.25), lie), colour=(0.2, 0.2, 0.2))
    return out.model()


def bollard(fine: int = 1) -> Model:
    """A bollard of 0.6 m: its head has far fewer texels than its shaft, and its islands touch."""
    out = _Building()
    n = 32 * fine
    shaft = [(0.2, 0.0), (0.2, 0.02), (0.13, 0.06), (0.12, 0.35), (0.15, 0.42)]
    head = [(0.15, 0.42), (0.22, 0.45), (0.23, 0.5), (0.2, 0.56), (0.1, 0.595), (0.0, 0.6)]
    if fine > 1:
        shaft, head = _finer(shaft, 4 * fine), _finer(head, 4 * fine)
    at, uv = _turned(shaft, n, (0.0, 0.25, 1.0, 1.0))
    out.grid("bollard", "iron", at, uv, (0.12, 0.12, 0.13))
    at, uv = _turned(head, n, (0.0, 0.15, 0.5, 0.25))
    out.grid("bollard", "iron", at, uv, (0.5, 0.42, 0.1))
    out.grid("bollard", "iron", *_lid(0.2, 0.0, False, n, (0.62, 0.12), 0.11), colour=(0.12, 0.12, 0.13))
    return out.model()


def _finer(profile: Sequence[tuple[float, float]], times: int) -> list[tuple[float, float]]:
    r, y = np.array(profile).T
    t = np.linspace(0, len(r) - 1, times * (len(r) - 1) + 1)
    return list(zip(np.interp(t, np.arange(len(r)), r).tolist(), np.interp(t, np.arange(len(r)), y).tolist(), strict=True))


def lifebelt(fine: int = 1) -> Model:
    """A lifebelt of 0.72 m: both halves share their texels, its bands are painted into the corners, its line has no UVs worth
    the name."""
    out = _Building()
    across = 16 * fine
    for half in (0, 1):
        for k in range(4):  # a quarter of the half is a band
            start, end = half / 2 + k / 8, half / 2 + (k + 1) / 8
            band = k == 1
            box = (0.02 + 0.24 * k, 0.3, 0.02 + 0.24 * (k + 1), 0.98)
            grid = _ring(0.28, 0.08, 6 * fine, across, box, span=(start, end))
            out.grid("belt", "cloth", *grid, colour=(0.8, 0.1, 0.05) if band else (0.9, 0.9, 0.88))
    at, uv = _ring(0.385, 0.012, 24 * fine, 6 * fine, (0.1, 0.1, 0.1001, 0.2))
    out.grid("line", "rope", at, uv, (0.6, 0.55, 0.4))
    return out.model()


MODELS: dict[str, Callable[[int], Model]] = {"mooring_buoy": buoy, "bollard": bollard, "lifebelt": lifebelt}


def write_models(folder: Path) -> list[Path]:
    """Every model as a GLB in a folder."""
    folder.mkdir(parents=True, exist_ok=True)
    made = []
    for name, make in MODELS.items():
        path = folder / f"{name}.glb"
        if not path.exists():
            written_bytes(make(1), path)
        made.append(path)
    return made
