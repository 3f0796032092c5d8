"""Giving samples a Gaussian histogram and back, so that sums of them can be kept at their contrast."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats, Kind
from silent_loom.core.base.kernels import inlined, kernel
from silent_loom.core.base.lazy_modules import later
from silent_loom.core.base.parallel import Task, over_rows

special = later("scipy.special")

STEPS = 2048
FAR = 4.0
"""Standard deviations that the Gaussian form of a channel reaches."""


@dataclass(frozen=True)
class Gauss:
    """Tables between values and their Gaussian form.

    Attributes
    ----------
    turn, back : arrays, shape (C, C)
        From channels to uncorrelated ones, and back (Heitz & Neyret 2018, 3.1).
    to_gauss : array, shape (C, STEPS + 2)
        Lowest value and steps per unit; then the Gaussian value at even steps of value.
    to_value : array, shape (C, STEPS)
        Value at even steps of −FAR…FAR.
    """

    turn: Floats
    back: Floats
    to_gauss: Floats
    to_value: Floats


def learn(samples: NDArray[np.floating], kind: Kind) -> Gauss:
    """Learn the tables of some samples, shape (N, C).

    >>> samples = np.random.default_rng(1).random((1000, 1)).astype(np.float32)
    >>> learn(samples, Kind.DATA).to_value.shape[0]
    1
    """
    channels = samples.shape[1]
    turn = np.eye(channels)
    if kind is Kind.COLOUR:
        _, turn = np.linalg.eigh(np.cov(samples.T) + 1e-9 * np.eye(channels))
        turn = turn.T
    values = samples.astype(np.float64) @ turn.T
    to_gauss, to_value = np.empty((channels, STEPS + 2), np.float32), np.empty((channels, STEPS), np.float32)
    n = len(values)
    score = special.ndtri((np.arange(n) + 0.5) / n)
    total = np.concatenate([[0.0], np.cumsum(score)])
    for k in range(channels):
        # Equal values get one score, or flat areas would be torn apart
        unique, first, counts = np.unique(np.sort(values[:, k]), return_index=True, return_counts=True)
        mean = (total[first + counts] - total[first]) / counts
        low, high = unique[0], max(unique[-1], unique[0] + 1e-6)
        to_gauss[k, 0], to_gauss[k, 1] = low, (STEPS - 1) / (high - low)
        to_gauss[k, 2:] = np.interp(np.linspace(low, high, STEPS), unique, mean)
        to_value[k] = np.interp(np.linspace(-FAR, FAR, STEPS), mean, unique)
    return Gauss(turn.astype(np.float32), np.linalg.inv(turn).astype(np.float32), to_gauss, to_value)


def sampled(pixels: Floats, count: int = 60_000) -> Floats:
    """About ``count`` samples of an image, evenly spread, shape (N, C).

    >>> sampled(np.arange(12, dtype=np.float32).reshape(3, 4, 1), 3).ravel().tolist()
    [0.0, 2.0, 8.0, 10.0]
    """
    step = max(1, int(np.sqrt(pixels.shape[0] * pixels.shape[1] / count)))
    return np.ascontiguousarray(pixels[::step, ::step].reshape(-1, pixels.shape[2]))


@inlined
def score_of(v, k, to_gauss):  # type: ignore[no-untyped-def]
    """Gaussian form of one value of an uncorrelated channel."""
    steps = to_gauss.shape[1] - 2
    at = min(max((v - to_gauss[k, 0]) * to_gauss[k, 1], np.float32(0)), np.float32(steps - 1.001))
    i = int(at)
    return to_gauss[k, 2 + i] + (at - i) * (to_gauss[k, 3 + i] - to_gauss[k, 2 + i])


@inlined
def value_of(g, k, to_value):  # type: ignore[no-untyped-def]
    """Value of a Gaussian one."""
    steps = to_value.shape[1]
    at = (g + np.float32(FAR)) * np.float32((steps - 1) / (2 * FAR))
    at = min(max(at, np.float32(0)), np.float32(steps - 1.001))
    i = int(at)
    return to_value[k, i] + (at - i) * (to_value[k, i + 1] - to_value[k, i])


@kernel("f4[:,:,::1], f4[:,::1], f4[:,::1], f4[:,:,::1], i8, i8", "f4[:,:,::1], f4[::1,:], f4[:,::1], f4[:,:,::1], i8, i8")
def _scores(src, turn, to_gauss, out, y0, y1):  # type: ignore[no-untyped-def]
    channels = src.shape[2]
    for y in range(y0, y1):
        for x in range(src.shape[1]):
            for k in range(channels):
                v = np.float32(0)
                for q in range(channels):
                    v += turn[k, q] * src[y, x, q]
                out[y, x, k] = score_of(v, k, to_gauss)


def scores_of(pixels: Floats, tables: Gauss, task: Task) -> Floats:
    """An image in its Gaussian form: uncorrelated channels of mean 0 and deviation 1, shape (H, W, C).

    >>> from silent_loom.core.base.parallel import IDLE
    >>> plane = np.random.default_rng(1).random((64, 64, 1)).astype(np.float32)
    >>> scores = scores_of(plane, learn(plane.reshape(-1, 1), Kind.DATA), IDLE)
    >>> round(abs(float(scores.mean())), 1), round(float(scores.std()), 1)
    (0.0, 1.0)
    """
    out = np.empty(pixels.shape, np.float32)
    over_rows(pixels.shape[0], partial(_scores, pixels, tables.turn, tables.to_gauss, out), task)
    return out
