"""Local contrast after a blend, brought back to what both sides have, band by band."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

import cv2
import numpy as np

from silent_loom.core.base.colour import luminance
from silent_loom.core.base.images import Floats, Kind
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import Task, over_rows
from silent_loom.core.moving.resample import blur, reduce_area

FINEST = 0.5
"""Blur of what is too fine to count, a standard deviation in texels; every band after it is twice as broad."""
BROADEST = 6.0
"""Bands are told from each other up to blurs of this part of the strip's width."""
PLACES = 16
"""Along a strip, where contrast is measured, nearer to the one side and nearer to the other; in between it is gone over."""
MOST = 2.0
"""What a band is amplified by at most in one pass."""
OVER = 2.0
"""How much more of a band is added than it lacks: the peak of what is added lies in the middle only."""
PASSES = 3
"""Bands overlap: what is added to one lies partly in its neighbours, so it is measured and added again."""


@kernel("f4[:,::1], f4[:,::1], f4[:,::1], f4[:,::1], i8, i8")
def _amplify(band, gain, peak, out, y0, y1):  # type: ignore[no-untyped-def]
    for y in range(y0, y1):
        for x in range(band.shape[1]):
            out[y, x] += (gain[y, 0] * peak[x, 0] + gain[y, 1] * peak[x, 1]) * band[y, x]


def _tones(strip: Floats, kind: Kind, task: Task) -> list[Floats]:
    """Planes whose contrast is kept: the logarithm of luminance, or every channel."""
    if kind is Kind.COLOUR:
        return [np.log(np.maximum(luminance(strip, task), 0) + np.float32(0.01))]
    return [np.ascontiguousarray(strip[..., k]) for k in range(strip.shape[2])]


