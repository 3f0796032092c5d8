"""Made-up surfaces of known height, normals, albedo and elements, photographed by code under sun and under an overcast sky."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cache

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.srgb import decode_srgb, encode_srgb
from silent_loom.core.maps.horizon import sky_of
from silent_loom.core.steps.maps.normal import from_height

SIDE_MM = 1000.0
Made = tuple[Floats, Floats, NDArray[np.int64] | None]
"""Height in mm, linear albedo, element ids."""


@dataclass(frozen=True)
class Surface:
    """A surface and a photo of it.

    Attributes
    ----------
    height : Image, millimetres
    albedo : float32 array, shape (H, W, 3), linear
    photo : Image, as it came out of an 8-bit file
    ids : int array, or None
    light_deg : where the sun stood, None under an overcast sky
    contradicts : the albedo says something else than the depth
    """

    name: str
    height: Image
    albedo: Floats
    photo: Image
    ids: NDArray[np.int64] | None
    light_deg: float | None
    contradicts: bool


def noise(n: int, sigma: float, seed: int) -> Floats:
    """Periodic Gaussian noise of unit variance."""
    out = gaussian_filter(np.random.default_rng(seed).standard_normal((n, n)), sigma, mode="wrap")
    made: Floats = (out / out.std()).astype(np.float32)
    return made


def tinted(grey: Floats, rgb: tuple[float, float, float]) -> Floats:
    return (grey[..., None] * np.array(rgb)).astype(np.float32)


def bricks(n: int, seed: int, pale: bool) -> Made:
    rows, cols = 10, 5
    rng = np.random.default_rng(seed)
    y, x = np.mgrid[:n, :n]
    bh, bw, k = n / rows, n / cols, n / 512
    row = (y // bh).astype(int)
    xx = (x + (row % 2) * bw / 2) % n
    ids = row * cols + (xx // bw).astype(int) + 1
    edge = np.minimum(np.minimum(xx % bw, bw - xx % bw), np.minimum(y % bh, bh - y % bh)) + 1.2 * k * noise(n, 4 * k, seed + 1)
    body = np.clip((edge - 3 * k) / (2 * k), 0, 1)
    lift, tint = rng.normal(0, 0.4, rows * cols + 1), rng.normal(0, 0.12, rows * cols + 1)
    height = body * 5 + lift[ids] * body + 0.4 * noise(n, 3 * k, seed + 2) + 0.25 * noise(n, 1.2, seed + 3)
    clay = tinted(np.exp(tint[ids] + 0.1 * noise(n, 10 * k, seed + 6)), (0.35, 0.13, 0.08))
    lime = tinted(np.exp(0.08 * noise(n, 1.5, seed + 5)), (0.62, 0.6, 0.55) if pale else (0.16, 0.15, 0.14))
    return height.astype(np.float32), clay * body[..., None] + lime * (1 - body[..., None]), ids


def slates(n: int, seed: int, pale: bool) -> Made:
    rows, cols = 7, 6
    rng = np.random.default_rng(seed)
    y, x = np.mgrid[:n, :n]
    bh, bw, k = n / rows, n / cols, n / 512
    edge = y + 3 * k * noise(n, 6 * k, seed)
    row, t = np.floor(edge / bh).astype(int) % rows, (edge / bh) % 1
    xx = (x + (row % 2) * bw / 2 + 1.5 * k * noise(n, 8 * k, seed + 7)) % n
    ids = row * cols + (xx // bw).astype(int) + 1
    gap = np.minimum(xx % bw, bw - xx % bw) < 1.6 * max(k, 0.6)
    lift, tint = rng.normal(0, 0.5, rows * cols + 1), rng.normal(0, 0.18, rows * cols + 1)
    height = 5 * t + lift[ids] + 0.35 * noise(n, 5 * k, seed + 2) + 0.2 * noise(n, 1.2, seed + 3) - 4 * gap
    grey = np.exp(tint[ids] + 0.06 * noise(n, 3 * k, seed + 4)) * np.where(gap, 1.6 if pale else 0.4, 1)
    return height.astype(np.float32), tinted(grey, (0.13, 0.15, 0.17)), ids


def pebbles(n: int, seed: int, dark_tops: bool) -> Made:
    rng = np.random.default_rng(seed)
    gap = n / np.sqrt(90) * 0.62
    places: list[NDArray[np.float64]] = []
    for _ in range(6000):
        p = rng.random(2) * n
        if all(np.hypot(*np.minimum(abs(p - q), n - abs(p - q))) > gap for q in places):
            places.append(p)
    y, x = np.mgrid[:n, :n]
    k = n / 512
    wx, wy = x + 3 * k * noise(n, 8 * k, seed + 1), y + 3 * k * noise(n, 8 * k, seed + 2)
    far = np.stack(
        [np.hypot(*(np.minimum(np.abs(w - c) % n, n - np.abs(w - c) % n) for w, c in ((wx, p[0]), (wy, p[1])))) for p in places]
    )
    order = np.argsort(far, 0)
    ids = order[0] + 1
    first, second = (np.take_along_axis(far, order[i : i + 1], 0)[0] for i in (0, 1))
    dome = np.sqrt(np.clip(1 - (1 - np.clip((second - first) / 2 / (gap * 0.55), 0, 1)) ** 2, 0, 1))
    lift = rng.normal(0, 1.5, len(places) + 1)
    height = dome * 14 + lift[ids] * dome + 0.25 * noise(n, 2 * k, seed + 3)
    colours = np.abs(rng.normal([0.3, 0.27, 0.22], 0.08, (len(places) + 1, 3)))
    albedo = colours[ids] * np.exp(0.12 * noise(n, 12 * k, seed + 5))[..., None]
    if dark_tops:
        albedo = albedo * (1 - 0.6 * np.clip((dome - 0.7) / 0.3, 0, 1))[..., None]
    return height.astype(np.float32), albedo.astype(np.float32), ids


def planks(n: int, seed: int, painted: bool) -> Made:
    rng = np.random.default_rng(seed)
    y, x = np.mgrid[:n, :n]
    k = n / 512
    wide = n / 6
    ids = (x // wide).astype(int) + 1
    edge = np.minimum(x % wide, wide - x % wide)
    grain = gaussian_filter(np.random.default_rng(seed + 1).standard_normal((n, n)), (30 * k, 1.2 * k), mode="wrap")
    grain = grain / grain.std()
    lift = rng.normal(0, 0.5, 7)
    height = 0.35 * grain + lift[ids] - 4 * (edge < 2 * k)
    grey = np.exp(0.12 * grain + rng.normal(0, 0.1, 7)[ids])
    albedo = tinted(grey, (0.36, 0.25, 0.16)) * np.where(edge < 2 * k, 0.3, 1)[..., None]
    if painted:
        mark = (np.abs(((x + 0.7 * y) % (n / 2)) - n / 4) < n / 14)[..., None]
        albedo = np.where(mark, np.array([0.75, 0.72, 0.66]), albedo)
    return height.astype(np.float32), albedo.astype(np.float32), ids


def ribs(n: int, seed: int, rusty: bool) -> Made:
    _, x = np.mgrid[:n, :n]
    k = n / 512
    height = 9 * np.sin(2 * np.pi * 12 * x / n) + 0.2 * noise(n, 2 * k, seed)
    albedo = tinted(np.exp(0.05 * noise(n, 8 * k, seed + 1)), (0.4, 0.42, 0.44))
    if rusty:
        rust = np.clip(noise(n, 22 * k, seed + 2) - 0.2, 0, 1)[..., None]
        albedo = albedo * (1 - rust) + np.array([0.3, 0.12, 0.05]) * rust
    return height.astype(np.float32), albedo.astype(np.float32), None


def cloth(n: int, seed: int, striped: bool) -> Made:
    y, x = np.mgrid[:n, :n]
    u, v = np.sin(2 * np.pi * 48 * x / n), np.sin(2 * np.pi * 48 * y / n)
    over = np.sign(np.sin(np.pi * 48 * x / n) * np.sin(np.pi * 48 * y / n))
    height = 0.8 * np.where(over > 0, np.abs(u), np.abs(v)) + 1.2 * noise(n, n / 14, seed)
    albedo = tinted(np.exp(0.05 * noise(n, 2, seed + 1)), (0.55, 0.5, 0.42))
    if striped:
        albedo = np.where(((x * 8 // n) % 2 == 0)[..., None], albedo, albedo * np.array([0.3, 0.25, 0.45]))
    return height.astype(np.float32), albedo.astype(np.float32), None


def plaster(n: int, seed: int, stained: bool) -> Made:
    k = n / 512
    height = 1.2 * noise(n, 18 * k, seed) + 0.5 * noise(n, 4 * k, seed + 1) + 0.2 * noise(n, 1.5 * k, seed + 2)
    albedo = tinted(np.exp(0.03 * noise(n, 30 * k, seed + 3)), (0.62, 0.57, 0.48))
    if stained:
        stain = np.clip(height / 2.0, 0, 1)[..., None]
        albedo = albedo * (1 - 0.75 * stain * np.array([0.6, 0.8, 1.0]))
    return height.astype(np.float32), albedo.astype(np.float32), None


def cracked(n: int, seed: int, filled: bool) -> Made:
    height, _, ids = pebbles(n, seed, False)
    k = n / 512
    crack = np.clip(height / 3.0, 0, 1)
    made = 6 * crack + 0.4 * noise(n, 5 * k, seed + 8)
    albedo = tinted(np.exp(0.08 * noise(n, 6 * k, seed + 9)), (0.34, 0.28, 0.2))
    if filled:
        albedo = albedo * crack[..., None] + np.array([0.75, 0.74, 0.7]) * (1 - crack[..., None])
    return made.astype(np.float32), albedo.astype(np.float32), ids


def painted_flat(n: int, seed: int, _: bool) -> Made:
    """A flat wall with painted marks: hardly any height at all."""
    y, x = np.mgrid[:n, :n]
    k = n / 512
    height = 0.02 * noise(n, 2 * k, seed)
    albedo = np.ones((n, n, 3)) * np.array([0.7, 0.66, 0.58])
    for i, rgb in enumerate(((0.5, 0.1, 0.08), (0.1, 0.2, 0.45), (0.12, 0.35, 0.16), (0.75, 0.55, 0.1))):
        cx, cy, r = n * (0.25 + 0.5 * (i % 2)), n * (0.25 + 0.5 * (i // 2)), n * 0.17
        inside = (np.hypot(x - cx, y - cy) < r) if i % 2 else (np.maximum(abs(x - cx), abs(y - cy)) < r)
        albedo = np.where(inside[..., None], np.array(rgb), albedo)
    albedo = albedo * np.exp(0.01 * noise(n, 1, seed + 1))[..., None]
    return height.astype(np.float32), albedo.astype(np.float32), None


KINDS: tuple[tuple[str, Callable[[int, int, bool], Made]], ...] = (
    ("bricks", bricks),
    ("slates", slates),
    ("pebbles", pebbles),
    ("planks", planks),
    ("ribs", ribs),
    ("cloth", cloth),
    ("plaster", plaster),
    ("cracked mud", cracked),
)


def photographed(name: str, made: Made, light_deg: float | None, contradicts: bool, seed: int) -> Surface:
    """Lit by a sun 40° above the sheet and a sky, or by an even sky alone; 8 bits, a little noise."""
    height, albedo, ids = made
    image = Image(np.ascontiguousarray((height - height.mean())[..., None], np.float32), Kind.DATA, (SIDE_MM, SIDE_MM), True)
    normals = from_height(image).pixels
    sky = sky_of(image.plane(), normals, image.texel_mm, 150.0).seen
    light = sky if light_deg is None else 0.35 * sky + 0.85 * _sun(normals, light_deg)
    seen = albedo * (0.9 * light / max(float(light.mean()), 1e-6) * 0.6)[..., None]
    codes = np.rint(encode_srgb(np.clip(seen, 0, 1)) * 255 + np.random.default_rng(seed).normal(0, 0.8, albedo.shape))
    photo = decode_srgb(np.clip(codes, 0, 255) / 255).astype(np.float32)
    shot = Image(np.ascontiguousarray(photo), Kind.COLOUR, image.size_mm, True)
    return Surface(name, image, albedo.astype(np.float32), shot, ids, light_deg, contradicts)


def _sun(normals: Floats, light_deg: float) -> Floats:
    a, e = np.deg2rad(light_deg), np.deg2rad(40.0)
    toward = np.array([np.cos(a) * np.cos(e), np.sin(a) * np.cos(e), np.sin(e)], np.float32)
    return np.maximum(normals @ toward, 0)


@cache
def surfaces(n: int = 384) -> tuple[Surface, ...]:
    """Twenty-five: eight kinds three times (overcast, under the sun, with an albedo that contradicts the depth), and a painted wall."""
    found = []
    for i, (name, make) in enumerate(KINDS):
        sun = float((35 + 47 * i) % 360)
        found.append(photographed(f"{name}, overcast", make(n, 10 * i, False), None, False, i))
        found.append(photographed(f"{name}, sun", make(n, 10 * i + 3, False), sun, False, i))
        found.append(photographed(f"{name}, contradicting", make(n, 10 * i + 6, True), sun if i % 2 else None, True, i))
    found.append(photographed("painted wall", painted_flat(n, 5, True), 60.0, True, 5))
    return tuple(found)
