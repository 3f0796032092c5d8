"""A wall in level courses, drawn by code."""

from __future__ import annotations

import numpy as np

from silent_loom.core.images import Floats, Image, Kind
from silent_loom.core.resample import blur

COURSES = 11


def courses(height: int, width: int, repeat: float, seed: int) -> Floats:
    """Level courses of stones, of eleven heights that come again after ``repeat`` rows; no two stones alike."""
    rng = np.random.default_rng(seed)
    heights = rng.uniform(0.5, 1.6, COURSES)
    tops = np.r_[0, np.cumsum(heights)] * repeat / heights.sum()
    y = np.arange(height) % repeat
    which = np.searchsorted(tops, y, side="right") - 1 + COURSES * (np.arange(height) // repeat).astype(int)
    joint = np.minimum(y - tops[(which % COURSES)], tops[(which % COURSES) + 1] - y)
    out = np.empty((height, width), np.float32)
    for course in np.unique(which):
        rows = which == course
        ends = np.cumsum(rng.uniform(0.04, 0.14, 40) * width)
        x = np.arange(width)
        stone = np.searchsorted(ends, x)
        walled = np.r_[0, ends]
        gap = np.minimum(x - walled[stone], walled[stone + 1] - x)
        near = np.minimum(joint[rows][:, None], gap[None, :])
        out[rows] = rng.uniform(0.35, 0.8, 41)[stone] * np.clip((near - 1) / 4, 0.15, 1)
    grain = blur(rng.normal(0, 1, out.shape).astype(np.float32), 1.5, False)
    return np.clip(out + 0.02 * grain / grain.std(), 0.01, 1)


def sheet(tone: Floats) -> Image:
    h, w = tone.shape
    return Image(np.repeat(tone[..., None], 3, 2), Kind.COLOUR, (float(w), float(h)))
