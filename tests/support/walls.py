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


def bricks(seed: int, height: int = 520, width: int = 700, course: float = 52.0, length: float = 150.0) -> Floats:
    """A wall of even bricks in courses that waver: whole ones and halves, joints wherever they fall, so only courses repeat."""
    rng = np.random.default_rng(seed)
    y, x = np.mgrid[:height, :width].astype(np.float32)
    waver = blur(rng.normal(0, 1, (height, width)).astype(np.float32), 40.0, False)
    y = y + 1.2 * waver / waver.std()
    which = np.floor(y / course).astype(int)
    near = np.minimum(y % course, course - y % course)
    tone = np.zeros((height, width), np.float32)
    for row in np.unique(which):
        ends = np.cumsum(length * rng.choice([0.5, 1, 1], 16) * rng.uniform(0.95, 1.05, 16)) - rng.uniform(0, length)
        here = which == row
        near[here] = np.minimum(near[here], np.abs(x[here][:, None] - ends).min(1))
        tone[here] = 0.28 + 0.03 * rng.standard_normal(17)[np.searchsorted(ends, x[here])]
    brick = np.clip((near - 2.5) / 1.5 + 0.5, 0, 1)
    grain = blur(rng.normal(0, 1, tone.shape).astype(np.float32), 2.0, False)
    return np.asarray(tone * brick + 0.6 * (1 - brick) + 0.01 * grain / grain.std(), np.float32)
