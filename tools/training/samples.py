"""One sheet and what is to be read from it, and many of them in files."""

from __future__ import annotations

import time
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.reading.network import BANDS
from silent_loom.core.weave.answers.evaluate import Evaluator
from tools.training.camera import photographed
from tools.training.colours import painted
from tools.training.light import lit
from tools.training.reliefs import LEAST_FLAT, Plane, Random, deep, drawn, evaluator, families, flat

TARGETS = ("slope_x", "slope_y", "fine", "middle", "coarse", "shading", "occlusion", "roughness", "border")
"""What is read, in this order.

slope_x, slope_y
    Rise of the height to the right and downward.
fine, middle, coarse
    Height by feature size, between Gaussians of `BANDS` texels, each divided by the outer one.
shading
    Natural logarithm of the light on a place against that on a flat, open one.
occlusion
    Share of the sky that is seen.
roughness
border
    1 at the borders of elements, falling off within two texels.
"""
MARGIN = 32
"""Texels around a sheet that are made and cut away: light comes from there, too."""
SHARD = 32
"""Sheets in a file."""


def sample(rng: Random, side: int, asked: Evaluator, names: list[str]) -> tuple[NDArray[np.uint8], NDArray[np.float16], bool]:
    """A photo, shape (N, N, 3); its targets, shape (9, N, N); whether the sun shone."""
    bare, wide = rng.random() < LEAST_FLAT, side + 2 * MARGIN
    relief = flat(wide) if bare else deep(rng, drawn(rng, wide, asked, names))
    other = drawn(rng, wide, asked, names) if rng.random() < (0.6 if bare else 0.15) else None
    paint = painted(rng, relief, other)
    light = lit(rng, relief.height, paint)
    photo, uneven = photographed(rng, light.light)
    wanted = targets(relief.height, light.shading * uneven, light.occlusion, paint.roughness, relief.ids)
    inner = slice(MARGIN, MARGIN + side)
    return np.ascontiguousarray(photo[inner, inner]), np.ascontiguousarray(wanted[:, inner, inner]), light.sun


def targets(
    height: Plane, shading: Plane, occlusion: Plane, roughness: Plane, ids: NDArray[np.int32] | None
) -> NDArray[np.float16]:
    """What is to be read of a surface: see `TARGETS`."""
    soft = cv2.GaussianBlur(height, (0, 0), 0.6)  # what a lens lets through
    gy, gx = np.gradient(soft)
    bands = [(blurred(height, a) - blurred(height, b)) / b for a, b in BANDS]
    log = np.log(np.clip(shading, 0.02, 8.0))
    log = log - np.median(log)
    planes = [gx, gy, *bands, log, occlusion, roughness, _border(ids, height.shape)]
    return np.stack(planes).astype(np.float16)


def blurred(plane: Plane, sigma: float) -> Plane:
    """A Gaussian of that many texels."""
    return cv2.GaussianBlur(plane, (0, 0), sigma, borderType=cv2.BORDER_REFLECT)


def _border(ids: NDArray[np.int32] | None, shape: tuple[int, ...]) -> Plane:
    if ids is None:
        return np.zeros(shape, np.float32)
    edge = np.zeros(shape, np.uint8)
    edge[:, 1:] |= (ids[:, 1:] != ids[:, :-1]).astype(np.uint8)
    edge[1:] |= (ids[1:] != ids[:-1]).astype(np.uint8)
    away = cv2.distanceTransform(1 - edge, cv2.DIST_L2, 3)
    return np.clip(1 - away / 2.5, 0, 1).astype(np.float32)


def write_shard(path: Path, seed: int, side: int, held_out: bool) -> float:
    """A file of `SHARD` sheets; nothing is done where it is there already. Seconds that it took."""
    if path.exists():
        return 0.0
    began = time.perf_counter()
    cv2.setNumThreads(1)
    rng, asked, names = np.random.default_rng(seed), evaluator(), families(held_out)
    made = [sample(rng, side, asked, names) for _ in range(SHARD)]
    photos, wanted, suns = (np.stack([m[k] for m in made]) for k in range(3))
    part = path.with_suffix(".part.npz")
    np.savez(part, photos=photos, targets=wanted, suns=suns)
    part.rename(path)
    return time.perf_counter() - began


def make(folder: Path, shards: int, side: int, first: int = 0, held_out: bool = False, workers: int = 2) -> None:
    """Write files of sheets, each from its own seed; those that are there are kept."""
    folder.mkdir(parents=True, exist_ok=True)
    with ProcessPoolExecutor(workers) as pool:
        done = [
            pool.submit(write_shard, folder / f"{k:05d}.npz", 1_000_003 * (1 + held_out) + k, side, held_out)
            for k in range(first, first + shards)
        ]
        for k, one in enumerate(done):
            print(f"{k + 1} of {shards}: {one.result():.0f} s", flush=True)
