"""What a model says of the sheet on it: how large a repeat is, and colours of its corners drawn into the square of the UVs."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

MOST_TRIANGLES = 200_000


@dataclass(frozen=True)
class Piece:
    """Triangles that wear one material; metres, v down."""

    corners: NDArray[np.float64]
    uv: dict[int, NDArray[np.float64]]
    colour: NDArray[np.float64] | None
    triangles: NDArray[np.int64]

    def same_uv(self, other: int) -> bool:
        """Whether another set of UVs lies as the first does."""
        one, two = self.uv.get(0), self.uv.get(other)
        return one is not None and two is not None and one.shape == two.shape and bool(np.abs(one - two).max(initial=0) < 1e-5)


def density_mm(pieces: list[Piece]) -> tuple[float, float] | None:
    """Millimetres of the model for one unit of u and of v: the median over triangles, weighed by their area; None without UVs.

    >>> density_mm([]) is None
    True
    """
    across: list[NDArray[np.float64]] = []
    weights: list[NDArray[np.float64]] = []
    for p in pieces:
        uv = p.uv.get(0)
        if uv is None or not len(p.triangles):
            continue
        a, b, c = (p.corners[p.triangles[:, k]] for k in range(3))
        ua, ub, uc = (uv[p.triangles[:, k]] for k in range(3))
        e1, e2, d1, d2 = b - a, c - a, ub - ua, uc - ua
        det = d1[:, 0] * d2[:, 1] - d1[:, 1] * d2[:, 0]
        fine = np.abs(det) > 1e-12
        if not fine.any():
            continue
        e1, e2, d1, d2, det = e1[fine], e2[fine], d1[fine], d2[fine], det[fine, None]
        du = (e1 * d2[:, 1:2] - e2 * d1[:, 1:2]) / det
        dv = (e2 * d1[:, 0:1] - e1 * d2[:, 0:1]) / det
        across.append(np.stack([np.linalg.norm(du, axis=1), np.linalg.norm(dv, axis=1)], axis=1) * 1000)
        weights.append(np.linalg.norm(np.cross(e1, e2), axis=1))
    if not across:
        return None
    values, w = np.concatenate(across), np.concatenate(weights)
    found = []
    for k in range(2):
        order = np.argsort(values[:, k])
        sums = np.cumsum(w[order])
        found.append(float(values[order, k][np.searchsorted(sums, sums[-1] / 2)]))
    return (found[0], found[1]) if min(found) > 1e-6 else None


def painted(pieces: list[Piece], size: tuple[int, int], shared: NDArray[np.float64] | None) -> NDArray[np.float32] | str | None:
    """Colours of corners over the sheet, linear, shape (H, W, 4).

    Returns
    -------
    array, or None where there are none; words where they cannot be drawn.

    Notes
    -----
    Where pieces of the UVs lie over each other the last one counts; between them white. Triangles that repeat the sheet cannot
    give each repeat a colour of its own.

    >>> painted([], (4, 4), None) is None
    True
    """
    coloured = [p for p in pieces if p.colour is not None and len(p.triangles)]
    if not coloured:
        return None
    every = np.concatenate([np.asarray(p.colour) for p in coloured])
    if np.ptp(every, axis=0).max() < 1e-6:
        one = _four(every[:1])[0]
        if len(coloured) == len(pieces):
            return None if np.allclose(one, 1) else np.asarray(np.broadcast_to(one, (size[1], size[0], 4)), np.float32)
    if sum(len(p.triangles) for p in coloured) > MOST_TRIANGLES:
        return "vertex colour: the model has too many triangles"
    w, h = size
    out = np.ones((h, w, 4), np.float32)
    for p in coloured:
        uv = p.uv.get(0)
        if uv is None:
            return "vertex colour: the model has no UVs to draw it by"
        if shared is not None:
            uv = (np.column_stack([uv[:, :2], np.ones(len(uv))]) @ shared.T)[:, :2]
        inside = uv[p.triangles]
        if inside.min() < -1e-4 or inside.max() > 1 + 1e-4:
            return "vertex colour: the sheet repeats on the model, and each repeat has colours of its own"
        colours = _four(np.asarray(p.colour))
        for corner in p.triangles:
            _fill(out, uv[corner] * (w, h) - 0.5, colours[corner])
    return out


def _four(colour: NDArray[np.float64]) -> NDArray[np.float64]:
    return colour if colour.shape[1] == 4 else np.column_stack([colour[:, :3], np.ones(len(colour))])


def _fill(out: NDArray[np.float32], at: NDArray[np.float64], colour: NDArray[np.float64]) -> None:
    """One triangle by its barycentric coordinates; a texel on its edge belongs to it, and half a texel around it."""
    h, w = out.shape[:2]
    x0, y0 = (int(max(0, np.floor(v - 0.5))) for v in at.min(axis=0))
    x1, y1 = int(min(w - 1, np.ceil(at[:, 0].max() + 0.5))), int(min(h - 1, np.ceil(at[:, 1].max() + 0.5)))
    if x1 < x0 or y1 < y0:
        return
    (ax, ay), (bx, by), (cx, cy) = at
    area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
    if abs(area) < 1e-12:
        return
    y, x = np.mgrid[y0 : y1 + 1, x0 : x1 + 1]
    v = ((x - ax) * (cy - ay) - (y - ay) * (cx - ax)) / area
    t = ((bx - ax) * (y - ay) - (by - ay) * (x - ax)) / area
    u = 1 - v - t
    around = 0.75 * np.array([np.hypot(cx - bx, cy - by), np.hypot(cx - ax, cy - ay), np.hypot(bx - ax, by - ay)]) / abs(area)
    inside = (u >= -around[0]) & (v >= -around[1]) & (t >= -around[2])
    mixed = u[..., None] * colour[0] + v[..., None] * colour[1] + t[..., None] * colour[2]
    part = out[y0 : y1 + 1, x0 : x1 + 1]
    part[inside] = np.clip(mixed, 0, 1)[inside].astype(np.float32)
