"""Whether a beat goes on across a join: ribs, tiles and courses that are chopped there, whatever the blend hides."""

from __future__ import annotations

from functools import partial
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Image
from silent_loom.core.base.lazy_modules import later
from silent_loom.core.base.parallel import IDLE, Task, both
from silent_loom.core.look.features import features
from silent_loom.core.look.meters.bands import light_steps
from silent_loom.core.look.meters.courses import courses_out
from silent_loom.core.look.motif.stripes import multiples, tops_of
from silent_loom.core.moving.resample import at_most

fft, ndimage = later("scipy.fft"), later("scipy.ndimage")

SIDE = 512
"""Texels along the longer side at which a beat is looked for."""
STEADY, RISE = 0.25, 0.35
"""Least correlation at every multiple of a beat, and how far it rises above what lies between them, for a beat to be claimed."""
LEAST = 5
"""Texels of the shortest beat."""
USUAL = 95
"""Percentile of the misfit elsewhere that a join is held against: what is as uneven as the surface itself is not seen."""


SEEN = 1.3
"""From here on a broken beat is seen: a seam figure of 1."""
FAR = 1.45
"""So far outside the usual widths a course must lie to be seen as well."""


class Looks(NamedTuple):
    """What is looked at of a sheet: its lightness, and coarser all that the eye sees of it.

    Attributes
    ----------
    lightness : float32 array, shape (H, W)
        At most twice `SIDE` texels along the longer side.
    planes : float32 array, shape (H', W', K)
        Features at most `SIDE` texels along the longer side.
    """

    lightness: NDArray[np.float32]
    planes: NDArray[np.float32]

    def along(self, axis: int) -> Looks:
        """The same with the join that is meant at the left and right edges."""
        return self if axis == 0 else Looks(self.lightness.T, self.planes.transpose(1, 0, 2))


def looks(image: Image, task: Task = IDLE) -> Looks:
    """What is looked at of a sheet, once for both of its joins.

    >>> from silent_loom.core.base.images import Kind
    >>> looks(Image(np.zeros((1024, 2048, 3), np.float32), Kind.COLOUR)).planes.shape
    (256, 512, 3)
    """
    fine = at_most(image, 2 * SIDE, task)
    return Looks(features(fine)[..., 0], features(at_most(fine, SIDE, task)))


Joins = tuple[NDArray[Any] | None, NDArray[Any] | None]


def with_broken(figures: tuple[float, float], image: Image, joins: Joins | None = None, task: Task = IDLE) -> tuple[float, float]:
    """Seam figures that count, beside steps, what is chopped at the joins: see `join_broken`.

    Parameters
    ----------
    figures : tuple of float
        Of the join that is crossed going across, and of the one crossed going down.
    image : Image
        A sheet whose edges are laid side by side.
    joins : tuple of array, optional
        Where the joins lie, as `seamless.joins` gives it; the borders unless given.

    >>> from silent_loom.core.base.images import Kind
    >>> noise = Image(np.random.default_rng(1).random((128, 128, 3), np.float32), Kind.COLOUR)
    >>> with_broken((0.7, 0.9), noise)
    (0.7, 0.9)
    """
    seen = looks(image, task)
    x, y = both(*(partial(join_broken, seen, k, _part(joins, k, image), task) for k in (0, 1)))
    return max(figures[0], x / SEEN), max(figures[1], y / SEEN)


def _part(joins: Joins | None, axis: int, image: Image) -> NDArray[np.float64] | None:
    """Where a join lies, as parts of the side that it crosses."""
    line = joins[axis] if joins is not None else None
    return None if line is None else np.asarray(line, np.float64) / (image.width if axis == 0 else image.height)


def _at(joins: NDArray[np.float64] | None, rows: int, columns: int) -> NDArray[np.float64] | None:
    """The column of a join in each row of a sheet of a size."""
    if joins is None:
        return None
    return np.interp((np.arange(rows) + 0.5) / rows, (np.arange(len(joins)) + 0.5) / len(joins), joins) * columns


