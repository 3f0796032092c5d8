"""What has to be true before a bake begins, in the order in which it is mended."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.form.bake.bake import Order, pairs_of
from silent_loom.core.form.bake.dense import Source
from silent_loom.core.form.bake.surface import Surface
from silent_loom.core.form.bake.targets import TARGETS
from silent_loom.core.form.model import Model
from silent_loom.core.form.uv.check import UvCheck, check

TRIED = 256
"""Texels along a side at which misses are counted beforehand."""
MISSED = 0.02
"""Share of texels from which on misses are a fault."""
DENSE_ONLY = ("height",)
"""Maps that say nothing where the model is baked onto itself."""


@dataclass(frozen=True)
class Point:
    """One line of the list.

    Attributes
    ----------
    name : str
        mesh, uvs, targets, settings or distance.
    good : bool
    words, todo : str
        What is, and what to do about it where it is not good.
    reach_mm : tuple of float
        Of the distance: how far outside rays start, and how far inside they end.
    """

    name: str
    good: bool
    words: str
    todo: str = ""
    reach_mm: tuple[float, float] = (0.0, 0.0)


def checklist(model: Model | None, dense: Source | None, order: Order, task: Task = IDLE) -> list[Point]:
    """Look at everything in order; what depends on a point that is not good is left out.

    >>> [p.name for p in checklist(None, None, Order())]
    ['mesh']
    """
    if model is None:
        return [Point("mesh", False, "No model is chosen.", "Bring in the model that the maps are for.")]
    count = f"{len(model):,} triangles"
    if dense is not None:
        count += f", detail from {sum(len(m) for m in dense.models):,}"
    points = [Point("mesh", True, count)]
    uvs = _uvs(model, order, task)
    points += [uvs, _targets(order, dense), _settings(order)]
    if all(p.good for p in points):
        points.append(_distance(model, dense, order, task))
    return points


def _uvs(model: Model, order: Order, task: Task) -> Point:
    found: UvCheck = check(model, order.uv, max(order.size), task=task.part(0.0, 0.0))
    grave = [f for f in found.faults if f.grave and f.kind in ("missing", "overlapping", "outside", "tiles", "zero", "padding")]
    if not grave:
        return Point("uvs", True, f"{len(found.islands)} islands, {100 * (1 - found.empty):.0f} % of the square is used.")
    first = grave[0]
    return Point("uvs", False, first.words, first.cure)


def _targets(order: Order, dense: Source | None) -> Point:
    unknown = [m for m in order.maps if m not in TARGETS]
    if unknown or not order.maps:
        words = f"There is no map {unknown[0]!r}." if unknown else "No map is chosen."
        return Point("targets", False, words, f"Choose from {', '.join(TARGETS)}.")
    empty = [m for m in order.maps if m in DENSE_ONLY] if dense is None else []
    if empty and len(empty) == len(order.maps):
        return Point("targets", False, "Without a dense mesh the height is flat.", "Choose a dense mesh, or another map.")
    return Point("targets", True, ", ".join(TARGETS[m].title for m in order.maps))


def _settings(order: Order) -> Point:
    w, h = order.size
    if not (16 <= w <= 16384 and 16 <= h <= 16384):
        return Point("settings", False, f"{w} × {h} texels cannot be baked.", "Choose 16 to 16384.")
    if order.samples not in (1, 2, 4):
        return Point("settings", False, f"{order.samples} samples of a texel cannot be taken.", "Choose 1, 2 or 4.")
    if order.rays < 1 or order.rays > 4096:
        return Point("settings", False, f"{order.rays} rays cannot be cast.", "Choose 1 to 4096.")
    fine = f", {order.samples} × {order.samples} samples each" if order.samples > 1 else ""
    return Point("settings", True, f"{w} × {h} texels{fine}")


def _distance(model: Model, dense: Source | None, order: Order, task: Task) -> Point:
    if dense is None:
        return Point("distance", True, "The model is baked onto itself: no rays can miss.")
    try:
        pairs = pairs_of(model, dense, order, task.part(0.0, 0.0))
    except LoomError as error:
        return Point("distance", False, f"{error.what[0].upper()}{error.what[1:]}.", error.todo)
    surface = Surface(model, order.uv, (TRIED, TRIED), 1, pairs)
    seen = missed = 0
    for band in surface.bands(task.part(0.0, 0.0)):
        seen += len(band.met)
        missed += int((band.met < 0).sum())
    share = missed / max(1, seen)
    front = max((p.cage.front_mm for p in pairs if p.cage is not None), default=0.0)
    back = max((p.cage.back_mm for p in pairs if p.cage is not None), default=0.0)
    words = f"Rays start {front:.3g} mm outside and end {back:.3g} mm inside; {100 * share:.2f} % of them miss."
    return Point(
        "distance",
        share <= MISSED,
        words,
        "" if share <= MISSED else "Widen the distance, or check that both meshes lie in the same place.",
        (front, back),
    )


def insist(points: Sequence[Point]) -> None:
    """Refuse what cannot end well.

    Raises
    ------
    LoomError
        By the first point that is not good.

    >>> insist([Point("mesh", True, "12 triangles")])
    """
    for p in points:
        if not p.good:
            raise LoomError(p.words.rstrip("."), p.name, p.todo)
