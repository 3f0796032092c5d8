"""Every repeat of a motif found by itself, so that perspective that is left is known."""

from __future__ import annotations

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.lazy_modules import later
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.look.motif.stripes import vertex

optimize = later("scipy.optimize")

Points = NDArray[np.float64]

WINDOW = 24
"""Texels of a window that is looked for, at least: of finer motifs several repeats at once."""
NODES = 21
"""Windows along a side, at most."""
REACH = 0.2
"""How far from where it is expected a window is looked for, as a part of a repeat: less than half, or its neighbour is found."""
LIKE = 0.35
"""Correlation from which on it is found."""
FOUND, FIT = 0.6, 0.05
"""Part of all windows that has to be found and to lie where the others say, to this part of a repeat."""
STEEP, STRAY = 1.5, 0.25
"""How much nearer one corner of the sheet may be than another, and how far places may be from where even repeats would have them,
as a part of all repeats: more is no small rest of perspective."""
ROOM = 0.35
"""Repeats that are left beyond an area for a join, at least."""


def found_repeats(planes: Floats, across: Points, down: Points, task: Task = IDLE) -> Points | None:
    """Where the repeats of a motif lie, in perspective.

    Parameters
    ----------
    planes : array, shape (H, W, K)
        Features without broad tone.
    across, down : arrays, shape (2,)
        Sides of a repeat in texels, as they are on the average.

    Returns
    -------
    array, shape (3, 3), or None
        Homography from places counted in repeats, from the middle of the sheet, to texels; None where too few are found.

    Notes
    -----
    From the middle outwards, ring by ring: where the next windows lie is told by a plane map through those found (Hartley &
    Zisserman, Multiple View Geometry, 2004), so a small error never becomes a whole repeat. What was found is averaged, all are
    looked for once more by their mean, and a homography is fitted to those that agree (RANSAC, Fischler & Bolles 1981).

    >>> y, x = np.mgrid[0:256, 0:256]
    >>> dots = ((x % 32 - 16) ** 2 + (y % 32 - 16) ** 2 < 64).astype(np.float32)[..., None]
    >>> found = found_repeats(dots - dots.mean(), np.array([32.0, 0.0]), np.array([0.0, 32.0]))
    >>> np.abs(found[:2, :2] / found[2, 2]).round(1).tolist()
    [[32.0, 0.0], [0.0, 32.0]]
    """
    h, w, _ = planes.shape
    step = np.array(
        [max(1, int(np.ceil(max(WINDOW, s / NODES) / max(float(np.hypot(*side)), 1.0)))) for side, s in ((across, w), (down, h))]
    )
    sides = np.stack([across * step[0], down * step[1]])
    extent = np.abs(sides).sum(0)
    size = np.clip(np.rint(0.9 * extent).astype(int), WINDOW, None)
    if (size * 2 > (w, h)).any():
        return None
    middle = np.array([w, h]) / 2
    reach = max(3, round(REACH * min(float(np.hypot(*across)), float(np.hypot(*down)))))
    most = [int(np.ceil(1.2 * max(w, h) / max(float(np.hypot(*s)), 1.0))) for s in sides]
    i, j = np.meshgrid(np.arange(-most[0], most[0] + 1), np.arange(-most[1], most[1] + 1))
    nodes = np.stack([i.ravel(), j.ravel()], 1).astype(np.float64)
    ring = np.abs(nodes).max(1)
    template = _window(planes, middle, size)
    places = np.full_like(nodes, np.nan)
    model = np.array([[sides[0, 0], sides[1, 0], middle[0]], [sides[0, 1], sides[1, 1], middle[1]], [0, 0, 1.0]])
    tried = 0
    for r in range(int(ring.max()) + 1):
        task.checkpoint()
        here = np.flatnonzero(ring == r)
        asked = _inside(apply(model, nodes[here]), size, w, h)
        if not asked.any() and r > 0:
            break
        for k in here[asked]:
            tried += 1
            places[k] = _look(planes, template, apply(model, nodes[k : k + 1])[0], size, reach)
        known = ~np.isnan(places[:, 0])
        if known.sum() >= 3:
            model = _model(nodes[known], places[known])
    known = ~np.isnan(places[:, 0])
    if tried < 4 or known.sum() < max(4, FOUND * tried):
        return None
    mean = np.asarray(np.mean([_window(planes, p, size) for p in places[known]], 0), np.float32)
    asked = _inside(apply(model, nodes), size, w, h)
    again = np.array([_look(planes, mean, p, size, reach) for p in apply(model, nodes[asked])])
    good = ~np.isnan(again[:, 0])
    limit = FIT * min(float(np.hypot(*across)), float(np.hypot(*down)))
    if good.sum() < max(6, FOUND * asked.sum()):
        return None
    fitted, agree = cv2.findHomography(nodes[asked][good] * step, again[good], cv2.RANSAC, max(1.0, limit))
    if fitted is None or agree.sum() < FOUND * asked.sum():
        return None
    # A photo seen a little askew: nothing like a horizon, and as many repeats as on the average
    sheet = np.array([[0.0, 0.0], [w, 0], [w, h], [0, h]])
    level = np.linalg.inv(np.array([[across[0], down[0], middle[0]], [across[1], down[1], middle[1]], [0, 0, 1.0]]))
    back = np.linalg.inv(fitted)
    depth = np.c_[sheet, np.ones(4)] @ back[2]
    if depth.min() * depth.max() <= 0 or depth.max() / depth.min() > STEEP or depth.max() / depth.min() < 1 / STEEP:
        return None
    if np.abs(apply(back, sheet) - apply(level, sheet)).max() > STRAY * np.abs(apply(level, sheet)).max() + 0.5:
        return None
    return np.asarray(fitted, np.float64)


