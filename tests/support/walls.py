"""A wall in level courses, drawn by code."""

from __future__ import annotations

import numpy as np

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.moving.resample import blur

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


def shingles(seed: int, height: int = 560, width: int = 760, row: float = 70.0) -> Floats:
    """Rows of shingles of all widths, each ending a little higher or lower than the next."""
    rng = np.random.default_rng(seed)
    y, x = np.mgrid[:height, :width].astype(np.float32)
    out = np.zeros((height, width), np.float32)
    for k in range(int(height / row) + 2, -2, -1):
        ends = np.cumsum(64 * rng.uniform(0.5, 1.5, 30)) - rng.uniform(20, 84)
        which = np.searchsorted(ends, x[0])
        bottom = (k + 1) * row + rng.uniform(-0.085, 0.085, 31)[which] * row
        tone = rng.uniform(0.25, 0.55, 31)[which]
        gap = np.clip((np.abs(x[0][:, None] - ends).min(1) - 1) / 2, 0.2, 1)
        above = bottom - y
        out *= np.where((above <= 0) & (above > -10), np.clip(0.45 - above / 18, 0, 1), 1)  # shadow on the row below
        out = np.where((above > 0) & (y >= k * row - 20), tone * gap * np.clip(0.35 + above / 8, 0, 1), out)
    grain = blur(rng.normal(0, 1, out.shape).astype(np.float32), 3.0, False)
    return np.clip(out * (1 + 0.08 * grain / grain.std()), 0.01, 1).astype(np.float32)
