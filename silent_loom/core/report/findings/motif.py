"""A regular motif, stripes, or courses at an even beat."""

from __future__ import annotations

from silent_loom.core.base.parallel import Task
from silent_loom.core.look.motif.beat import courses_of
from silent_loom.core.look.motif.grid import fit_grid
from silent_loom.core.look.motif.lattice import find_lattice
from silent_loom.core.report.finding import Finding, Seen, cure

PLACE = 6
"""Where it comes among the findings."""


def find(seen: Seen, task: Task) -> list[Finding]:
    """What there is to say of it.

    >>> from silent_loom.core.base.parallel import IDLE
    >>> from silent_loom.core.files.profile import SRGB
    >>> from silent_loom.core.report.finding import seen
    >>> import numpy as np
    >>> from silent_loom.core.files import Picture
    >>> y, x = np.mgrid[0:256, 0:256]
    >>> codes = np.repeat(np.uint8(90 + 90 * ((x % 32 - 16) ** 2 + (y % 32 - 16) ** 2 < 64))[..., None], 3, 2)
    >>> photo = seen(Picture(codes, None, SRGB, 8, "png"), None, IDLE)
    >>> [f.code for f in find(photo, IDLE)]
    ['motif']
    """
    w, h = seen.size
    lattice = find_lattice(seen.image, task)
    seen.figures["motif"] = None
    if lattice is None:
        return _courses(seen, task)
    repeats = lattice.repeats(w, h)
    across, down = repeats if lattice.free is None else (repeats[0], None) if lattice.free == 1 else (None, repeats[0])
    seen.figures["motif"] = {
        "across_px": None if across is None else round(across, 2),
        "down_px": None if down is None else round(down, 2),
        "regular": lattice.regular,
    }
    way, other = ("across", "down") if lattice.free == 1 else ("down", "across")
    every = seen.lengths(*repeats)
    grid = fit_grid(seen.image, lattice, task)
    return [
        Finding(
            "motif",
            "note",
            f"A regular motif, every {every}" if lattice.free is None else f"Stripes, every {every} {way}",
            "Only whole repeats fit together: make it seamless by its motif."
            + ("" if lattice.free is None else f" Nothing repeats {other}, so any length will do there."),
            lattice.regular,
            None if grid is None else cure("close", grid.settings(), "Keep whole repeats"),
        )
    ]


def _courses(seen: Seen, task: Task) -> list[Finding]:
    """Courses in which nothing comes again, though they do."""
    lattice = courses_of(seen.image, task)
    if lattice is None:
        return []
    grid = fit_grid(seen.image, lattice, task)
    way, other = ("across", "down") if lattice.free == 1 else ("down", "across")
    return [
        Finding(
            "courses",
            "note",
            f"Courses at an even beat, every {seen.lengths(*lattice.repeats(*seen.size))} {way}",
            f"None of their elements comes again {other}, but whole courses have to meet: keep them whole by the motif, "
            "or let Seamless fit the overlap.",
            lattice.regular,
            None if grid is None else cure("close", grid.settings(), "Keep whole courses"),
        )
    ]
