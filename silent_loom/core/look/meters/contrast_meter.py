"""Contrast meter: how much local contrast is left where a sheet was joined. A seam meter does not see a blurred band."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.colour import luminance
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import IDLE, Task, both
from silent_loom.core.look.features import features
from silent_loom.core.moving.resample import blur, reduce_area

FINEST = 0.7
"""Blur, a standard deviation in texels, of what is finer than the first band; every band is twice as broad as the last."""
BANDS = 4
REGIONS = 8
"""Parts of a join's length that a region is one of."""
BESIDE = 4.0
"""How far a region reaches to either side of the join, in blurs of its band."""
LINES = 64
"""Places elsewhere that a join is compared with …"""
POOR = 5.0
"""… and which of their poorest regions counts, a percentile."""
PLACES = 16
"""Strips of a region's width that a sheet has to hold, or a band is too broad to be told at it."""
UNSEEN = 1e-3
"""Contrast, as a part of the range from black to white, that nobody sees."""


@dataclass(frozen=True)
class Kept:
    """Local contrast along the joins of one direction.

    Attributes
    ----------
    figure : float
        That of the worst region in its worst band, as a part of what it should have; 1 when nothing is missing, at most.
    bands : tuple of float
        The same by band, from fine to broad.
    width : float
        Size of the features of the worst band, in texels.
    place : float
        Where along the join the worst region lies, 0…1.
    """

    figure: float
    bands: tuple[float, ...]
    width: float
    place: float


class _Energies:
    """Mean squares of a band over strips beside lines that run down a picture."""

    def __init__(self, energy: Floats) -> None:
        self.width = energy.shape[1]
        self._sums = np.zeros((energy.shape[0], self.width + 1))
        np.cumsum(energy, 1, out=self._sums[:, 1:])

    def wrapped(self, columns: NDArray[np.int64], before: int, behind: int) -> NDArray[np.float64]:
        """By row, of texels ``before`` to the left of a column to ``behind`` to the right, round the edges."""
        rows = np.arange(len(columns))
        low = (columns - before) % self.width
        high = low + before + behind
        over = high > self.width
        total = self._sums[rows, np.where(over, high - self.width, high)] - self._sums[rows, low]
        return np.asarray((total + np.where(over, self._sums[rows, -1], 0)) / (before + behind))

    def inside(self, rows: NDArray[np.int64], first: NDArray[np.int64], last: NDArray[np.int64]) -> NDArray[np.float64]:
        """Sums by row, of what of columns ``first`` … ``last`` is in the picture, as if all of it were."""
        a, b = np.clip(first, 0, self.width - 1), np.clip(last, 1, self.width)
        b = np.maximum(b, a + 1)
        return np.asarray((self._sums[rows, b] - self._sums[rows, a]) * (last - first) / (b - a))


