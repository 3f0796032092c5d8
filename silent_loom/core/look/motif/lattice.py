"""The lattice of a regular motif: found by autocorrelation, refined to a subpixel."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats, Image
from silent_loom.core.base.lazy_modules import later
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.look.features import features
from silent_loom.core.look.motif.stripes import MOST, STRAIGHT, Stripes, find_stripes, vertex
from silent_loom.core.moving.resample import blur, reduce_area

fft, ndimage = later("scipy.fft"), later("scipy.ndimage")

SIDE = 720
"""Texels along the longer side at which repeats are looked for."""
REGULAR = 0.2
"""Lower quartile of the correlation over the lattice, less that between its points, from which a motif is claimed."""
CLEAR = 0.35
"""The same from which one is claimed by its edges alone: courses of irregular stones agree by chance a little."""
LEANING = 0.36
"""How far a repeat may lean from the sides of the sheet at all: twenty degrees."""

Vector = tuple[float, float]


@dataclass(frozen=True)
class Lattice:
    """A regular motif on a sheet.

    Attributes
    ----------
    a, b : tuple of float
        Vectors from any point to the same point of the next repeat, parts of the sheet's width and height; ``a`` runs
        more across, ``b`` more down.
    regular : float
        Correlation at the points of the lattice less that half-way between them, 0…1.
    across, down : tuple of float
        The rectangular repeat that the lattice has: whole combinations of its vectors, the smallest that lean little.
    free : int or None
        Stripes repeat one way only: 1 when any length down is a repeat, 0 when any across is. That vector is then as
        long as the sheet allows.
    """

    a: Vector
    b: Vector
    regular: float
    across: Vector
    down: Vector
    free: int | None = None

    def repeats(self, width: float, height: float) -> list[float]:
        """Lengths of the sides of the repeat on a sheet of a size, in its unit; of stripes the one there is."""
        sides = [float(np.hypot(v[0] * width, v[1] * height)) for v in (self.across, self.down)]
        return [side for i, side in enumerate(sides) if i != self.free]


def _small(image: Image) -> Floats:
    scale = min(1.0, SIDE / max(image.width, image.height))
    w, h = max(16, round(image.width * scale)), max(16, round(image.height * scale))
    planes = features(image)
    return reduce_area(planes, w, h) if scale < 1 else planes


def _narrow(planes: Floats) -> Floats:
    # What varies more broadly than any repeat looked for is light, not motif
    return planes - blur(planes, 0.16 * max(planes.shape[:2]), False)


def _edges(planes: Floats) -> Floats:
    """How strong edges are beside those around them, 0…4: joints and outlines, whatever colours lie between them."""
    soft = blur(planes, 0.8, False)
    strength = np.zeros(planes.shape[:2], np.float32)
    for k in range(planes.shape[2]):
        plane = np.ascontiguousarray(soft[..., k])
        strength += cv2.Sobel(plane, cv2.CV_32F, 1, 0) ** 2 + cv2.Sobel(plane, cv2.CV_32F, 0, 1) ** 2
    strength = np.sqrt(strength)
    around = blur(strength, 0.04 * max(strength.shape), False)
    return np.ascontiguousarray(np.minimum(strength / (around + 1e-4), 4.0)[..., None])


def correlation(planes: Floats) -> NDArray[np.float64]:
    """Normalised correlation of planes with themselves for all displacements, shape (2 H, 2 W), zero at [0, 0].

    Every displacement is normalised by the energy of both overlapping parts; those with less than a sixth of the sheet in
    common are 0.

    >>> round(float(correlation(np.random.default_rng(1).random((32, 32, 1)).astype(np.float32))[0, 0]), 3)
    1.0
    """
    h, w, k = planes.shape
    shape = (fft.next_fast_len(2 * h, True), fft.next_fast_len(2 * w, True))
    total = np.zeros((shape[0], shape[1] // 2 + 1))
    for i in range(k):
        f = fft.rfft2(planes[..., i], shape, workers=2)
        total += f.real**2 + f.imag**2
    raw = fft.irfft2(total, shape, workers=2)
    energy = _overlap_energy(planes, shape)
    back = np.roll(energy[::-1, ::-1], (1, 1), (0, 1))  # the other part's: the same for the opposite displacement
    dy, dx = (_overlap(n, m) for n, m in zip((h, w), shape, strict=True))
    good = np.outer(dy, dx) > h * w / 6
    return np.where(good, raw / np.sqrt(np.maximum(energy * back, 1e-9)), 0.0)


def _overlap(n: int, long: int) -> NDArray[np.int64]:
    """How many of n places a line has in common with itself, by how far it is moved: 0, 1 … and at the end … -2, -1."""
    moved = np.arange(long)
    return np.maximum(0, n - np.minimum(moved, long - moved))


def _overlap_energy(planes: Floats, shape: tuple[int, int]) -> NDArray[np.float64]:
    """Sum of squares over what a sheet has in common with itself, for all displacements; by sums over rectangles."""
    h, w, _ = planes.shape
    sums = np.zeros((h + 1, w + 1))
    np.cumsum(np.square(planes).sum(2, dtype=np.float64), 0, out=sums[1:, 1:])
    np.cumsum(sums[1:, 1:], 1, out=sums[1:, 1:])

    def ends(n: int, long: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        moved = np.arange(long)
        moved = np.where(moved > long // 2, moved - long, moved)
        first = np.clip(moved, 0, n)
        return first, np.maximum(first, np.clip(n + moved, 0, n))

    (y0, y1), (x0, x1) = ends(h, shape[0]), ends(w, shape[1])
    down = sums[y1] - sums[y0]
    return np.asarray(down[:, x1] - down[:, x0])


def _highest(c: NDArray[np.float64], reach: int) -> NDArray[np.float64]:
    """The highest value within a reach of every place of a field that wraps."""
    wide = cv2.copyMakeBorder(c, reach, reach, reach, reach, cv2.BORDER_WRAP)
    side = 2 * reach + 1
    return np.ascontiguousarray(cv2.dilate(wide, np.ones((side, side), np.uint8))[reach:-reach, reach:-reach])


def _peak(c: NDArray[np.float64], x: float, y: float, reach: int) -> tuple[float, float, float]:
    """Highest place within reach of a guess, refined by a parabola in each direction."""
    h, w = c.shape
    xs, ys = np.arange(round(x) - reach, round(x) + reach + 1), np.arange(round(y) - reach, round(y) + reach + 1)
    part = c[np.ix_(ys % h, xs % w)]
    j, i = np.unravel_index(int(part.argmax()), part.shape)
    px, py = int(xs[i]), int(ys[j])

    at = c[py % h, px % w]
    return (
        px + vertex(c[py % h, (px - 1) % w], at, c[py % h, (px + 1) % w]),
        py + vertex(c[(py - 1) % h, px % w], at, c[(py + 1) % h, px % w]),
        float(at),
    )


def candidates(c: NDArray[np.float64], w: int, h: int) -> list[tuple[float, float, float]]:
    """Peaks of the correlation in the half plane of displacements that point right or straight down.

    >>> candidates(np.zeros((64, 64)), 64, 64)
    []
    """
    ry, rx = int(MOST * h), int(MOST * w)
    ys, xs = np.arange(-ry, ry + 1), np.arange(0, rx + 1)
    field = c[np.ix_(ys % c.shape[0], xs % c.shape[1])]
    smooth = ndimage.gaussian_filter(field, 0.8)
    peaks = (smooth == ndimage.maximum_filter(smooth, 7)) & (field > 0.04)
    # The hump around no displacement at all says nothing of a repeat: it ends where the correlation first turns up again
    peaks &= np.hypot(ys[:, None], xs[None, :]) > 0.018 * max(w, h)
    found = [(float(xs[i]), float(ys[j]), float(field[j, i])) for j, i in np.argwhere(peaks) if xs[i] > 0 or ys[j] > 0]
    if not found:
        return []
    found.sort(key=lambda p: -p[2])
    # The strongest, and the nearest of the strong ones: the shortest vectors need not be the strongest, and parts of a
    # motif that repeat inside it are nearer, though weaker
    chosen = dict.fromkeys(found[:12])
    for share, most in ((0.85, 10), (0.65, 10), (0.4, 16)):
        near = sorted((p for p in found if p[2] >= share * found[0][2]), key=lambda p: np.hypot(p[0], p[1]))
        chosen.update(dict.fromkeys(near[:most]))
    return [_peak(c, x, y, 1) for x, y, _ in chosen]


_J, _I = (a.ravel() for a in np.mgrid[0:7, -6:7])
_I, _J = _I[(_J > 0) | (_I > 0)], _J[(_J > 0) | (_I > 0)]


@dataclass(frozen=True)
class _Field:
    """The correlation, and its highest value within 1 and within 4 texels of every place."""

    at: NDArray[np.float64]
    near: NDArray[np.float64]
    wide: NDArray[np.float64]
    w: int
    h: int

    def look(self, which: NDArray[np.float64], x: NDArray[np.float64], y: NDArray[np.float64]) -> NDArray[np.float64]:
        rows, cols = which.shape
        return which[np.rint(y).astype(int) % rows, np.rint(x).astype(int) % cols]


def _field(c: NDArray[np.float64], w: int, h: int) -> _Field:
    return _Field(c, _highest(c, 1), _highest(c, 4), w, h)


def _score(c: _Field, a: Vector, b: Vector) -> tuple[float, float]:
    """Lower quartile of the correlation at the points of a lattice less the mean half-way between them; and itself."""
    x, y = _I * a[0] + _J * b[0], _I * a[1] + _J * b[1]
    inside = (np.abs(x) <= 0.6 * c.w) & (np.abs(y) <= 0.6 * c.h)
    if inside.sum() < 4:
        return 0.0, 0.0
    x, y = x[inside], y[inside]
    far = np.maximum(np.abs(x), np.abs(y)) > 150
    on = np.where(far, c.look(c.wide, x, y), c.look(c.near, x, y))
    off = []
    for u, v in ((0.5, 0.0), (0.0, 0.5), (0.5, 0.5)):
        ox, oy = x - u * a[0] - v * b[0], y - u * a[1] - v * b[1]
        good = np.abs(ox) + np.abs(oy) > 2
        off.append(c.look(c.at, ox[good], oy[good]))
    # A true repeat correlates at all its points: chance does at some.
    # Three ways of lying between points: one of them may be a near repeat, as in a bond of bricks, but not all
    low = float(np.percentile(on, 25))
    return low - float(np.mean(np.concatenate(off))), low


def _refined(c: NDArray[np.float64], a: Vector, b: Vector, w: int, h: int) -> tuple[Vector, Vector]:
    """Vectors fitted to the peaks of all their multiples, the farther the more exact."""
    for top in (1, 2, 4, 8, 16):
        rows, goal, weight = [], [], []
        reach = max(1, int(0.06 * min(np.hypot(*a), np.hypot(*b))))
        for i in range(-top, top + 1):
            for j in range(-top, top + 1):
                if j < 0 or (j == 0 and i <= 0):
                    continue
                x, y = i * a[0] + j * b[0], i * a[1] + j * b[1]
                if abs(x) > 0.7 * w or abs(y) > 0.7 * h:
                    continue
                px, py, value = _peak(c, x, y, reach)
                if value > 0.05:
                    rows.append((i, j))
                    goal.append((px, py))
                    weight.append(value)
        if len(rows) < 2:
            break
        m, g, q = np.array(rows, float), np.array(goal), np.array(weight)[:, None]
        if np.linalg.matrix_rank(m) < 2:
            continue
        solved, *_ = np.linalg.lstsq(m * q, g * q, rcond=None)
        a, b = (float(solved[0, 0]), float(solved[0, 1])), (float(solved[1, 0]), float(solved[1, 1]))
    return a, b


def _reduced(a: Vector, b: Vector) -> tuple[Vector, Vector]:
    """The shortest two vectors of the same lattice (Gauss), the flatter one first, pointing right and down."""
    p, q = np.array(a), np.array(b)
    for _ in range(50):
        if p @ p > q @ q:
            p, q = q, p
        m = round(float(p @ q) / max(float(p @ p), 1e-9))
        if m == 0:
            break
        q = q - m * p
    if abs(p[1] * q[0]) > abs(p[0] * q[1]):  # p steeper than q
        p, q = q, p
    p, q = (p if p[0] >= 0 else -p), (q if q[1] >= 0 else -q)
    return (float(p[0]), float(p[1])), (float(q[0]), float(q[1]))


_COARSER = (
    ((2, 0), (0, 1)), ((1, 0), (0, 2)), ((1, 1), (1, -1)), ((2, 0), (0, 2)), ((3, 0), (0, 1)), ((1, 0), (0, 3)),
    ((3, 0), (1, 1)), ((3, 0), (-1, 1)), ((3, 0), (0, 3)),
)  # fmt: skip
"""Lattices with half, a third, a quarter or a ninth of the points of another, in steps of its vectors."""


def _coarser(seen: _Field, a: Vector, b: Vector) -> tuple[Vector, Vector] | None:
    """A lattice of fewer points that correlate clearly better than those left out: then parts of a motif were found."""
    j, i = (v.ravel() for v in np.mgrid[0:9, -8:9])
    ahead = (j > 0) | (i > 0)
    i, j = i[ahead], j[ahead]
    x, y = i * a[0] + j * b[0], i * a[1] + j * b[1]
    near = (np.abs(x) < 0.4 * seen.w) & (np.abs(y) < 0.4 * seen.h)
    i, j, values = i[near], j[near], seen.look(seen.near, x[near], y[near])
    best, least = None, 0.88
    for (p, q), (s, t) in _COARSER:
        count = p * t - q * s
        on = ((t * i - s * j) % count == 0) & ((p * j - q * i) % count == 0)
        if on.sum() < 2 or on.all():
            continue
        ratio = float(values[~on].mean()) / max(float(values[on].mean()), 1e-6)
        if ratio < least:
            best, least = ((p * a[0] + q * b[0], p * a[1] + q * b[1]), (s * a[0] + t * b[0], s * a[1] + t * b[1])), ratio
    return best


def _rectangle(a: Vector, b: Vector) -> tuple[Vector, Vector] | None:
    """The smallest rectangle of whole combinations of two vectors, one side more across and one more down.

    Square to six degrees; a rectangle that leans from the sides of the sheet wastes its corners, so up to 20 degrees of
    lean are taken only where a straighter one would be much larger.
    """
    combinations = [np.array([i * a[0] + j * b[0], i * a[1] + j * b[1]]) for i in range(-4, 5) for j in range(-4, 5) if i or j]
    cell = abs(a[0] * b[1] - a[1] * b[0])

    def lean(v: NDArray[np.float64], axis: int) -> float:
        return abs(float(v[1 - axis])) / float(v[axis]) if v[axis] > 0 else np.inf

    sides = [[v for v in combinations if lean(v, axis) < LEANING] for axis in (0, 1)]
    best, least = None, np.inf
    for u in sides[0]:
        for v in sides[1]:
            if abs(float(u @ v)) > STRAIGHT * float(np.hypot(*u) * np.hypot(*v)):
                continue
            size = abs(float(u[0] * v[1] - u[1] * v[0])) / cell
            cost = size * (1 + 0.5 * (max(lean(u, 0), lean(v, 1)) / STRAIGHT) ** 2)
            if cost < least - 1e-9:
                best, least = (u, v), cost
    if best is None:
        return None
    (p, q) = best
    return (float(p[0]), float(p[1])), (float(q[0]), float(q[1]))


def find_lattice(image: Image, task: Task = IDLE) -> Lattice | None:
    """The lattice of the motif on a sheet, or None when it holds none.

    Notes
    -----
    Peaks of the normalised autocorrelation of lightness and colour are candidates; the pair whose whole combinations
    correlate best, and clearly better than places between them, spans the lattice (after Liu, Collins & Tsin, A
    computational model for periodic pattern perception, PAMI 26, 2004). Of lattices that score alike the finest counts.
    The vectors are then fitted to the peaks of all their multiples, which are known to a fraction of a texel and so give
    the vectors to that fraction over the multiple. Where colour does not repeat, as in a mosaic of any colours, edges may.

    >>> from silent_loom.core.base.images import Kind
    >>> y, x = np.mgrid[0:256, 0:256]
    >>> dots = ((x % 32 - 16) ** 2 + (y % 32 - 16) ** 2 < 64).astype(np.float32)
    >>> lattice = find_lattice(Image(np.repeat(dots[..., None], 3, 2), Kind.COLOUR))
    >>> np.abs(np.round(256 * np.array(lattice.across))).tolist()
    [32.0, 0.0]
    """
    planes = _small(image)
    task.checkpoint()
    found = _lattice(_narrow(planes), task)
    if found is None or found.regular < CLEAR:
        edges = _lattice(_narrow(_edges(planes)), task)
        found = edges if edges is not None and edges.regular >= CLEAR else found
    return found


def _lattice(planes: Floats, task: Task) -> Lattice | None:
    h, w, _ = planes.shape
    c = correlation(planes)
    striped = find_stripes(c, w, h)
    peaks = candidates(c, w, h)
    seen = _field(c, w, h)
    fitting: list[tuple[float, float, float, Vector, Vector]] = []
    for i, p in enumerate(peaks):
        task.checkpoint()
        for q in peaks[i + 1 :]:
            cross = abs(p[0] * q[1] - p[1] * q[0])
            if cross < 0.35 * np.hypot(p[0], p[1]) * np.hypot(q[0], q[1]):
                continue
            a, b = _reduced(p[:2], q[:2])
            score, low = _score(seen, a, b)
            if score >= REGULAR and low >= REGULAR:
                fitting.append((abs(a[0] * b[1] - a[1] * b[0]), score, low, a, b))
    if striped is not None and striped.along >= 0.8 * max((f[2] for f in fitting), default=0.0):
        return _one_way(striped, w, h)
    if not fitting:
        return None
    # Every multiple of the true lattice correlates as well as it does: of those that do, the finest
    enough = 0.8 * max(f[2] for f in fitting)
    _, _, _, a, b = min((f for f in fitting if f[2] >= enough), key=lambda f: f[0])
    a, b = _refined(c, a, b, w, h)
    for _ in range(2):
        if (fewer := _coarser(seen, a, b)) is None:
            break
        a, b = _refined(c, *_reduced(*fewer), w, h)
    a, b = _reduced(a, b)
    score, _ = _score(seen, a, b)
    rectangle = _rectangle(a, b)
    # By chance few points may agree, many hardly do
    count = 0.98 * w * h / max(abs(a[0] * b[1] - a[1] * b[0]), 1.0)
    if score < REGULAR * (0.8 + 6 / count) or rectangle is None:
        return None
    across, down = rectangle
    if across[0] > 0.62 * w or down[1] > 0.62 * h:
        return None

    def parts(v: Vector) -> Vector:
        return v[0] / w, v[1] / h

    return Lattice(parts(a), parts(b), round(float(score), 3), parts(across), parts(down))


def _one_way(found: Stripes, w: int, h: int) -> Lattice:
    """Stripes as a lattice: one repeat across them, the other along them, as long as the sheet."""
    step = found.period / (1 + found.lean**2)  # the period lies along a side of the sheet; the step is square to the stripes
    if found.axis == 0:
        across, down = (step, -step * found.lean), (found.lean * h, float(h))
    else:
        across, down = (float(w), found.lean * w), (-step * found.lean, step)
    a, b = ((float(v[0] / w), float(v[1] / h)) for v in (across, down))
    return Lattice(a, b, round(found.score, 3), a, b, 1 - found.axis)
