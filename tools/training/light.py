"""Light on a made-up surface: a sun with cast shadows, a sky, what walls and ground throw back, a gloss."""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np

from silent_loom.core.maps.horizon import sky_of
from tools.training.colours import Paint
from tools.training.reliefs import Plane, Random

JITTER_DEG = 20.0
"""How far the sun stands from where it is said to stand, at most."""


@dataclass(frozen=True)
class Lit:
    """A surface under light.

    Attributes
    ----------
    light : float32 array, shape (N, N, 3)
        What comes off it, linear; 1 is white in full light.
    shading : float32 array, shape (N, N)
        Against that of a flat, open place.
    occlusion : float32 array, shape (N, N)
        Share of the sky that is seen.
    sun : bool
        There is one; else the sky is overcast.
    """

    light: Plane
    shading: Plane
    occlusion: Plane
    sun: bool


def normals(height: Plane) -> Plane:
    """Unit vectors: x to the right, y down, z out."""
    gy, gx = np.gradient(height)
    n = np.stack([-gx, -gy, np.ones_like(gx)], -1)
    return (n / np.linalg.norm(n, axis=-1, keepdims=True)).astype(np.float32)


def lit(rng: Random, height: Plane, paint: Paint) -> Lit:
    """Light from the right (the sun stands at +x, give or take `JITTER_DEG`), or from all over."""
    n = normals(height)
    up = n * np.array([1, -1, 1], np.float32)  # as the core has normals: y up
    seen = sky_of(height, np.ascontiguousarray(up), (1.0, 1.0), float(rng.uniform(12, 40)), fine=True).seen
    seen = np.asarray(seen, np.float32).reshape(height.shape)
    sun = bool(rng.random() < 0.7)
    turn = np.radians(rng.uniform(-JITTER_DEG, JITTER_DEG))
    rise = np.radians(rng.uniform(18, 68))
    way = np.array([np.cos(turn) * np.cos(rise), np.sin(turn) * np.cos(rise), np.sin(rise)])
    sky = rng.uniform(0.25, 1.1) if sun else 1.0
    lean = np.array([rng.normal(0, 0.35), rng.normal(0, 0.35), 1.0])  # brighter on one side
    lean /= np.linalg.norm(lean)
    dome = seen * (0.5 + 0.5 * (n @ lean)).astype(np.float32) * np.float32(sky)
    bare = 0.5 * (1 + lean[2]) * sky
    direct = np.zeros_like(dome)
    if sun:
        open_ = (
            sum(_shadows(height, way[0], way[1], float(np.tan(rise * f))) for f in (0.96, 1.0, 1.04)) / 3
        )  # a disc, not a point
        direct = np.maximum(0, n @ way).astype(np.float32) * open_
        bare += way[2]
    mean = float(paint.colour.mean())
    thrown = np.float32(mean * rng.uniform(0.3, 1.0)) * (1 - seen) * np.float32(bare)
    shading = (direct + dome + thrown) / np.float32(bare)
    light = paint.colour * shading[..., None]
    if rng.random() < 0.5:
        light = light + _gloss(n, way if sun else lean, paint.roughness)[..., None] * np.float32(
            rng.uniform(0.02, 0.12)
        ) * open_or(direct, sun)
    warm = np.array([1 + rng.normal(0, 0.06), 1.0, 1 + rng.normal(0, 0.06)], np.float32)
    return Lit((light * warm).astype(np.float32), shading.astype(np.float32), seen, sun)


def open_or(direct: Plane, sun: bool) -> Plane:
    """Where a gloss can show: not in the shadow of the sun."""
    return (direct > 0).astype(np.float32)[..., None] if sun else np.ones((*direct.shape, 1), np.float32)


def _gloss(n: Plane, way: np.ndarray, roughness: Plane) -> Plane:
    """Blinn's lobe with the width of GGX (Walter et al. 2007), seen from straight above."""
    half = way + np.array([0.0, 0.0, 1.0])
    half /= np.linalg.norm(half)
    a2 = np.maximum(roughness, 0.12) ** 4
    d = np.square(np.maximum(0, n @ half)) * (a2 - 1) + 1
    return (a2 / np.maximum(np.square(d), 1e-6) * 0.25).clip(0, 12).astype(np.float32)


@numba.njit(cache=True, fastmath=True)
def _shadows(height, dx, dy, climb):  # type: ignore[no-untyped-def]
    """1 where the sun is seen, 0 in cast shadow: a ray toward the sun (dx, dy), which rises ``climb`` a texel."""
    h, w = height.shape
    out = np.ones((h, w), np.float32)
    length = np.sqrt(dx * dx + dy * dy)
    dx, dy = dx / length, dy / length
    top = height.max()
    for y in range(h):
        for x in range(w):
            at = height[y, x] + np.float32(0.02)
            steps = min(160, int((top - at) / climb) + 1)
            for k in range(1, steps):
                u, v = x + dx * k, y + dy * k
                if u < 0 or v < 0 or u >= w - 1 or v >= h - 1:
                    break
                i, j = int(u), int(v)
                a, b = u - i, v - j
                there = (height[j, i] * (1 - a) + height[j, i + 1] * a) * (1 - b) + (
                    height[j + 1, i] * (1 - a) + height[j + 1, i + 1] * a
                ) * b
                if there > at + climb * k:
                    out[y, x] = 0.0
                    break
    return out
