"""Features of a surface taken apart: tone, detail and lines."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial

import cv2
import numpy as np

from silent_loom.core.base.images import Floats
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import IDLE, Task, both, over_rows

FULL = 1024
"""Texels along the longer side of the sheet to which the lengths below belong."""
WINDOW = 31
"""Lines and spots narrower than half of this are detail; what is wider is tone."""
ROUND = 3.0
"""How far from its border a median takes what is round or pointed to belong to what lies around it, …"""
EDGE = (0.08, 0.16)
"""… at steps of tone from where it matters to where it matters most, …"""
BESIDE = 0.05
"""… unless it is darker or lighter than both sides by so much."""
LINE = (3.0, 6.0)
"""How much stronger than usual detail is where it begins to be a line, and where it is nothing else."""


@kernel("f4[:,:,::1], f4[:,:,::1], f4, f4[:,:,::1], f4[:,::1], i8, i8")
def _kept(planes, base, usual, detail, line, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(planes.shape[1]):
            total = np.float32(0)
            for k in range(planes.shape[2]):
                d = planes[y, x, k] - base[y, x, k]
                detail[y, x, k] = d
                total += d * d
            t = (np.sqrt(total) / usual - np.float32(LINE[0])) / np.float32(LINE[1] - LINE[0])
            t = min(max(t, np.float32(0)), np.float32(1))
            line[y, x] = t * t * (np.float32(3) - np.float32(2) * t)


@dataclass(frozen=True)
class Layers:
    """Features taken apart: broad tone that keeps its edges, detail, and where detail is a line.

    Attributes
    ----------
    base, detail : arrays, shape (H, W, K)
        Their sum is the features.
    line : array, shape (H, W)
        0…1.
    """

    base: Floats
    detail: Floats
    line: Floats

    def part(self, columns: slice) -> Layers:
        return Layers(*(np.ascontiguousarray(a[:, columns]) for a in (self.base, self.detail, self.line)))

    def turned(self) -> Layers:
        return Layers(*(np.ascontiguousarray(a.swapaxes(0, 1)) for a in (self.base, self.detail, self.line)))


def window_at(scale: float) -> int:
    """Texels that the median looks at each way, odd.

    >>> window_at(1.0), window_at(0.5)
    (31, 17)
    """
    return max(3, round(WINDOW * scale) | 1)


def layers_of(planes: Floats, scale: float, toned: int | None = None, task: Task = IDLE) -> Layers:
    """Take features apart.

    Parameters
    ----------
    planes : array, shape (H, W, K)
    scale : float
        Longer side of their whole sheet over `FULL`.
    toned : int, optional
        How many of the first planes have a tone; what is left is all detail. All of them unless told.

    Notes
    -----
    The median of a window removes whatever covers less than half of it and leaves the border between two areas where it is,
    which no linear filter does (Tukey, Exploratory Data Analysis, 1977): joints and cracks become detail, stones keep their
    tone up to the joint. But it rounds off whatever bulges, and a crescent at the border of a pebble would be detail, and a line.
    So what lies between the tones found close to it is tone itself.

    >>> layers = layers_of(np.full((32, 32, 1), 0.5, np.float32), 1.0)
    >>> float(layers.base.mean()), float(np.abs(layers.detail).max())
    (0.5, 0.0)
    """
    side = window_at(scale)
    reach = max(1, round(ROUND * scale))
    near = cv2.getStructuringElement(cv2.MORPH_ELLIPSE, (2 * reach + 1, 2 * reach + 1))
    base = np.zeros_like(planes)

    def smooth(k: int) -> None:
        plane = planes[..., k]
        low, high = float(plane.min()), float(plane.max())
        span = high - low or 1.0
        codes = np.rint((plane - low) * np.float32(255 / span)).astype(np.uint8)
        tone = cv2.medianBlur(codes, side) * np.float32(span / 255) + np.float32(low)
        least, most = cv2.erode(tone, near), cv2.dilate(tone, near)
        t = np.clip((most - least - np.float32(EDGE[0])) / np.float32(EDGE[1] - EDGE[0]), 0, 1)
        between = np.clip(plane, least, most)
        t *= np.clip(2 - np.abs(plane - between) / np.float32(BESIDE), 0, 1)  # a joint between both is neither
        base[..., k] = tone + t * (between - tone)

    with_tone = range(planes.shape[2] if toned is None else toned)
    if with_tone:
        both(*(partial(smooth, k) for k in with_tone))
    detail, line = np.empty_like(planes), np.empty(planes.shape[:2], np.float32)
    rough = np.sqrt(np.square(planes[::4, ::4] - base[::4, ::4]).sum(2))
    usual = np.float32(float(np.median(rough)) / 1.18 + 1e-4)  # the median length of two Gaussian numbers, to their deviation
    over_rows(len(planes), partial(_kept, planes, base, usual, detail, line), task)
    return Layers(base, detail, line)