def _regions(by_row: NDArray[np.float64]) -> NDArray[np.float64]:
    """Running means over a region's length, round the end; last axis."""
    h = by_row.shape[-1]
    n = max(1, h // REGIONS)
    sums = np.cumsum(np.concatenate([np.zeros((*by_row.shape[:-1], 1)), by_row, by_row[..., :n]], -1), -1)
    return np.asarray((sums[..., n : n + h] - sums[..., :h]) / n)


def _planes(image: Image, task: Task) -> Floats:
    if image.kind is Kind.COLOUR:  # about lightness, 0…1
        return np.cbrt(np.maximum(luminance(image.pixels, task), 0))[..., None]
    return features(image)


def _by_band(image: Image, wraps: bool, count: int, task: Task) -> list[Floats]:
    """Mean squares by band, shape (H, W); from the third on every band has half as many texels each way."""
    finer = blur(_planes(image, task), FINEST, wraps, task)
    bands = []
    for k in range(count):
        if k > 1:
            finer = reduce_area(finer, max(1, finer.shape[1] // 2), max(1, finer.shape[0] // 2))
        broader = blur(finer, np.sqrt(3.0) * FINEST * 2 ** min(k, 1), wraps, task)
        bands.append(np.square(finer - broader).sum(2))
        finer = broader
    return bands


def _at_size(line: NDArray[np.int64], width: int, h: int, w: int) -> NDArray[np.int64]:
    """A line down a picture of some width, as one of (h, w) texels."""
    rows = np.minimum(((np.arange(h) + 0.5) * len(line) / h).astype(int), len(line) - 1)
    return np.asarray(np.floor((line[rows] + 0.5) * w / width), np.int64)


def _along(
    energies: list[Floats],
    sides: list[Floats] | None,
    line: NDArray[np.int64],
    reach: int,
) -> Kept:
    rng = np.random.default_rng(1)
    worst_of, places = [], []
    width = energies[0].shape[1]
    others = np.ones(LINES)
    for k, energy in enumerate(energies):
        h, w = energy.shape
        at = _at_size(line, width, h, w)
        beside = min(max(1, w // 4), max(reach * w // width, 2, round(BESIDE * FINEST * 2 ** min(k, 1))))
        here = _Energies(energy)
        away = np.linspace(2 * beside, max(2 * beside, w - 2 * beside), LINES) + rng.uniform(0, max(1, w // LINES), LINES)
        lines = _regions(np.stack([here.wrapped(at + int(d), beside, beside) for d in away])).min(1)
        usual = float(np.percentile(lines, POOR))
        others = np.minimum(others, _ratio(lines, usual))
        wanted = np.full(h, usual)
        if sides is not None:  # both pictures may be as poor right there
            laid = _Energies(sides[k])
            early = np.minimum(np.arange(h), len(sides[k]) - 1)
            late = np.where(early + h < len(sides[k]), early + h, early)  # what the other join laid over it
            for rows in (early, late):
                both_sides = laid.inside(rows, at + w - beside, at + w) + laid.inside(rows, at, at + beside)
                wanted = np.minimum(wanted, _regions(both_sides / (2 * beside)))
        ratios = _ratio(_regions(here.wrapped(at, beside, beside)), wanted)
        worst_of.append(float(ratios.min()))
        places.append((int(ratios.argmin()) + 0.5 * max(1, h // REGIONS)) / h % 1.0)
    # Of several bands one is poor by chance more often than a single one
    least = float(np.percentile(others, POOR))
    bands = tuple(min(1.0, v / least) for v in worst_of)
    worst = int(np.argmin(bands))
    return Kept(bands[worst], bands, 4 * FINEST * 2**worst, places[worst])


def _ratio(found: NDArray[np.float64], wanted: Any) -> NDArray[np.float64]:
    return np.asarray(np.sqrt((found + UNSEEN**2) / (wanted + UNSEEN**2)))


def contrast_kept(
    image: Image,
    joins: tuple[NDArray[np.int64], NDArray[np.int64]] | None = None,
    *,
    pictures: tuple[Image, Image] | None = None,
    reach: tuple[int, int] = (0, 0),
    task: Task = IDLE,
) -> tuple[Kept, Kept]:
    """Local contrast where a sheet was joined, across and down.

    Parameters
    ----------
    image : Image
        The finished sheet, any kind but ID. Of colour lightness counts.
    joins : tuple of int arrays, optional
        Column of the join in every row, row of it in every column: see `seamless.joins`. The borders, unless known.
    pictures : tuple of Image, optional
        What was joined across, and down, overlaps included, at the same pitch: see `seamless.Seamless.joined_pictures`.
    reach : tuple of int
        Texels to either side of the joins within which both pictures were blended, at least.

    Notes
    -----
    In bands an octave wide, differences of Gaussians from ``FINEST`` on, the mean square is taken in regions along the join,
    an eighth of its length and four blurs of the band to either side of it. What a region should have is the least that
    a region of equal shape has elsewhere (the 5th percentile, over the same line moved to other places, of their poorest
    regions), or what both pictures have at that very place, where that is less: a path that follows the quiet places of a
    surface is not accused. The worst band is held against what the moved lines reach by the same rule. So an untouched
    repeat stays at about 1, whatever is on it. A blend of two pictures in equal parts without care for their contrast
    measures about 0.7, if neither is quiet.

    >>> from silent_loom.core.base.images import Kind
    >>> noise = Image(np.random.default_rng(1).random((128, 128, 1), np.float32), Kind.DATA, wraps=True)
    >>> [k.figure > 0.9 for k in contrast_kept(noise)]
    [True, True]
    """
    count = max(1, min(BANDS, int(np.log2(max(2.0, min(image.width, image.height) / (PLACES * BESIDE * FINEST))))))
    energies = _by_band(image, image.wraps, count, task)
    across, down = joins or (np.zeros(image.height, np.int64), np.zeros(image.width, np.int64))

    def sides(k: int) -> list[Floats] | None:
        return None if pictures is None else _by_band(pictures[k], False, count, task)

    def turned(planes: list[Floats]) -> list[Floats]:
        return [np.ascontiguousarray(p.T) for p in planes]

    def of_y() -> Kept:
        laid = sides(1)
        return _along(turned(energies), laid and turned(laid), down, reach[1])

    x, y = both(lambda: _along(energies, sides(0), across, reach[0]), of_y)
    return x, y
