"""Many different made-up photos, by code: stochastic, structured, motif and directional, level and tilted."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from silent_loom.core.base.images import Image, Kind

Floats = NDArray[np.float32]
H, W = 600, 800


@dataclass(frozen=True)
class Made:
    """A made-up photo. Periods in pixels, before a tilt, for motifs only."""

    name: str
    kind: str
    image: Image
    period: tuple[float, float] | None = None


def _noise(rng: np.random.Generator, size: float, h: int = H, w: int = W) -> Floats:
    """Smooth noise with features of about ``size`` pixels, mean 0, deviation 1."""
    field = rng.standard_normal((h, w)).astype(np.float32)
    out = cv2.GaussianBlur(field, (0, 0), size / 2.5) if size > 0.8 else field
    return (out - out.mean()) / out.std()


def _fractal(rng: np.random.Generator, sizes: tuple[float, ...]) -> Floats:
    return sum(_noise(rng, s) * np.float32((s / sizes[0]) ** 0.5) for s in sizes)  # type: ignore[return-value]


def _tint(v: Floats, low: tuple[float, float, float], high: tuple[float, float, float]) -> Floats:
    t = np.clip(v, 0, 1)[..., None]
    return (np.array(low, np.float32) * (1 - t) + np.array(high, np.float32) * t).astype(np.float32)


def _cells(rng: np.random.Generator, spacing: float, stray: float = 0.45) -> tuple[Floats, Floats, NDArray[np.int64]]:
    """Distance to the nearest and second nearest of scattered points, and which is nearest."""
    ys, xs = np.mgrid[-2 : H / spacing + 2, -2 : W / spacing + 2]
    points = np.stack([xs, ys], -1).reshape(-1, 2) + rng.uniform(-stray, stray, (xs.size, 2))
    v, u = np.mgrid[0:H, 0:W]
    d, i = cKDTree(points * spacing).query(np.stack([u, v], -1).reshape(-1, 2), k=2)
    return d[:, 0].reshape(H, W).astype(np.float32), d[:, 1].reshape(H, W).astype(np.float32), i[:, 0].reshape(H, W)


def plaster(rng: np.random.Generator) -> Floats:
    return _tint(0.5 + 0.12 * _fractal(rng, (60, 20, 6, 2)), (0.4, 0.36, 0.3), (0.7, 0.66, 0.58))


def sand(rng: np.random.Generator) -> Floats:
    return _tint(0.5 + 0.2 * _noise(rng, 2) + 0.05 * _noise(rng, 30), (0.3, 0.22, 0.12), (0.75, 0.62, 0.4))


def gravel(rng: np.random.Generator) -> Floats:
    a, b, i = _cells(rng, 24)
    tone = rng.uniform(0.2, 0.9, i.max() + 1)[i].astype(np.float32)
    return _tint(tone * np.clip((b - a) / 7, 0.12, 1) + 0.05 * _noise(rng, 3), (0.03, 0.03, 0.03), (0.6, 0.55, 0.5))


def lichen(rng: np.random.Generator) -> Floats:
    spots = (_fractal(rng, (70, 25, 9)) > 0.9).astype(np.float32)
    base = _tint(0.5 + 0.15 * _noise(rng, 4), (0.12, 0.12, 0.12), (0.32, 0.32, 0.3))
    return base * (1 - spots[..., None]) + spots[..., None] * np.array([0.5, 0.5, 0.15], np.float32)


def grass(rng: np.random.Generator) -> Floats:
    out = np.full((H, W), 0.15, np.float32)
    for _ in range(9000):
        x, y, angle, tone = rng.uniform(0, W), rng.uniform(0, H), rng.normal(-1.57, 0.5), rng.uniform(0.2, 0.9)
        end = (int(x + 26 * np.cos(angle)), int(y + 26 * np.sin(angle)))
        cv2.line(out, (int(x), int(y)), end, float(tone), 1, cv2.LINE_AA)
    return _tint(out, (0.02, 0.04, 0.01), (0.35, 0.5, 0.12))


def rust(rng: np.random.Generator) -> Floats:
    return _tint(0.5 + 0.3 * np.tanh(2 * _fractal(rng, (90, 30, 8, 3))), (0.08, 0.03, 0.02), (0.5, 0.26, 0.12))


def cobbles(rng: np.random.Generator) -> Floats:
    a, b, i = _cells(rng, 70, 0.3)
    tone = rng.uniform(0.35, 0.8, i.max() + 1)[i].astype(np.float32)
    return _tint(tone * np.clip((b - a) / 16, 0.15, 1) + 0.06 * _noise(rng, 5), (0.04, 0.04, 0.04), (0.5, 0.48, 0.45))


def _courses(rng: np.random.Generator, height: float, length: float, wild: float, joint: float) -> Floats:
    out = np.zeros((H, W), np.float32)
    y = -rng.uniform(0, height)
    while y < H:
        tall = height * (1 + wild * rng.uniform(-0.3, 0.3))
        x = -rng.uniform(0, length)
        while x < W:
            long = length * (1 + wild * rng.uniform(-0.5, 0.5))
            cv2.rectangle(
                out,
                (int(x + joint), int(y + joint)),
                (int(x + long - joint), int(y + tall - joint)),
                float(rng.uniform(0.35, 0.85)),
                -1,
            )
            x += long
        y += tall
    return cv2.GaussianBlur(out, (0, 0), 1.2)


def rubble(rng: np.random.Generator) -> Floats:
    return _tint(
        _courses(rng, 62, 110, 1.0, 3) + 0.06 * _noise(rng, 4) + 0.05 * _noise(rng, 30), (0.05, 0.05, 0.05), (0.5, 0.47, 0.42)
    )


def planks(rng: np.random.Generator) -> Floats:
    grain = cv2.GaussianBlur(rng.standard_normal((H, W)).astype(np.float32), (0, 0), 30, sigmaY=1.2)
    return _tint(_courses(rng, 76, 420, 0.4, 1) + 2.0 * grain, (0.05, 0.03, 0.02), (0.5, 0.33, 0.18))


def slate(rng: np.random.Generator) -> Floats:
    return _tint(_courses(rng, 54, 90, 0.5, 2) * 0.6 + 0.08 * _fractal(rng, (40, 12, 4)), (0.03, 0.04, 0.05), (0.25, 0.28, 0.3))


def cracks(rng: np.random.Generator) -> Floats:
    a, b, _ = _cells(rng, 100, 0.48)
    return _tint(np.clip((b - a) / 5, 0.1, 1) * 0.6 + 0.08 * _fractal(rng, (50, 12, 4)), (0.1, 0.07, 0.05), (0.6, 0.5, 0.4))


def flakes(rng: np.random.Generator) -> Floats:
    steps = np.floor(2.2 * _fractal(rng, (120, 40, 14)))
    return _tint(0.5 + 0.12 * steps + 0.03 * _noise(rng, 3), (0.1, 0.16, 0.2), (0.6, 0.66, 0.6))


def _lattice(px: float, py: float, shift: float, draw: Callable[[Floats, Floats], Floats], angle: float = 0.0) -> Floats:
    """A function of the place inside a cell, −½…½ each way; every other row is shifted by a part of the period."""
    v, u = np.mgrid[0:H, 0:W].astype(np.float32)
    u, v = u * np.cos(angle) - v * np.sin(angle), u * np.sin(angle) + v * np.cos(angle)
    row = np.floor(v / py)
    s = (u / px + shift * (row % 2)) % 1 - 0.5
    return draw(s.astype(np.float32), (v / py % 1 - 0.5).astype(np.float32))


def tiles(rng: np.random.Generator, px: float = 97.3, py: float = 97.3) -> Floats:
    joint = _lattice(px, py, 0, lambda s, t: np.clip((0.5 - np.maximum(abs(s), abs(t))) * 16, 0, 1))
    return _tint(0.2 + 0.6 * joint + 0.04 * _noise(rng, 3) + 0.03 * _noise(rng, 40), (0.1, 0.1, 0.1), (0.5, 0.6, 0.62))


def bond(rng: np.random.Generator, px: float = 131.0, py: float = 47.6) -> Floats:
    def brick(s: Floats, t: Floats) -> Floats:
        return np.clip(np.minimum((0.5 - abs(s)) * 26, (0.5 - abs(t)) * 10), 0, 1)

    v, u = np.mgrid[0:H, 0:W]
    row = np.floor(v / py).astype(int)
    column = np.floor(u / px + 0.5 * (row % 2)).astype(int)
    tone = rng.uniform(0.5, 0.9, (64, 64))[row % 64, column % 64].astype(np.float32)
    return _tint(_lattice(px, py, 0.5, brick) * tone + 0.05 * _noise(rng, 3), (0.3, 0.28, 0.25), (0.5, 0.16, 0.08))


def wallpaper(rng: np.random.Generator, px: float = 120.4, py: float = 150.7) -> Floats:
    def flower(s: Floats, t: Floats) -> Floats:
        r, a = np.hypot(s, t), np.arctan2(t, s)
        petals = (r < 0.26 + 0.1 * np.cos(5 * a)).astype(np.float32)
        stalk = ((abs(s - 0.1 * np.sin(6 * t)) < 0.03) & (t > 0)).astype(np.float32)
        return cv2.GaussianBlur(np.maximum(petals * (0.5 + r), stalk), (0, 0), 1)

    return _tint(_lattice(px, py, 0.5, flower) + 0.03 * _noise(rng, 2), (0.7, 0.68, 0.6), (0.15, 0.3, 0.28))


def cloth(rng: np.random.Generator, px: float = 17.15, py: float = 17.15) -> Floats:
    def thread(s: Floats, t: Floats) -> Floats:
        over = (s * t > 0).astype(np.float32)
        return over * (0.55 + 0.4 * np.cos(np.pi * 2 * t)) + (1 - over) * (0.45 + 0.4 * np.cos(np.pi * 2 * s))

    return _tint(
        _lattice(2 * px, 2 * py, 0, thread) + 0.08 * _noise(rng, 3) + 0.05 * _noise(rng, 50), (0.2, 0.18, 0.14), (0.7, 0.66, 0.56)
    )


def hexes(rng: np.random.Generator, px: float = 78.0, py: float = 67.5) -> Floats:
    def comb(s: Floats, t: Floats) -> Floats:
        x, y = s * px, t * py
        return np.clip((0.5 * px - np.maximum(abs(x), 0.5 * abs(x) + 0.866 * abs(y))) / 4, 0, 1)

    return _tint(_lattice(px, py, 0.5, comb) * 0.7 + 0.05 * _noise(rng, 3), (0.1, 0.1, 0.12), (0.62, 0.6, 0.55))


def dots(rng: np.random.Generator, px: float = 61.7, py: float = 53.2) -> Floats:
    return _tint(
        _lattice(px, py, 0.5, lambda s, t: np.clip((0.3 - np.hypot(s, t)) * 20, 0, 1)) + 0.04 * _noise(rng, 3),
        (0.6, 0.6, 0.62),
        (0.1, 0.12, 0.3),
    )


def grain(rng: np.random.Generator) -> Floats:
    lines = cv2.GaussianBlur(rng.standard_normal((H, W)).astype(np.float32), (0, 0), 60, sigmaY=1.0)
    return _tint(0.5 + 3.5 * lines + 0.1 * _noise(rng, 60), (0.1, 0.05, 0.02), (0.55, 0.35, 0.2))


def brushed(rng: np.random.Generator) -> Floats:
    lines = cv2.GaussianBlur(rng.standard_normal((H, W)).astype(np.float32), (0, 0), 40, sigmaY=0.6)
    return _tint(0.6 + 1.6 * lines, (0.2, 0.2, 0.21), (0.6, 0.6, 0.62))


def fur(rng: np.random.Generator) -> Floats:
    out = np.full((H, W), 0.3, np.float32)
    bend = 0.5 * _noise(rng, 120)
    for _ in range(14000):
        x, y, tone = rng.integers(0, W), rng.integers(0, H), rng.uniform(0.1, 0.9)
        angle = 0.5 + bend[y, x] + rng.normal(0, 0.15)
        cv2.line(out, (int(x), int(y)), (int(x + 30 * np.cos(angle)), int(y + 30 * np.sin(angle))), float(tone), 1, cv2.LINE_AA)
    return _tint(out, (0.05, 0.03, 0.02), (0.5, 0.4, 0.3))


def ripples(rng: np.random.Generator) -> Floats:
    v = np.mgrid[0:H, 0:W][0].astype(np.float32)
    return _tint(
        0.5 + 0.3 * np.sin(v / 5.5 + 2.4 * _noise(rng, 130)) + 0.05 * _noise(rng, 3), (0.25, 0.2, 0.14), (0.6, 0.5, 0.36)
    )


STOCHASTIC = (plaster, sand, gravel, lichen, grass, rust)
STRUCTURED = (cobbles, rubble, planks, slate, cracks, flakes)
MOTIF = (tiles, bond, wallpaper, cloth, hexes, dots)
DIRECTIONAL = (grain, brushed, fur, ripples)
PERIODS = {
    "tiles": (97.3, 97.3),
    "bond": (131.0, 95.2),
    "wallpaper": (120.4, 301.4),
    "cloth": (34.3, 34.3),
    "hexes": (78.0, 135.0),
    "dots": (61.7, 106.4),
}
"""Width and height of the smallest rectangular repeat."""


def tilted(light: Floats, rng: np.random.Generator, much: float = 0.02) -> Floats:
    """The picture seen a little askew: corners move by up to ``much`` of the size."""
    corners = np.float32([[0, 0], [W, 0], [W, H], [0, H]])
    moved = corners + rng.uniform(-much, much, (4, 2)).astype(np.float32) * (W, H)
    inner = moved * np.float32(1 + 2 * much) - np.float32([W, H]) * np.float32(much)
    m = cv2.getPerspectiveTransform(corners, inner.astype(np.float32))
    return cv2.warpPerspective(light, m, (W, H), flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_REFLECT).astype(np.float32)


def as_shot(light: Floats, rng: np.random.Generator) -> Image:
    """With the blur and the noise of a camera."""
    out = cv2.GaussianBlur(light, (0, 0), 0.7) + rng.normal(0, 0.004, light.shape).astype(np.float32)
    return Image(np.ascontiguousarray(np.clip(out, 0.001, 1), np.float32), Kind.COLOUR, (float(W), float(H)))


def photos() -> Iterator[Made]:
    """All of them, the same every time: 22 level, and those that can be seen askew so once more."""
    groups = {"stochastic": STOCHASTIC, "structured": STRUCTURED, "motif": MOTIF, "directional": DIRECTIONAL}
    for g, (kind, makers) in enumerate(groups.items()):
        for i, make in enumerate(makers):
            rng = np.random.default_rng(100 * g + i)
            light = make(rng)
            yield Made(make.__name__, kind, as_shot(light, rng), PERIODS.get(make.__name__))
            if i % 2 == 0:
                yield Made(f"{make.__name__}, askew", kind, as_shot(tilted(light, rng), rng), PERIODS.get(make.__name__))
