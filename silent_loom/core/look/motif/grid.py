"""Whole repeats of a motif on a sheet: the largest grid of them, fitted to what lies along its edges."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats, Image
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.look.features import features
from silent_loom.core.look.motif.cells import found_repeats, largest_area
from silent_loom.core.look.motif.lattice import SIDE, Lattice, Vector
from silent_loom.core.look.motif.stripes import vertex
from silent_loom.core.moving.resample import blur, reduce_area

Quad = tuple[Vector, Vector, Vector, Vector]


@dataclass(frozen=True)
class Grid:
    """Whole repeats of a motif on a sheet.

    Attributes
    ----------
    quad : four corners
        Of the area that is kept, clockwise from top left, parts of the sheet; perspective and turn that are left included.
    repeats : tuple of int
        Across and down.
    room : tuple of float
        How far the same grid goes on beyond the area, to the right and down, as a part of it.
    free : int, optional
        The direction in which nothing repeats, see `lattice.Lattice`.
    """

    quad: Quad
    repeats: tuple[int, int]
    room: tuple[float, float]
    free: int | None = None

    def settings(self) -> dict[str, Any]:
        """What the seamless step needs to keep it."""
        over = [OVERLAP, OVERLAP]
        if self.free is not None:
            # Wide enough for the border between two stripes to lie well inside
            over[1 - self.free] = float(np.clip(ACROSS_STRIPES / self.repeats[1 - self.free], OVERLAP, MOST))
        return {
            "method": "motif",
            "grid": self.quad,
            "grid_x": self.repeats[0],
            "grid_y": self.repeats[1],
            "overlap_x": over[0],
            "overlap_y": over[1],
            "bend": True,
        }


LEAST_ROOM = 0.06
OVERLAP = 0.3
"""Part of the area that is laid over itself, if there is so much room …"""
MOST = 0.5
"""… and the most of it that may be."""
ACROSS_STRIPES, STRIPES = 1.4, 3
"""Repeats of stripes that are left beyond the area, if that leaves so many in it: what lies within a stripe is found in no
other, so a cut has to go along the border between two, and that must lie well inside the overlap."""


def fit_grid(image: Image, lattice: Lattice, task: Task = IDLE, room: float = LEAST_ROOM) -> Grid | None:
    """The largest area of whole repeats that leaves some room beyond itself for a join; None when there is none.

    Parameters
    ----------
    image : Image
    lattice : Lattice
        Of the same image.
    task : Task
    room : float
        Least room, as a part of the area.

    Notes
    -----
    Every repeat is looked for by itself, see `cells.found_repeats`: what perspective or turn is left is known then. Of stripes,
    and where that fails, corners start on the lattice and are moved so that the left edge is found again at the right one and the
    top at the bottom one, by correlating windows along the edges.

    >>> from silent_loom.core.base.images import Kind
    >>> from silent_loom.core.look.motif.lattice import find_lattice
    >>> y, x = np.mgrid[0:256, 0:256]
    >>> dots = ((x % 32 - 16) ** 2 + (y % 32 - 16) ** 2 < 64).astype(np.float32)
    >>> image = Image(np.repeat(dots[..., None], 3, 2), Kind.COLOUR)
    >>> fit_grid(image, find_lattice(image)).repeats
    (7, 7)
    """
    ux, uy = np.array(lattice.across), np.array(lattice.down)
    if lattice.free is not None:
        # A length along stripes that leaves what a cut there needs
        most = 0.985 / (1.25 if room > 0 else 1.0)
        ux, uy = (ux * most, uy) if lattice.free == 0 else (ux, uy * most)
    if lattice.free is None and (found := _found(image, lattice, room, task)) is not None:
        return found
    repeats = _most(ux, uy, room)
    if lattice.free is not None and room > 0:
        beyond = (0.0, ACROSS_STRIPES) if lattice.free == 0 else (ACROSS_STRIPES, 0.0)
        roomy = _most(ux, uy, room, beyond)
        if roomy is not None and max(roomy) >= STRIPES:
            repeats = roomy
    if repeats is None:
        return None
    n, m = repeats
    across, down = n * ux, m * uy
    # Turned, the grid and its room stay on the sheet
    left, top = (0.004 - min(0.0, float(across[i]), float(down[i])) for i in (0, 1))
    origin = np.array([left, top])
    corners = np.array([origin, origin + across, origin + across + down, origin + down])
    aligned = _aligned(image, corners, (n, m), task, lattice.free)
    if aligned is not None:
        corners = aligned
    corners = corners - np.minimum(corners.min(0), 0)
    if float(corners.max() - 1) > 0.02:
        return None
    quad = tuple((round(float(x), 7), round(float(y), 7)) for x, y in corners)
    return Grid(quad, (n, m), room_of(corners), lattice.free)  # type: ignore[arg-type]


def _found(image: Image, lattice: Lattice, room: float, task: Task) -> Grid | None:
    """The grid by all repeats that are found, if enough of them are."""
    planes = _small(image)
    h, w, _ = planes.shape
    told = found_repeats(planes, np.array(lattice.across) * (w, h), np.array(lattice.down) * (w, h), task)
    area = None if told is None else largest_area(told, w, h, room)
    if area is None:
        return None
    corners = area[0] / (w, h)
    if corners.min() < 0 or corners.max() > 1:
        return None
    quad = tuple((round(float(x), 7), round(float(y), 7)) for x, y in corners)
    return Grid(quad, area[1], room_of(corners))  # type: ignore[arg-type]


def _small(image: Image) -> Floats:
    """Features without broad tone, small enough to look for windows in."""
    scale = min(1.0, 2 * SIDE / max(image.width, image.height))
    w, h = max(32, round(image.width * scale)), max(32, round(image.height * scale))
    planes = features(image)[..., :3]
    small = reduce_area(planes, w, h) if scale < 1 else planes
    return np.ascontiguousarray(small - blur(small, 0.1 * max(w, h), False))


def _most(
    across: NDArray[np.float64], down: NDArray[np.float64], room: float, beyond: tuple[float, float] = (0.0, 0.0)
) -> tuple[int, int] | None:
    """Whole repeats across and down whose area is largest, with room beyond on both sides, as a part of it and as so many
    repeats; None when there are none."""
    best, area = None, 0
    for n in range(int(0.995 / max(across[0], 1e-6)), 0, -1):
        wide = across * max(n * (1 + room), n + beyond[0])
        for m in range(int(0.995 / max(down[1], 1e-6)), 0, -1):
            high = down * max(m * (1 + room), m + beyond[1])
            if n * m <= area:
                break
            if (np.abs(wide) + np.abs(high) <= 0.995).all():
                best, area = (n, m), n * m
                break
    return best


def room_of(corners: NDArray[np.float64]) -> tuple[float, float]:
    """How far an area goes on beyond its right and lower side before the sheet ends, as parts of the area; at most `MOST`.

    >>> room_of(np.array([[0.1, 0.1], [0.9, 0.1], [0.9, 0.9], [0.1, 0.9]]))
    (0.12499999999999997, 0.12499999999999997)
    """
    tl, tr, br, bl = np.asarray(corners, np.float64)

    def until(start: NDArray[np.float64], way: NDArray[np.float64]) -> float:
        goal = np.where(way > 0, 1.0, 0.0)
        with np.errstate(divide="ignore", invalid="ignore"):
            steps = np.where(np.abs(way) > 1e-9, (goal - start) / way, np.inf)
        return float(steps.min())

    right = float(np.clip(min(until(tr, tr - tl), until(br, br - bl)), 0.0, MOST))
    below = float(np.clip(min(until(bl, bl - tl), until(br, br - tr)), 0.0, MOST))
    # Both at once reach farthest at the corner between them
    corner = until(br, right * (br - bl) + below * (br - tr)) if right > 0 or below > 0 else 1.0
    share = min(1.0, max(0.0, corner))
    return right * share, below * share


def _aligned(
    image: Image, corners: NDArray[np.float64], repeats: tuple[int, int], task: Task, free: int | None
) -> NDArray[np.float64] | None:
    """Corners moved so that what lies along one edge lies along the opposite one; not along stripes, where all agrees."""
    small = _small(image)
    h, w, _ = small.shape
    px = corners * (w, h)
    tl, tr, br, bl = px
    moved_x = None if free == 0 else _edge(small, tl, bl, tr - tl, np.hypot(*(tr - tl)) / repeats[0], task)
    moved_y = None if free == 1 else _edge(small, tl, tr, bl - tl, np.hypot(*(bl - tl)) / repeats[1], task)
    if free is not None:
        moved, shift = (moved_x, tr - tl) if free == 1 else (moved_y, bl - tl)
        if moved is None:
            return None
        way = shift / np.hypot(*shift)
        first, last = (way * float(m @ way) for m in moved)
        return np.array([tl, tl + first, bl + last, bl] if free == 1 else [tl, tr, tr + last, tl + first]) / (w, h)
    if moved_x is None or moved_y is None:
        return None
    (x0, x1), (y0, y1) = moved_x, moved_y  # displacements at the two ends of the left, and of the top edge
    new_tr, new_bl = tl + x0, tl + y0
    br_by_x = new_bl + (x0 + (x1 - x0))
    br_by_y = new_tr + (y0 + (y1 - y0))
    return np.array([tl, new_tr, (br_by_x + br_by_y) / 2, new_bl]) / (w, h)


def _edge(
    planes: Floats, start: NDArray[np.float64], end: NDArray[np.float64], shift: NDArray[np.float64], period: float, task: Task
) -> tuple[NDArray[np.float64], NDArray[np.float64]] | None:
    """Displacement, at both ends of an edge, that leads to its repeat near ``shift`` away; a line through the windows."""
    h, w, _ = planes.shape
    size = int(np.clip(0.9 * period, 24, 220))
    reach = max(3, int(0.14 * period))
    places, moves, weights = [], [], []
    for t in np.linspace(0.04, 0.96, 9):
        task.checkpoint()
        centre = start + t * (end - start) + shift / np.hypot(*shift) * size * 0.3
        x0, y0 = int(centre[0] - size / 2), int(centre[1] - size / 2)
        x0, y0 = int(np.clip(x0, 0, w - size)), int(np.clip(y0, 0, h - size))
        patch = planes[y0 : y0 + size, x0 : x0 + size]
        u, v = x0 + shift[0], y0 + shift[1]
        sx, sy = round(u) - reach, round(v) - reach
        cx0, cy0, cx1, cy1 = max(0, sx), max(0, sy), min(w, sx + size + 2 * reach), min(h, sy + size + 2 * reach)
        if cx1 - cx0 < size + 2 or cy1 - cy0 < size + 2:
            continue
        match = cv2.matchTemplate(
            np.ascontiguousarray(planes[cy0:cy1, cx0:cx1]), np.ascontiguousarray(patch), cv2.TM_CCOEFF_NORMED
        )
        _, value, _, (bx, by) = cv2.minMaxLoc(match)
        inside = 0 < bx < match.shape[1] - 1 and 0 < by < match.shape[0] - 1
        if value < 0.25 or not inside:
            continue

        fx = bx + vertex(match[by, bx - 1], match[by, bx], match[by, bx + 1])
        fy = by + vertex(match[by - 1, bx], match[by, bx], match[by + 1, bx])
        places.append(t)
        moves.append((cx0 + fx - x0, cy0 + fy - y0))
        weights.append(value**2)
    if len(places) < 4:
        return None
    t, d, q = np.array(places), np.array(moves), np.array(weights)
    line = np.stack([1 - t, t], 1)
    keep = np.ones(len(t), bool)
    for _ in range(4):
        solved, *_ = np.linalg.lstsq(line[keep] * q[keep, None], d[keep] * q[keep, None], rcond=None)
        rest = np.hypot(*(d - line @ solved).T)
        keep = rest <= max(1.0, 2.5 * float(np.median(rest[keep])))
        if keep.sum() < 4:
            return None
    # Told apart from a slip by a whole repeat, and from windows that found nothing
    if np.hypot(*(solved - shift).T).max() > 0.2 * period:
        return None
    return solved[0], solved[1]
