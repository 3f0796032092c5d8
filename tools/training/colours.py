"""Colours of a made-up surface: what misleads is drawn as often as what helps."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np

from tools.training.reliefs import Plane, Random, Relief, fractal


@dataclass(frozen=True)
class Paint:
    """What a surface is made of.

    Attributes
    ----------
    colour : float32 array, shape (N, N, 3)
        Linear reflectance, 0.01…0.92.
    roughness : float32 array, shape (N, N)
        0…1.
    """

    colour: Plane
    roughness: Plane


def painted(rng: Random, relief: Relief, other: Relief | None = None) -> Paint:
    """Colours and roughness of a relief; ``other`` may be printed on it, which has nothing to do with its height."""
    side = len(relief.height)
    colour = np.empty((side, side, 3), np.float32)
    colour[:] = _any_colour(rng)
    rough = np.full((side, side), rng.uniform(0.25, 0.95), np.float32)
    level = _ranked(relief.height)
    for mask, strength in _masks(rng, relief, level, other):
        share = (mask * np.float32(strength))[..., None]
        if rng.random() < 0.35:  # the same hue, lighter or darker
            colour = colour * (1 + share * np.float32(rng.choice([-0.8, -0.5, 0.6, 1.4])))
        else:
            colour = colour * (1 - share) + _any_colour(rng) * share
        if rng.random() < 0.5:
            rough = rough + share[..., 0] * np.float32(rng.uniform(-0.5, 0.4))
    if relief.ids is not None and rng.random() < 0.7:  # each element its own tone
        tones = np.exp(rng.normal(0, rng.uniform(0.03, 0.4), (int(relief.ids.max()) + 1, 1))) * np.exp(
            rng.normal(0, 0.06, (int(relief.ids.max()) + 1, 3))
        )
        colour = colour * tones[relief.ids].astype(np.float32)
    grain = np.exp(
        rng.uniform(0, 0.12) * rng.standard_normal((side, side, 1))
        + rng.uniform(0, 0.2) * fractal(rng, side, side / 3)[..., None]
    )
    return Paint(np.clip(colour * grain, 0.01, 0.92).astype(np.float32), np.clip(rough, 0.05, 1.0))


def _any_colour(rng: Random) -> Plane:
    light = np.exp(rng.uniform(np.log(0.03), np.log(0.75)))
    tint = np.exp(rng.normal(0, rng.choice([0.03, 0.15, 0.45]), 3))
    return (light * tint / tint.mean()).astype(np.float32)


def _ranked(height: Plane) -> Plane:
    """Height as the share of texels that lie lower, 0…1."""
    if np.ptp(height) < 1e-6:
        return np.full(height.shape, 0.5, np.float32)
    edges = np.percentile(height, np.linspace(0, 100, 65))
    return np.interp(height, edges, np.linspace(0, 1, 65)).astype(np.float32)


def _soft(plane: Plane, at: float, width: float) -> Plane:
    return (1 / (1 + np.exp(-np.clip((plane - at) / max(width, 1e-3), -20, 20)))).astype(np.float32)


def _masks(rng: Random, relief: Relief, level: Plane, other: Relief | None) -> list[tuple[Plane, float]]:
    side = len(level)
    out: list[tuple[Plane, float]] = []
    is_flat = relief.family == "flat"
    if not is_flat and rng.random() < 0.45:  # by height, dark on high as often as dark on low
        mask = _soft(level, float(rng.uniform(0.2, 0.8)), float(rng.uniform(0.02, 0.25)))
        out.append((mask if rng.random() < 0.5 else 1 - mask, float(rng.uniform(0.1, 1.0))))
    if not is_flat and rng.random() < 0.35:  # joints, pale or dark
        out.append((1 - _soft(level, float(rng.uniform(0.08, 0.35)), 0.03), float(rng.uniform(0.3, 1.0))))
    if not is_flat and rng.random() < 0.25:  # hollows hold dirt, edges are worn bright; or neither
        bent = relief.height - cv2.GaussianBlur(relief.height, (0, 0), float(rng.uniform(1.5, 6)))
        bent = bent / max(float(bent.std()), 1e-6)
        out.append(
            (_soft(bent if rng.random() < 0.5 else -bent, float(rng.uniform(0.3, 1.5)), 0.4), float(rng.uniform(0.2, 0.9)))
        )
    for _ in range(int(rng.integers(0, 3)) + is_flat):  # stains, speckle
        noise = fractal(rng, side, float(np.exp(rng.uniform(np.log(2), np.log(side / 2)))))
        out.append(
            (_soft(noise, float(rng.uniform(-0.5, 1.8)), float(rng.choice([0.04, 0.2, 0.6]))), float(rng.uniform(0.1, 0.9)))
        )
    if rng.random() < (0.6 if is_flat else 0.2):
        out.append((_marks(rng, side), float(rng.uniform(0.3, 1.0))))
    if other is not None and rng.random() < (0.7 if is_flat else 0.2):  # a print of another relief
        print_ = _ranked(other.height)
        out.append((_soft(print_, float(rng.uniform(0.2, 0.8)), float(rng.choice([0.03, 0.2]))), float(rng.uniform(0.2, 1.0))))
    return out


def _marks(rng: Random, side: int) -> Plane:
    """Stripes, discs, lines and letters of paint."""
    kind = rng.integers(0, 4)
    mask = np.zeros((side, side), np.uint8)
    if kind == 0:
        y, x = np.mgrid[0:side, 0:side].astype(np.float32)
        a = rng.uniform(0, np.pi)
        wave = np.sin((np.cos(a) * x + np.sin(a) * y) * np.float32(2 * np.pi / rng.uniform(6, side)))
        return _soft(wave, float(rng.uniform(-0.6, 0.6)), float(rng.choice([0.03, 0.3])))
    for _ in range(int(rng.integers(1, 20))):
        p = tuple(int(v) for v in rng.integers(0, side, 2))
        if kind == 1:
            cv2.circle(mask, p, int(rng.integers(2, side // 5)), 255, -1, cv2.LINE_AA)
        elif kind == 2:
            q = tuple(int(v) for v in rng.integers(0, side, 2))
            cv2.line(mask, p, q, 255, int(rng.integers(1, 8)), cv2.LINE_AA)
        else:
            letters = "".join(rng.choice(list("ABCDEFGHKLMNPRSTUVXYZ0123456789"), int(rng.integers(1, 5))))
            cv2.putText(
                mask, letters, p, int(rng.integers(0, 8)), float(rng.uniform(0.5, 4)), 255, int(rng.integers(1, 8)), cv2.LINE_AA
            )
    return cv2.GaussianBlur(mask.astype(np.float32) / 255, (0, 0), float(rng.uniform(0.4, 1.5)))
