"""Whether a beat goes on across a join: ribs, tiles and courses that are chopped there, whatever the blend hides."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Image
from silent_loom.core.base.later import later
from silent_loom.core.base.parallel import IDLE, Task
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


def with_beat(figure: float, image: Image, axis: int, joins: NDArray[Any] | None = None, task: Task = IDLE) -> float:
    """A seam figure that counts, beside steps, what is chopped at the join: see `join_broken`.

    >>> from silent_loom.core.base.images import Kind
    >>> noise = Image(np.random.default_rng(1).random((128, 128, 3), np.float32), Kind.COLOUR)
    >>> with_beat(0.7, noise, 0)
    0.7
    """
    return max(figure, join_broken(image, axis, joins, task) / SEEN)


def join_broken(image: Image, axis: int, joins: NDArray[Any] | None = None, task: Task = IDLE) -> float:
    """The worst of what no step at the join itself tells: a broken beat, courses crushed or doubled, a band of light.

    See `beat_broken` for the parameters; from `SEEN` on it is seen.

    >>> from silent_loom.core.base.images import Kind
    >>> rising = np.repeat(np.linspace(0.1, 0.9, 128, dtype=np.float32)[None, :, None].repeat(96, 0), 3, 2)
    >>> join_broken(Image(rising, Kind.COLOUR), 0) > SEEN > join_broken(Image(rising, Kind.COLOUR), 1)
    True
    """
    small = at_most(image, 2 * SIDE, task)
    planes = features(small)
    if axis == 1:
        planes = np.ascontiguousarray(planes.transpose(1, 0, 2))
    h, w, _ = planes.shape
    at = None
    if joins is not None:
        scale = w / (image.width if axis == 0 else image.height)
        at = np.interp((np.arange(h) + 0.5) / h, (np.arange(len(joins)) + 0.5) / len(joins), joins) * scale
    return max(beat_broken(image, axis, joins, task), courses_out(planes, at) * SEEN / FAR, light_steps(planes, at))


def beat_broken(image: Image, axis: int, joins: NDArray[Any] | None = None, task: Task = IDLE) -> float:
    """How much worse the beat of a surface fits across a join than it does elsewhere; 0 where there is no clear beat.

    Parameters
    ----------
    image : Image
        A sheet whose edges are laid side by side; what was blended there or not does not matter.
    axis : int
        0: the join that is crossed going across; 1: the one crossed going down.
    joins : array, optional
        Where the join lies in each row (or column), in texels of the image, as `seamless.joins` gives it; the border
        unless given.

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
    >>> beat_broken(noise, 0)
    0.0
    """
    small = at_most(image, SIDE, task)
    planes = features(small)
    if axis == 1:
        planes = np.ascontiguousarray(planes.transpose(1, 0, 2))
    h, w, _ = planes.shape
    if w < 8 * LEAST or h < 8:
        return 0.0
    task.checkpoint()
    if joins is not None:  # lines are laid so that the join is at 0 in all of them
        scale = w / (image.width if axis == 0 else image.height)
        at = np.interp((np.arange(h) + 0.5) / h, (np.arange(len(joins)) + 0.5) / len(joins), joins) * scale
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
