"""Which way of making edges meet suits a sheet, by trying those that may."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any, cast

import numpy as np

from silent_loom.core.base.images import Image, Kind
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.base.srgb import encode_srgb
from silent_loom.core.look.features import features
from silent_loom.core.look.fibres import running
from silent_loom.core.look.meters.broken import with_broken
from silent_loom.core.look.meters.seam_meter import seams
from silent_loom.core.look.motif.grid import fit_grid
from silent_loom.core.look.motif.lattice import find_lattice
from silent_loom.core.look.tilt import most_contrast, tilt
from silent_loom.core.moving.resample import at_most, blur, resize
from silent_loom.core.report.judge import contrast_after
from silent_loom.core.report.overlap import LINED, fitting_overlaps
from silent_loom.core.steps.tiling.seamless import SEAMLESS, SeamlessSettings, joins
from silent_loom.core.tiling.cutting.layers import FULL, layers_of
from silent_loom.core.tiling.cutting.meet import LINED as BENT
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.step import DECISION_SIZE, Geometry, Sheet, Sources

SIZE = 512
"""Texels along the longer side of the finished sheet at which methods are tried, where steps in broad tone show best, …"""
PROVED = 2048
"""… and the most at which they are tried at the sheet's own size, where a joint that is doubled by a few texels shows."""
ALIKE = 1.25
"""How much larger the sheet's own size must be than the small one to show anything else."""
GOOD = 0.95
"""Figure at which a method is good enough …"""
FINE, MORE = 0.75, 2
"""… and at which a cut is where there are lines: an end of one weighs little in a figure and is seen. So many overlaps more
are tried for that."""
SMOOTH = 0.85
"""Part of the variance that is broad, from which on a surface counts as smooth."""
RUNNING = 0.5
"""From where on a surface is said to run one way, see `fibres.running`."""
ASKEW, TURNED = 3.0, 0.7
"""Degrees that lines may converge by, or lean, before straightening comes first."""
STRANGE = {"gradient": 0.2, "fade": 0.2}
"""How much better than a cut a method must be where it does not belong: a gradient turns the colours of areas that have
their own, a fade lets what it fades show through."""
KEPT, LOST = 0.95, 2.0
"""Part of local contrast that a join has to keep, and how much better another must be for what is missing."""
JUDGED = 1024
"""Texels along the longer side at which that is looked at, at most."""


@dataclass(frozen=True)
class Suggestion:
    """A method, its settings, and why.

    Attributes
    ----------
    settings : dict
        For the seamless step.
    why : str
        A sentence for the artist.
    figures : dict
        Seam figure (the worse direction) that each method tried has reached at the largest size it was tried at.
    """

    settings: dict[str, Any]
    why: str
    figures: dict[str, float] = field(default_factory=dict)


def _askew(image: Image) -> str:
    """What to do first where the sheet has not been straightened, as a sentence; nothing else."""
    if image.kind is not Kind.COLOUR:
        return ""
    small = at_most(image, JUDGED)
    seen = tilt(most_contrast(encode_srgb(np.clip(small.pixels, 0, 1)).astype(np.float32)))
    worst = max(abs(seen.vertical), abs(seen.horizontal))
    if seen.corners is not None and worst > ASKEW:
        return f" Lines converge by {worst:.0f}°: straighten first, and ask again."
    return f" It is turned by {abs(seen.turned):.1f}°: turn it level first, and ask again." if abs(seen.turned) > TURNED else ""


def smoothness(image: Image) -> float:
    """Part of the variance of a sheet that is broader than a fiftieth of it, 0…1.

    >>> round(smoothness(Image(np.full((64, 64, 3), 0.5, np.float32), Kind.COLOUR)), 2)
    0.94
    """
    planes = features(image)
    broad = blur(planes, 0.02 * max(image.width, image.height), False)
    whole = float(np.var(planes, (0, 1)).sum())
    return float(np.var(broad, (0, 1)).sum()) / max(whole, 1e-9)