def join_broken(seen: Looks, axis: int, joins: NDArray[np.float64] | None = None, task: Task = IDLE) -> float:
    """The worst of what no step at the join itself tells: a broken beat, courses crushed or doubled, a band of light.

    See `beat_broken` for the parameters; from `SEEN` on it is seen.

    >>> from silent_loom.core.base.images import Kind
    >>> rising = np.repeat(np.linspace(0.1, 0.9, 128, dtype=np.float32)[None, :, None].repeat(96, 0), 3, 2)
    >>> seen = looks(Image(rising, Kind.COLOUR))
    >>> join_broken(seen, 0) > SEEN > join_broken(seen, 1)
    True
    """
    plane = np.ascontiguousarray(seen.along(axis).lightness)[..., None]
    at = _at(joins, *plane.shape[:2])
    return max(beat_broken(seen, axis, joins, task), courses_out(plane, at) * SEEN / FAR, light_steps(plane, at))


def beat_broken(seen: Looks, axis: int, joins: NDArray[np.float64] | None = None, task: Task = IDLE) -> float:
    """How much worse the beat of a surface fits across a join than it does elsewhere; 0 where there is no clear beat.

    Parameters
    ----------
    seen : Looks
        Of a sheet whose edges are laid side by side; what was blended there or not does not matter.
    axis : int
        0: the join that is crossed going across; 1: the one crossed going down.
    joins : array, optional
        Where the join lies along it, as parts of the side that it crosses; the border unless given.

    Returns
    -------
    float
        1 is as uneven as the surface is anywhere; from about 1.3 on a row of chopped ribs is in plain sight.

    Notes
    -----
    The autocorrelation of single lines, averaged, gives the period (Lin, Wang & Yang 1997). Then every place is held against
    the one a period on: within the surface that fits as well as its elements are alike, across a join only if whole periods
    lie between. A meter of steps cannot tell, since the edges of a rib that is cut short are no stronger than any other's.

    >>> from silent_loom.core.base.images import Kind
    >>> noise = Image(np.random.default_rng(1).random((128, 128, 3), np.float32), Kind.COLOUR)
    >>> beat_broken(looks(noise), 0)
    0.0
    """
    planes = np.ascontiguousarray(seen.along(axis).planes)
    h, w, _ = planes.shape
    if w < 8 * LEAST or h < 8:
        return 0.0
    task.checkpoint()
    if (at := _at(joins, h, w)) is not None:  # lines are laid so that the join is at 0 in all of them
        columns = (np.arange(w)[None, :] + np.rint(at)[:, None].astype(int)) % w
        planes = np.take_along_axis(planes, columns[..., None], 1)
    period = _period(planes)
    if period is None:
        return 0.0
    step = max(1, round(period))
    laid = np.abs(planes - np.roll(planes, -step, 1)).sum(2).mean(0)  # of a place with the one a period on
    smooth = ndimage.uniform_filter1d(laid, max(3, step // 2), mode="wrap")
    across = smooth[(np.arange(-step, 1)) % w]  # what spans the join lies within a period before it
    rest = smooth[np.arange(step, w - 2 * step)]
    if len(rest) < step:
        return 0.0
    return float(across.max() / max(float(np.percentile(rest, USUAL)), 1e-6))


def _period(planes: NDArray[np.float32]) -> float | None:
    """The distance at which lines repeat themselves, in texels; None where they do not clearly."""
    w = planes.shape[1]
    lines = planes - ndimage.uniform_filter1d(planes, max(3, w // 4), axis=1, mode="nearest")
    padded = fft.next_fast_len(2 * w, True)
    power = np.abs(fft.rfft(lines, padded, axis=1, workers=2)) ** 2
    alike = fft.irfft(power.sum((0, 2)), padded)[: w // 2] / (w - np.arange(w // 2))
    if alike[0] <= 1e-12:
        return None
    alike = alike / alike[0]
    turns = np.flatnonzero((alike[1:-1] < alike[:-2]) & (alike[1:-1] <= alike[2:])) + 1
    if not len(turns):
        return None
    for top in tops_of(alike, max(LEAST, int(turns[0]))):
        found = multiples(alike, int(top), 0.05, 3)  # farther off a chopped beat would speak against itself
        if found is None:
            return None
        period, least, rise = found
        if least >= STEADY and rise >= RISE:
            return period
    return None