class _Strip:
    """How a strip is taken apart: with room around it for blurs, and sides that can be halved."""

    def __init__(self, rows: int, n: int, closed: bool) -> None:
        self.rows, self.n, self.closed = rows, n, closed
        self.count = 0
        while FINEST * 2**self.count < n / BROADEST:
            self.count += 1
        self.block = 2 ** max(0, self.count - 2)
        self.before = min(8, rows // self.block) * self.block if closed else 0

    def continued(self, plane: Floats) -> Floats:
        below, right = self.before + -(self.rows + 2 * self.before) % self.block, -self.n % self.block
        plane = np.pad(plane, ((self.before, below), (0, 0)), mode="wrap" if self.closed else "symmetric")
        return np.pad(plane, ((0, 0), (0, right)), mode="symmetric")

    def bands(self, plane: Floats, task: Task) -> Iterator[tuple[int, Floats]]:
        """How often each band is halved, and the band, from fine to broad."""
        halved = 0
        for k in range(self.count):
            if k > 1:
                plane, halved = reduce_area(plane, plane.shape[1] // 2, plane.shape[0] // 2), halved + 1
            broader = blur(plane, FINEST if k == 0 else 0.866, False, task)
            yield halved, plane - broader
            plane = broader

    def energies(self, band: Floats, halved: int, weight: Floats) -> Floats:
        """Mean square of a band at every place, by each of two weights, shape (places, 2)."""
        by_row = np.square(band) @ weight[: band.shape[1]].astype(np.float32)
        first = self.before >> halved
        by_row = by_row[first : first + max(1, self.rows >> halved)]
        edges = np.linspace(0, len(by_row), min(PLACES, len(by_row)) + 1).astype(int)
        return (np.add.reduceat(by_row, edges[:-1], axis=0) / np.diff(edges)[:, None]).astype(np.float32)

    def by_row(self, places: Floats, halved: int, rows: int) -> Floats:
        """Values at the places as values at the rows of a halved, continued strip."""
        at = ((np.arange(rows) + 0.5) * 2**halved - self.before) / self.rows * len(places) - 0.5
        if self.closed:
            places, at = np.pad(places, ((1, 1), (0, 0)), mode="wrap"), at % len(places) + 1
        known = np.arange(len(places))
        return np.stack([np.interp(at, known, side) for side in places.T], 1).astype(np.float32)


def _double(plane: Floats) -> Floats:
    rows, n = plane.shape
    out: Floats = cv2.resize(plane, (2 * n, 2 * rows), interpolation=cv2.INTER_LINEAR)
    return out


def keep_contrast(out: Floats, near: Floats, far: Floats, share: Floats, kind: Kind, closed: bool, task: Task) -> None:
    """Amplify the bands of a blend where they vary less than both of its sides do there.

    Parameters
    ----------
    out : array, shape (rows, n, C)
        The blend; changed in place.
    near, far : arrays, shape (rows, n, C)
        Its sides.
    share : array, shape (n,)
        Share of ``near`` by column, 0…1; nothing is changed where it is 0 or 1.
    kind : Kind
        Of colour the logarithm of luminance counts, and all channels get what it lacks; else every channel by itself.
    closed : bool
        The rows wrap.

    Notes
    -----
    A blend that keeps its histogram still lets rare strong features fade as they go over, and sides that run against each
    other by chance cancel out. In each band of a pyramid (Burt & Adelson 1983) the mean square of the blend is compared with
    the mean of those of its sides by their shares (the one that Heitz & Neyret, HPG 2018, expect), at a dozen places along the
    strip. Nothing is made weaker: what agrees by chance was there. Measured closer than that, single fibres would swell
    where they meet the other side.
    """
    rows, n = out.shape[:2]
    strip = _Strip(rows, n, closed)
    ends = np.minimum(1, 8 * np.minimum(share, 1 - share))  # a halved strip knows them to a few texels only
    peak = 1 - (1 - 4 * share * (1 - share)) ** 2
    for c, (a, b) in enumerate(zip(_tones(near, kind, task), _tones(far, kind, task), strict=True)):
        if strip.count == 0 or (np.ptp(a) == 0 and np.ptp(b) == 0):
            continue
        wanted: list[Floats] = []
        peaks: list[Floats] = []
        pairs = zip(strip.bands(strip.continued(a), task), strip.bands(strip.continued(b), task), strict=True)
        for (halved, p), (_, q) in pairs:
            wide = np.pad(np.stack([share, peak]), ((0, 0), (0, -n % strip.block)), mode="edge")
            t, top = wide.reshape(2, -1, 2**halved).mean(2)
            either = np.stack([top * t, top * (1 - t)], 1).astype(np.float32)
            peaks.append(either)
            first, second = either * t[:, None], either * (1 - t)[:, None]
            wanted.append(strip.energies(p, halved, first) + strip.energies(q, halved, second))
        for _ in range(PASSES):
            tone = _tones(out, kind, task)[0] if kind is Kind.COLOUR else np.ascontiguousarray(out[..., c])
            levels: dict[int, Floats] = {}
            for (halved, band), want, top in zip(strip.bands(strip.continued(tone), task), wanted, peaks, strict=True):
                task.checkpoint()
                lacks = np.sqrt(want / np.maximum(strip.energies(band, halved, top), 1e-12))
                gain = strip.by_row(np.clip(OVER * (lacks - 1), 0, MOST - 1), halved, len(band))
                level = levels.setdefault(halved, np.zeros_like(band))
                over_rows(len(band), partial(_amplify, band, gain, top, level), task)
            more = levels.pop(max(levels))
            for halved in sorted(levels, reverse=True):
                more = _double(more) + levels[halved]
            more = more[strip.before : strip.before + rows, :n] * ends

            def add(y0: int, y1: int, more: Floats = more, c: int = c) -> None:
                if kind is Kind.COLOUR:
                    out[y0:y1] *= np.exp(more[y0:y1])[..., None]
                else:
                    out[y0:y1, :, c] += more[y0:y1]

            over_rows(rows, add, task)
    if kind is Kind.DATA:
        np.clip(out, min(near.min(), far.min()), max(near.max(), far.max()), out=out)