def lined(image: Image) -> float:
    """Part of a sheet that is joints, cracks, threads: lines that stand out from its detail, 0…1.

    >>> from silent_loom.core.base.images import Kind
    >>> lined(Image(np.full((64, 64, 3), 0.2, np.float32), Kind.COLOUR))
    0.0
    """
    small = at_most(image, DECISION_SIZE)
    return float(layers_of(features(small), max(small.width, small.height) / FULL).line.mean())


def tried(
    image: Image,
    settings: SeamlessSettings,
    task: Task = IDLE,
    inputs: Mapping[str, Image] | None = None,
    size: int = SIZE,
) -> tuple[Image, float]:
    """A sheet made seamless at a size (longer side of the result), and the seam figure of it.

    >>> from silent_loom.core.base.images import Kind
    >>> noise = Image(np.random.default_rng(1).random((96, 96, 3), np.float32), Kind.COLOUR)
    >>> made, figure = tried(noise, SeamlessSettings(), size=72)
    >>> made.wraps, max(made.width, made.height), figure > 0
    (True, 72, True)
    """
    made, figures = _tried(image, settings, task, inputs, size)
    return made, max(figures)


def _made(
    image: Image, settings: SeamlessSettings, task: Task, inputs: Mapping[str, Image] | None, size: int
) -> tuple[Image, Image, Decision]:
    """A sheet made seamless, what it was made of at that size, and how."""
    before = Geometry(image.size_mm)
    after = SEAMLESS.geometry(settings, before, cast(Sources, None))
    texels = after.at_longer_side(size)
    w, h = SEAMLESS.demand(settings, before, after, (float(texels[0]), float(texels[1])))
    small = resize(image, round(w), round(h), task)
    guide = {"base": at_most(small, DECISION_SIZE, task)} if inputs is None else inputs
    decision = SEAMLESS.decide(settings, guide, before, task)
    made = SEAMLESS.carry(
        settings, small, decision, Sheet(before, after, (float(texels[0]), float(texels[1])), cast(Sources, None)), task
    )
    return made, small, decision


def _tried(
    image: Image, settings: SeamlessSettings, task: Task, inputs: Mapping[str, Image] | None, size: int
) -> tuple[Image, tuple[float, float]]:
    """A sheet made seamless, with the figures of the join across and of the one down."""
    made, small, decision = _made(image, settings, task, inputs, size)
    known = joins(settings, decision, made.width, made.height)
    laid = SEAMLESS.open_sheet(settings, small, made.width, made.height, task)
    x, y = (s.figure for s in seams(made, known, open_sheet=laid, search=False, task=task))
    # What steps at a join already tell needs no second look; whole repeats of a motif leave nothing chopped
    if max(x, y) <= GOOD and settings.method != "motif":
        x, y = with_broken((x, y), made, known, task)
    return made, (x, y)


def _own(image: Image, settings: SeamlessSettings) -> int:
    """Texels along the longer side of the result at the sheet's own pitch."""
    after = SEAMLESS.geometry(settings, Geometry(image.size_mm), cast(Sources, None)).size_mm
    return round(max(after[0] * image.width / image.size_mm[0], after[1] * image.height / image.size_mm[1]))


def _kept(image: Image, settings: SeamlessSettings, task: Task) -> float:
    """Part of local contrast that is left at the joins."""
    made, small, decision = _made(image, settings, task, None, min(JUDGED, _own(image, settings)))
    return min(k.figure for k in contrast_after(settings, decision, small, made, task))


class _Options:
    """What was tried, ranked by its seam figure and, once somebody wants to take it, by the contrast it keeps."""

    def __init__(self, image: Image, task: Task) -> None:
        self._image, self._task = image, task
        self._ranked: list[tuple[float, float, dict[str, Any]]] = []
        self._judged: list[dict[str, Any]] = []

    def add(self, figure: float, settings: dict[str, Any], more: float = 0.0) -> None:
        self._ranked.append((figure + more, figure, settings))

    @property
    def best(self) -> float:
        return min(self._ranked, key=lambda o: o[0])[0]

    def keeps(self) -> bool:
        """Whether the best one keeps its contrast; else it is not the best any more, or not by so much."""
        rank, figure, settings = min(self._ranked, key=lambda o: o[0])
        if settings in self._judged:
            return True
        self._judged.append(settings)
        lacks = max(0.0, KEPT - _kept(self._image, SeamlessSettings(**settings), self._task))
        self._ranked[self._ranked.index((rank, figure, settings))] = (rank + LOST * lacks, figure, settings)
        return lacks == 0

    def taken(self) -> tuple[float, dict[str, Any]]:
        """The best one of all, its seam figure first."""
        while not self.keeps():
            pass
        return min(self._ranked, key=lambda o: o[0])[1:]


