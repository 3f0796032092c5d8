"""Courses that come at an even beat though nothing in them repeats: shingles, rows of setts, boards of one width."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats, Image
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.look.features import features
from silent_loom.core.look.motif.lattice import Lattice
from silent_loom.core.look.motif.stripes import MOST, multiples, tops_of
from silent_loom.core.moving.resample import at_most, blur

SEEN = 0.004
"""How far edges are spread, as a part of the sheet: courses waver."""
BROAD = 0.08
"""What varies more slowly than this, as a part of the sheet, is light."""
LEAST = 6
"""Texels of the shortest beat."""
SHARED = 0.5
"""How much edges vary from line to line, beside how much they do within lines, where courses are all there is."""
CLEAR = (0.5, 1.0)
"""How far the correlation rises at every multiple of a beat above what it is between them: not a beat, and a clear one."""


class Beat(NamedTuple):
    """An even beat along one direction.

    Attributes
    ----------
    period : float
        As a part of the sheet.
    strength : float
        0 (there is none) … 1 (everything keeps to it).
    """

    period: float
    strength: float

    def missed(self, shift: float) -> float:
        """How far a shift, as a part of the sheet, is from leading from beat to beat: 0 not at all, 1 by half of one."""
        return self.strength * float(np.sin(np.pi * shift / self.period) ** 2) if self.strength > 0 else 0.0


NONE = Beat(1.0, 0.0)
TOLD = 0.5
"""Strength from which a beat is told of."""


def beat_across(planes: Floats, task: Task = IDLE) -> Beat:
    """The beat at which edges come from left to right.

    Parameters
    ----------
    planes : array, shape (H, W, K)
        Features.

    Notes
    -----
    Edges are counted by column. Where they come in courses that count varies far more than it does among places of one
    column; its autocorrelation then has a peak at every multiple of the beat (Lin, Wang & Yang, Extracting periodicity of a
    regular texture based on autocorrelation functions, 1997), even though every single edge strays.

    >>> planes = 0.1 * np.random.default_rng(1).random((256, 256, 1), np.float32)
    >>> planes[:, np.arange(256) % 32 < 4] += 1
    >>> round(1 / beat_across(planes).period)
    8
    """
    h, w = planes.shape[:2]
    if w < 8 * LEAST or h < 8:
        return NONE
    edges = np.abs(np.diff(blur(np.ascontiguousarray(planes), 1.0, False, task), axis=1)).sum(2)
    edges = np.minimum(edges, np.percentile(edges, 98))  # one strong edge is no more than one edge
    edges = blur(np.ascontiguousarray(edges[..., None]), SEEN * max(h, w), False, task)[..., 0]
    count = edges.mean(0)
    within = float(np.square(edges - edges.mean(1, keepdims=True)).mean())
    count = count - blur(np.ascontiguousarray(count[None, :, None]), BROAD * w, False)[0, :, 0]
    power = float(np.square(count).mean())
    if within <= 1e-12 or power <= 1e-12:
        return NONE
    alike = np.array([(count[: len(count) - d] * count[d:]).mean() for d in range(int(MOST * w))]) / power
    period, clear = _clearest(alike)
    strength = min(1.0, power / within / SHARED) * float(np.clip((clear - CLEAR[0]) / (CLEAR[1] - CLEAR[0]), 0, 1))
    return Beat(period / w, strength) if strength > 0 else NONE


def both_beats(image: Image, task: Task = IDLE) -> tuple[Beat, Beat]:
    """The even beats of a sheet, across and down.

    >>> from silent_loom.core.base.images import Kind
    >>> [b.strength for b in both_beats(Image(np.random.default_rng(1).random((128, 128, 3), np.float32), Kind.COLOUR))]
    [0.0, 0.0]
    """
    planes = features(at_most(image, 1024, task))
    return beat_across(planes, task), beat_across(np.ascontiguousarray(planes.transpose(1, 0, 2)), task)


def courses_of(image: Image, task: Task = IDLE) -> Lattice | None:
    """Courses at an even beat as a motif that repeats one way, the clearer of both; None where there are none.

    >>> from silent_loom.core.base.images import Kind
    >>> rng = np.random.default_rng(1)
    >>> rows = np.repeat(rng.random((256, 256, 1), np.float32), 3, 2) * 0.1 + 0.3
    >>> rows[np.arange(256) % 32 < 4] = 0.9
    >>> found = courses_of(Image(rows, Kind.COLOUR))
    >>> found.free, [round(r) for r in found.repeats(256, 256)]
    (0, [32])
    """
    across, down = both_beats(image, task)
    if max(across.strength, down.strength) < TOLD:
        return None
    if across.strength >= down.strength:
        return Lattice((across.period, 0.0), (0.0, 1.0), across.strength, (across.period, 0.0), (0.0, 1.0), free=1)
    return Lattice((1.0, 0.0), (0.0, down.period), down.strength, (1.0, 0.0), (0.0, down.period), free=0)


def _clearest(alike: NDArray[np.float64]) -> tuple[float, float]:
    """The distance at every multiple of which a correlation rises most, and by how much; (1, 0) where there is none."""
    turns = np.flatnonzero((alike[1:-1] < alike[:-2]) & (alike[1:-1] <= alike[2:])) + 1
    best, clear = 1.0, 0.0
    for top in tops_of(alike, max(LEAST, int(turns[0]) if len(turns) else len(alike))):
        found = multiples(alike, int(top), 0.05)
        if found is None:
            break
        period, least, rise = found
        if rise > clear and least > 0:
            best, clear = period, rise
    return best, clear
