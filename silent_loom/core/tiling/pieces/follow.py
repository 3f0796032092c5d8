"""Keep pieces of a surface to the grid or the courses that its elements lie in."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Image
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.look.features import features
from silent_loom.core.look.motif.beat import beat_across
from silent_loom.core.look.motif.lattice import find_lattice

WHOLE = 0.2
"""How far a seamless sheet may seem to be from a whole number of repeats; it holds a whole number, by its edges."""
STEADY = 0.6
"""Strength of a beat from which courses are kept to."""


@dataclass(frozen=True)
class Motif:
    """What the elements of a seamless sheet lie in.

    Attributes
    ----------
    steps : array, shape (2, 2)
        Two vectors, as parts of the sheet, by whole multiples of which everything may be moved; a row of zeros where any
        length that way will do.
    words : str
        What was found, for people.
    """

    steps: NDArray[np.float64]
    words: str


def motif_of(sheet: Image, task: Task = IDLE) -> Motif | None:
    """The grid or the courses of a seamless sheet; None where there is neither.

    A lattice on a sheet that repeats divides it: its vectors are made exact by the whole numbers of them that lead once
    across the sheet and once down.

    >>> from silent_loom.core.base.images import Kind
    >>> motif_of(Image(np.random.default_rng(1).random((96, 96, 3), np.float32), Kind.COLOUR, wraps=True)) is None
    True
    """
    lattice = find_lattice(sheet, task)
    if lattice is not None and lattice.free is None:
        found = np.array([lattice.a, lattice.b], np.float64)
        counts = np.linalg.inv(found)  # how often each vector is needed to cross the sheet
        whole = np.rint(counts)
        if np.abs(counts - whole).max() < WHOLE and abs(np.linalg.det(whole)) >= 2:
            repeats = round(abs(np.linalg.det(whole)))
            return Motif(np.linalg.inv(whole), f"its grid of {repeats} repeats")
    steps, words = np.zeros((2, 2)), []
    planes = features(sheet)
    for axis, way in ((0, "columns"), (1, "courses")):
        if lattice is not None and lattice.free is not None and axis != lattice.free:
            period = abs((lattice.across, lattice.down)[axis][axis])
        else:
            beat = beat_across(planes if axis == 0 else np.ascontiguousarray(planes.transpose(1, 0, 2)), task)
            period = beat.period if beat.strength >= STEADY else 0.0
        count = round(1 / period) if period > 0 else 0
        if count >= 2:
            steps[axis, axis] = 1 / count
            words.append(f"its {count} {way}")
    return Motif(steps, " and ".join(words)) if words else None


def kept_to(cells: NDArray[np.float64], motif: Motif, size_mm: tuple[float, float]) -> NDArray[np.float64]:
    """The cells of a break-up, each moved by whole steps of a motif: those nearest to what it was moved by.

    Parameters
    ----------
    cells : array, shape (rows, columns, 5)
        See `breakup.layout`.

    >>> cells = np.zeros((1, 1, 5))
    >>> cells[0, 0, 2] = 130.0
    >>> float(kept_to(cells, Motif(np.array([[0.25, 0.0], [0.0, 0.25]]), "a grid"), (400.0, 400.0))[0, 0, 2])
    100.0
    """
    size = np.array(size_mm)
    shift = cells[..., 2:4] / size
    diagonal = np.count_nonzero(motif.steps) <= 2 and np.allclose(motif.steps, np.diag(np.diag(motif.steps)))
    if diagonal:
        for axis in (0, 1):
            step = motif.steps[axis, axis]
            if step > 0:
                shift[..., axis] = np.rint(shift[..., axis] / step) * step
    else:
        shift = np.rint(shift @ np.linalg.inv(motif.steps)) @ motif.steps
    out = cells.copy()
    out[..., 2:4] = shift * size
    return out