def _proved(image: Image, settings: SeamlessSettings, task: Task) -> tuple[float, float]:
    """The seam figures at the sheet's own size, within bounds, and small, the worse of both; of those that were needed."""
    own = _own(image, settings)
    _, (x, y) = _tried(image, settings, task, None, min(PROVED, max(SIZE, own)))
    if max(x, y) > GOOD or own <= ALIKE * SIZE:
        return x, y
    _, small = _tried(image, settings, task, None, SIZE)
    return max(x, small[0]), max(y, small[1])


def _elsewhere(
    image: Image,
    first: tuple[float, float],
    across: list[float],
    down: list[float],
    seen: set[tuple[float, float]],
    enough: float,
    task: Task,
) -> Iterator[tuple[dict[str, Any], float]]:
    """Cuts at the next best overlaps, in the directions in which the best one is not good enough; none that was ``seen``."""
    best = [(first[0], across[0]), (first[1], down[0])]

    def at(x: float, y: float) -> tuple[dict[str, Any], float]:
        seen.add((x, y))
        settings = {"method": "cut", "overlap_x": x, "overlap_y": y}
        figures = _proved(image, SeamlessSettings(**settings), task)
        for k, (figure, part) in enumerate(zip(figures, (x, y), strict=True)):
            best[k] = min(best[k], (figure, part))
        return settings, max(figures)

    for k in range(1, 1 + max(len(across), len(down))):
        x, y = (
            parts[k] if figure > enough and k < len(parts) else part
            for parts, (figure, part) in zip((across, down), best, strict=True)
        )
        if (x, y) not in seen:
            yield at(x, y)
        if (best[0][1], best[1][1]) not in seen:
            yield at(best[0][1], best[1][1])


def _ways(
    overlap: tuple[float, float], fitted: tuple[float, float], smooth: float, lines: float
) -> list[tuple[str, dict[str, Any]]]:
    """Methods with their settings, in the order in which they are tried on a sheet that is so smooth and has so many lines."""
    base = {"overlap_x": fitted[0], "overlap_y": fitted[1]}
    asked = {"overlap_x": overlap[0], "overlap_y": overlap[1]}
    wide = {k: min(0.45, 1.8 * v) for k, v in base.items()}
    ways: list[tuple[str, dict[str, Any]]] = [
        ("cut", {"method": "cut", **base}),
        *([("cut, not bent", {"method": "cut", "bend": False, **base})] if lines >= BENT else []),
        *([("cut, as asked", {"method": "cut", **asked})] if fitted != overlap else []),
        ("cut by difference", {"method": "cut", "cut_by": "difference", **base}),
        ("gradient", {"method": "gradient", **base}),
        ("cut, wide", {"method": "cut", **wide}),
        *([("fade", {"method": "fade", **base})] if lines < LINED else []),
    ]
    if smooth > SMOOTH:
        ways.sort(key=lambda way: way[0] != "gradient")
    return ways


