"""Known surfaces: height, colour and roughness of materials aboard Skerry Light, made by code."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.srgb import decode_srgb


@dataclass(frozen=True)
class Surface:
    """The truth behind a photo.

    Attributes
    ----------
    height : float32 array, shape (H, W), millimetres
    colour : float32 array, shape (H, W, 3), linear Rec. 709 albedo
    roughness : float32 array, shape (H, W), 0…1
    size_mm : tuple of float
    """

    height: Floats
    colour: Floats
    roughness: Floats
    size_mm: tuple[float, float]


Array = NDArray[Any]


def noise(shape: tuple[int, int], cell: float, seed: int, octaves: int = 4, gain: float = 0.5) -> Floats:
    """Fractal value noise around 0 with unit spread; ``cell`` is its largest feature in texels."""
    rng = np.random.default_rng(seed)
    total, weight = np.zeros(shape, np.float32), 1.0
    for _ in range(octaves):
        n, m = max(2, int(shape[0] / cell) + 3), max(2, int(shape[1] / cell) + 3)
        grid = rng.normal(size=(n, m)).astype(np.float32)
        total += np.float32(weight) * cv2.resize(grid, (shape[1], shape[0]), interpolation=cv2.INTER_CUBIC)
        weight, cell = weight * gain, max(1.5, cell / 2)
    return ((total - total.mean()) / total.std()).astype(np.float32)


def step(a: float, b: float, x: Array) -> Array:
    t = np.clip((x - a) / (b - a), 0, 1)
    return t * t * (3 - 2 * t)


def srgb(*values: float) -> Array:
    return decode_srgb(np.array(values) / 255)


def grid(shape: tuple[int, int], texel: float) -> tuple[Array, Array]:
    y, x = np.mgrid[0 : shape[0], 0 : shape[1]].astype(np.float32)
    return (x + 0.5) * texel, (y + 0.5) * texel


def mix(a: Array, b: Array, t: Array) -> Array:
    return a + (b - a) * t[..., None]


def slate(shape: tuple[int, int], texel: float, seed: int = 11) -> Surface:
    """Slates on the keeper's roof: overlapping courses, each slate its own grey, a little lichen."""
    x, y = grid(shape, texel)
    wobble = noise(shape, 60 / texel, seed) * 1.6
    course_h, slate_w = 130.0, 190.0
    row = np.floor((y + wobble) / course_h)
    rng = np.random.default_rng(seed)
    shift = rng.uniform(-22, 22, 4096)
    xs = x + noise(shape, 90 / texel, seed + 1) * 1.6 + row * slate_w / 2 + shift[(row.astype(int)) % 4096]
    col = np.floor(xs / slate_w)
    ident = ((row * 7919 + col * 104729).astype(np.int64) % 4096).astype(int)
    u, v = xs / slate_w - col, (y + wobble) / course_h - row
    edge = np.minimum(np.minimum(u, 1 - u) * slate_w, np.minimum(v, 1 - v) * course_h)
    lift, lean = rng.uniform(0, 1, 4096)[ident], rng.uniform(-1, 1, 4096)[ident]
    grain = noise(shape, 26 / texel, seed + 2, 5, 0.62)
    flakes = noise((shape[0], shape[1]), 110 / texel, seed + 3, 5, 0.55)
    height = 3.2 * v + 2.0 * lift + 0.9 * lean * (u - 0.5) + 0.45 * grain + 0.8 * step(0.3, 0.55, flakes)
    gap = 1 - step(1.0, 4.5, edge)
    height = height - 6.0 * gap
    tone = rng.normal(0, 1, 4096)[ident]
    warm = rng.uniform(0, 1, 4096)[ident]
    base = mix(np.broadcast_to(srgb(88, 94, 98), (*shape, 3)), np.broadcast_to(srgb(104, 102, 103), (*shape, 3)), warm)
    base = base * np.exp(0.16 * tone + 0.10 * grain + 0.07 * flakes)[..., None]
    spots = noise(shape, 34 / texel, seed + 4, 4) + 0.5 * noise(shape, 200 / texel, seed + 5, 2)
    lichen = step(1.75, 2.2, spots) * (1 - gap)
    base = mix(base, np.broadcast_to(srgb(146, 142, 106), (*shape, 3)), lichen * 0.8)
    base = mix(base, np.broadcast_to(srgb(28, 29, 30), (*shape, 3)), gap * 0.85)
    rough = np.clip(0.55 + 0.06 * grain + 0.3 * lichen + 0.1 * gap, 0.2, 1)
    return surface(height + 0.5 * lichen, base, rough, shape, texel)