def apply(homography: Points, points: Points) -> Points:
    """Points through a homography; not finite on its horizon.

    >>> apply(np.diag([2.0, 3.0, 1.0]), np.array([[1.0, 1.0]])).tolist()
    [[2.0, 3.0]]
    """
    out = np.c_[points, np.ones(len(points))] @ homography.T
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.asarray(out[:, :2] / out[:, 2:], np.float64)


def largest_area(homography: Points, width: int, height: int, room: float) -> tuple[Points, tuple[int, int]] | None:
    """Corners, in texels, of the largest area of whole repeats that leaves room beyond its right and its lower side.

    Parameters
    ----------
    homography : array
        See `found_repeats`.
    width, height : int
        Of the sheet.
    room : float
        Least room, as a part of the area; none at all if 0.

    Returns
    -------
    corners clockwise from the top left, shape (4, 2), and repeats across and down; None where there is none

    >>> largest_area(np.eye(3), 100, 50, 0.0)[1]
    (100, 50)
    """
    sheet = np.array([[0.0, 0.0], [width, 0], [width, height], [0, height]])
    outline = apply(np.asarray(np.linalg.inv(homography), np.float64), sheet)
    edge = np.roll(outline, -1, 0) - outline
    area = float(np.sum(outline[:, 0] * np.roll(outline[:, 1], -1) - outline[:, 1] * np.roll(outline[:, 0], -1)))
    normal = np.stack([edge[:, 1], -edge[:, 0]], 1) * np.sign(area)  # outwards
    normal /= np.linalg.norm(normal, axis=1)[:, None]
    bound = (normal * outline).sum(1)
    span, beyond = np.ptp(outline, axis=0), ROOM if room > 0 else 0.0
    counts = [(n, m) for n in range(1, int(span[0]) + 1) for m in range(1, int(span[1]) + 1)]
    for n, m in sorted(counts, key=lambda c: -c[0] * c[1]):
        size = np.array([max(n * (1 + room), n + beyond), max(m * (1 + room), m + beyond)])
        # The corner of a box of this size farthest beyond each edge; then the place for it that is farthest from all of them
        farthest = np.maximum(normal * size, 0).sum(1)
        told = optimize.linprog([0, 0, -1], np.c_[normal, np.ones(4)], bound - farthest, bounds=[(None, None)] * 3)
        if told.status == 0 and told.x[2] >= 0:
            box = told.x[:2] + np.array([[0.0, 0.0], [n, 0], [n, m], [0, m]])
            return apply(homography, box), (n, m)
    return None


def _window(planes: Floats, centre: Points, size: NDArray[np.int_]) -> Floats:
    x, y = np.rint(centre - size / 2).astype(int)
    h, w, _ = planes.shape
    x, y = int(np.clip(x, 0, w - size[0])), int(np.clip(y, 0, h - size[1]))
    return np.ascontiguousarray(planes[y : y + size[1], x : x + size[0]])


def _inside(centres: Points, size: NDArray[np.int_], w: int, h: int) -> NDArray[np.bool_]:
    low, high = centres - size / 2, centres + size / 2
    return (low >= 0).all(1) & (high[:, 0] <= w) & (high[:, 1] <= h)


def _look(planes: Floats, template: Floats, expected: Points, size: NDArray[np.int_], reach: int) -> Points:
    """Where a window lies near where it is expected, its middle; not a number where it does not."""
    h, w, _ = planes.shape
    at = np.rint(expected - size / 2).astype(int)
    x0, y0 = np.maximum(at - reach, 0)
    x1, y1 = np.minimum(at + size + reach, (w, h))
    nowhere = np.full(2, np.nan)
    if x1 - x0 < size[0] + 2 or y1 - y0 < size[1] + 2:
        return nowhere
    match = cv2.matchTemplate(np.ascontiguousarray(planes[y0:y1, x0:x1]), template, cv2.TM_CCOEFF_NORMED)
    _, value, _, (x, y) = cv2.minMaxLoc(match)
    if value < LIKE or not (0 < x < match.shape[1] - 1 and 0 < y < match.shape[0] - 1):
        return nowhere
    fine = np.array(
        [vertex(match[y, x - 1], match[y, x], match[y, x + 1]), vertex(match[y - 1, x], match[y, x], match[y + 1, x])]
    )
    # The middle of the window of whole texels that the template was cut from
    return np.asarray(np.array([x0 + x, y0 + y]) + fine + size / 2, np.float64)


def _model(nodes: Points, places: Points) -> Points:
    """The plane map through what was found: affine while that is little, then with perspective."""
    if len(nodes) >= 12 and np.ptp(nodes, axis=0).min() >= 2:
        fitted, _ = cv2.findHomography(nodes, places, cv2.LMEDS)
        if fitted is not None:
            return np.asarray(fitted, np.float64)
    solved = np.linalg.lstsq(np.c_[nodes, np.ones(len(nodes))], places, rcond=None)[0]
    return np.vstack([solved.T, [0, 0, 1.0]])