def suggest(image: Image, overlap: tuple[float, float] = (0.2, 0.2), task: Task = IDLE) -> Suggestion:
    """Suggest a method for a sheet.

    Parameters
    ----------
    image : Image
        What comes into the seamless step: its guide thread, usually base colour.
    overlap : tuple of float
        Parts of the sheet that may be consumed.

    Notes
    -----
    A regular motif asks for whole repeats. Otherwise the overlaps are fitted (`overlap.fitting_overlaps`), cut, gradient
    and fade are tried, small and at the sheet's own size, in the order that suits the content, and the first whose joins cannot
    be told apart from the surface, and keep its local contrast (`contrast_meter.contrast_kept`), is taken; if none is that
    good, the best, with a wider overlap tried as well. A fade is not tried where the surface has joints, cracks or other
    lines: they would be seen through each other.

    >>> from silent_loom.core.base.images import Kind
    >>> y, x = np.mgrid[0:256, 0:256]
    >>> dots = ((x % 32 - 16) ** 2 + (y % 32 - 16) ** 2 < 64).astype(np.float32)
    >>> suggest(Image(np.repeat(dots[..., None], 3, 2), Kind.COLOUR)).settings["method"]
    'motif'
    """
    task.report(0.0, "looking for a motif")
    figures: dict[str, float] = {}
    lattice = find_lattice(image, task) if image.kind is not Kind.ID else None
    grid = fit_grid(image, lattice, task) if lattice else None
    options = _Options(image, task)
    if lattice and grid:
        n, m = grid.repeats
        settings = grid.settings()
        figure = max(_proved(image, SeamlessSettings(**settings), task))
        figures["motif"] = round(figure, 3)
        if figure <= GOOD or lattice.regular > 0.4:
            sizes = " × ".join(f"{v:.4g}" for v in lattice.repeats(*image.size_mm))
            what = "A motif repeats" if lattice.free is None else "Stripes repeat"
            kept = f"{n} × {m}" if lattice.free is None else f"{max(n, m)}"
            why = f"{what} every {sizes} mm: {kept} whole repeats are kept."
            return Suggestion(settings, why, figures)
        options.add(figure, settings)
    task.report(0.15, "fitting the overlap")
    across, down = fitting_overlaps(image, overlap, task) if image.kind is not Kind.ID else ([overlap[0]], [overlap[1]])
    fitted = across[0], down[0]
    smooth, lines = smoothness(image), lined(image)
    ways = _ways(overlap, fitted, smooth, lines)
    enough = FINE if lines >= LINED else GOOD
    seen = {fitted}
    straight = "cut, not bent" if lines >= BENT else "cut"
    cut_figures = (np.inf, np.inf)
    for i, (name, settings) in enumerate(ways):
        if name == "cut, as asked" and overlap in seen:
            continue
        task.report(0.25 + 0.12 * i, f"trying {name}")
        method = str(settings["method"])
        each = _proved(image, SeamlessSettings(**settings), task)
        figures[name] = round(max(each), 3)
        more = 0.0 if method == "gradient" and smooth > SMOOTH else STRANGE.get(method, 0.0)
        options.add(max(each), settings, more)
        if name == "cut":
            cut_figures = each
        if name == straight and options.best > enough:
            for k, (other, figure) in enumerate(_elsewhere(image, cut_figures, across, down, seen, enough, task), 1):
                figures["cut, elsewhere"] = min(round(figure, 3), figures.get("cut, elsewhere", np.inf))
                options.add(figure, other)
                if figure <= enough or (options.best <= GOOD and k >= MORE):
                    break
        if options.best <= (enough if name == "cut" else GOOD) and options.keeps():
            break
    reached, settings = options.taken()
    settings = {"cut_by": "lines", "bend": True, **settings}  # nothing of an earlier suggestion is to stay
    return Suggestion(settings, _why(str(settings["method"]), image, smooth, lines, reached) + _askew(image), figures)


def _why(method: str, image: Image, smooth: float, lines: float, figure: float) -> str:
    cut = "The surface has edges: a cut between them hides best"
    if lines < LINED:
        cut = "The surface has no joints or other lines: a cut where both sides look alike hides best"
    planes = features(at_most(image, DECISION_SIZE))
    if max(running(planes, 0), running(planes, 1)) > RUNNING:
        cut = "Everything runs one way: along it one side goes over softly into the other, and beside it they are cut"
    spread = (
        f"The surface is smooth ({100 * smooth:.0f} % of what varies is broad): the difference is spread out"
        if smooth > SMOOTH
        else "A cut alone leaves a step in tone: the difference is spread out"
    )
    reason = {
        "cut": cut,
        "gradient": spread,
        "fade": "The surface is an even grain: a fade that keeps contrast hides best",
        "motif": "A motif repeats: whole repeats are kept",
    }[method]
    return f"{reason}; the join reaches {figure:.2f} (up to 1 it cannot be told)."