def plaster(shape: tuple[int, int], texel: float, seed: int = 23) -> Surface:
    """Oyster-shell lime plaster: trowelled, with broken shell showing."""
    soft = noise(shape, 170 / texel, seed, 3)
    trowel = noise((shape[0] // 3 + 1, shape[1]), 60 / texel, seed + 1, 5, 0.6)
    trowel = cv2.resize(trowel, (shape[1], shape[0]), interpolation=cv2.INTER_CUBIC)
    grit = noise(shape, 7 / texel, seed + 2, 3, 0.7)
    height = 1.2 * soft + 0.8 * trowel + 0.25 * grit
    base = np.broadcast_to(srgb(206, 198, 182), (*shape, 3)) * np.exp(0.05 * soft + 0.05 * trowel + 0.05 * grit)[..., None]
    rng = np.random.default_rng(seed)
    x, y = grid(shape, texel)
    rough = np.clip(0.86 + 0.03 * grit, 0, 1)
    area = shape[0] * shape[1] * texel * texel
    for _ in range(int(area / 1600)):
        cx, cy = rng.uniform(0, shape[1] * texel), rng.uniform(0, shape[0] * texel)
        a, b, t = rng.uniform(4, 13), rng.uniform(2.5, 7), rng.uniform(0, np.pi)
        i0, i1 = max(0, int((cy - a) / texel)), min(shape[0], int((cy + a) / texel) + 2)
        j0, j1 = max(0, int((cx - a) / texel)), min(shape[1], int((cx + a) / texel) + 2)
        if i1 <= i0 or j1 <= j0:
            continue
        px, py = x[i0:i1, j0:j1] - cx, y[i0:i1, j0:j1] - cy
        u, v = (px * np.cos(t) + py * np.sin(t)) / a, (-px * np.sin(t) + py * np.cos(t)) / b
        r = np.sqrt(u * u + v * v)
        shell = 1 - step(0.82, 1.0, r + 0.06 * grit[i0:i1, j0:j1])
        ribs = np.sin(r * 14 + rng.uniform(0, 6))
        height[i0:i1, j0:j1] += shell * (0.7 * (1 - r * r).clip(0, 1) + 0.08 * ribs)
        tint = srgb(*(np.array([150, 150, 156]) + rng.uniform(-34, 50) * np.array([1, 0.98, 0.92])).tolist())
        base[i0:i1, j0:j1] = mix(base[i0:i1, j0:j1], tint * (1 + 0.09 * ribs[..., None]), shell * 0.85)
        rough[i0:i1, j0:j1] += shell * (0.42 - rough[i0:i1, j0:j1]) * 0.8
    return surface(height, base, rough, shape, texel)


def hull(shape: tuple[int, int], texel: float, seed: int = 37) -> Surface:
    """Hull plates under flaking paint: riveted laps, red lead under bottle green, rust where both are gone."""
    x, y = grid(shape, texel)
    plate_w, plate_h, pitch = 620.0, 430.0, 48.0
    row = np.floor(y / plate_h)
    xs = x + (row % 2) * plate_w / 2
    u, v = xs % plate_w, y % plate_h
    height = 1.5 * (1 - step(40, 44, v)) + 1.5 * (1 - step(40, 44, u)) + 0.5 * noise(shape, 300 / texel, seed, 2)
    near_x, near_y = (u + pitch / 2) % pitch - pitch / 2, (v + pitch / 2) % pitch - pitch / 2
    r = np.minimum(np.hypot(near_x, v - 20), np.hypot(u - 20, near_y))
    rivet = np.sqrt(np.clip(1 - (r / 9.5) ** 2, 0, 1))
    height = height + 3.4 * rivet
    wear = 0.65 * noise(shape, 150 / texel, seed + 1, 6, 0.58) + 0.35 * noise(shape, 26 / texel, seed + 2, 4, 0.6)
    wear = wear + 0.35 * rivet + 0.3 * (np.minimum(u, v) < 48)
    top, primer = 1 - step(0.52, 0.56, wear), 1 - step(0.86, 0.90, wear)
    rust_noise = noise(shape, 30 / texel, seed + 3, 5, 0.65)
    rust = mix(
        np.broadcast_to(srgb(70, 48, 38), (*shape, 3)),
        np.broadcast_to(srgb(112, 76, 54), (*shape, 3)),
        step(-1, 1.4, rust_noise),
    )
    green = np.broadcast_to(srgb(58, 76, 70), (*shape, 3)) * np.exp(0.05 * noise(shape, 210 / texel, seed + 4, 4))[..., None]
    red = np.broadcast_to(srgb(122, 70, 58), (*shape, 3)) * np.exp(0.06 * noise(shape, 40 / texel, seed + 5, 4))[..., None]
    base = mix(mix(rust, red, primer), green, top)
    height = height + 0.5 * primer + 0.8 * top + 0.30 * rust_noise * (1 - primer) + 0.05 * noise(shape, 8 / texel, seed + 6, 3)
    streak = cv2.GaussianBlur((1 - primer).astype(np.float32), (0, 0), sigmaX=max(1.0, 2 / texel), sigmaY=max(1.0, 26 / texel))
    base = mix(base, np.broadcast_to(srgb(110, 70, 44), (*shape, 3)), np.clip(streak * 0.8, 0, 0.45) * top)
    rough = np.clip(0.88 * (1 - primer) + (0.62 * (1 - top) + 0.34 * top) * primer + 0.03 * rust_noise, 0.1, 1)
    return surface(height, base, rough, shape, texel)


def tiles(shape: tuple[int, int], texel: float, seed: int = 53) -> Surface:
    """Glazed galley tiles: a regular grid, a painted knot in each corner, crazed glaze, grey joints."""
    x, y = grid(shape, texel)
    size, joint = 98.0, 3.2
    pitch = size + joint
    col, row = np.floor(x / pitch), np.floor(y / pitch)
    u, v = x - col * pitch - joint / 2, y - row * pitch - joint / 2
    rng = np.random.default_rng(seed)
    ident = ((row * 7919 + col * 104729).astype(np.int64) % 4096).astype(int)
    edge = np.minimum(np.minimum(u, size - u), np.minimum(v, size - v))
    body = step(0.0, 1.6, edge)
    pillow = np.clip(edge / 6, 0, 1)
    height = 2.2 * body + 0.5 * np.sqrt(pillow) + rng.uniform(-0.25, 0.25, 4096)[ident] + 0.05 * noise(shape, 50 / texel, seed, 3)
    glaze = (
        np.broadcast_to(srgb(214, 216, 204), (*shape, 3))
        * np.exp(0.035 * rng.normal(0, 1, 4096)[ident] + 0.02 * noise(shape, 70 / texel, seed + 1, 3))[..., None]
    )
    cu, cv = np.minimum(u, size - u), np.minimum(v, size - v)
    arc = np.abs(np.hypot(cu, cv) - 30)
    ring = np.abs(np.hypot(u - size / 2, v - size / 2) - 19)
    petal = np.abs(np.sin(2 * np.arctan2(v - size / 2, u - size / 2))) * 15 + 1
    flower = np.hypot(u - size / 2, v - size / 2) - petal
    ink = np.maximum.reduce([1 - step(1.2, 2.4, arc), 1 - step(1.0, 2.0, ring), 1 - step(-1.0, 0.6, flower)])
    ink = ink * (0.78 + 0.12 * noise(shape, 9 / texel, seed + 2, 3)).clip(0, 1)
    base = mix(glaze, np.broadcast_to(srgb(38, 70, 116), (*shape, 3)), ink)
    grout = np.broadcast_to(srgb(128, 122, 112), (*shape, 3)) * np.exp(0.12 * noise(shape, 8 / texel, seed + 3, 3))[..., None]
    base = mix(grout, base, body)
    rough = np.clip(0.9 * (1 - body) + 0.14 * body + 0.02 * noise(shape, 60 / texel, seed + 4, 3), 0.05, 1)
    return surface(height, base, rough, shape, texel)


def sailcloth(shape: tuple[int, int], texel: float, seed: int = 71) -> Surface:
    """Sailcloth: plain weave of uneven flax yarn, a stitched seam left out."""
    x, y = grid(shape, texel)
    pitch = 4.2
    x = x + 0.5 * noise(shape, 60 / texel, seed, 3)
    y = y + 0.5 * noise(shape, 60 / texel, seed + 1, 3)
    i, j = np.floor(x / pitch), np.floor(y / pitch)
    u, v = x / pitch - i - 0.5, y / pitch - j - 0.5
    rng = np.random.default_rng(seed)
    warp_w, weft_w = rng.normal(1, 0.09, 4096)[i.astype(int) % 4096], rng.normal(1, 0.12, 4096)[j.astype(int) % 4096]
    over = ((i + j) % 2).astype(np.float32)
    warp = np.sqrt(np.clip(1 - (u / (0.47 * warp_w)) ** 2, 0, 1)) * (0.6 + 0.4 * np.cos(np.pi * v) * (2 * over - 1))
    weft = np.sqrt(np.clip(1 - (v / (0.47 * weft_w)) ** 2, 0, 1)) * (0.6 + 0.4 * np.cos(np.pi * u) * (1 - 2 * over))
    height = (
        1.1 * np.maximum(warp, weft) + 0.05 * noise(shape, 3 / texel, seed + 2, 2) + 0.3 * noise(shape, 120 / texel, seed + 3, 2)
    )
    fibre = noise(shape, 5 / texel, seed + 4, 3)
    tint = np.where(warp > weft, rng.normal(0, 1, 4096)[i.astype(int) % 4096], rng.normal(0, 1, 4096)[j.astype(int) % 4096])
    base = (
        np.broadcast_to(srgb(188, 174, 146), (*shape, 3))
        * np.exp(0.06 * tint + 0.05 * fibre + 0.04 * noise(shape, 150 / texel, seed + 5, 3))[..., None]
    )
    base = base * (0.42 + 0.58 * np.clip(np.maximum(warp, weft), 0, 1))[..., None]
    return surface(height, base, np.clip(0.82 + 0.03 * fibre, 0, 1), shape, texel)


def surface(height: Array, colour: Array, rough: Array, shape: tuple[int, int], texel: float) -> Surface:
    return Surface(
        np.asarray(height, np.float32),
        np.clip(colour, 0.002, 0.95).astype(np.float32),
        np.asarray(rough, np.float32),
        (shape[1] * texel, shape[0] * texel),
    )
