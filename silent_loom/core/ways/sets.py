"""Finished maps straight from files: made seamless together, or broken up, and written beside each other."""

from __future__ import annotations

import json
import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, cast

import numpy as np

from silent_loom.core.base.errors import LoomError, SettingError
from silent_loom.core.base.images import Image
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.delivery.placing import MANIFEST, check_folder, gathered
from silent_loom.core.files import Limits
from silent_loom.core.look.meters.broken import with_broken
from silent_loom.core.look.meters.seam_meter import seams
from silent_loom.core.moving.resample import at_most, resize
from silent_loom.core.report.judge import contrast_after
from silent_loom.core.report.overlap import fitted_overlap
from silent_loom.core.report.suggest import suggest
from silent_loom.core.report.suggesting import motif_settings
from silent_loom.core.steps.tiling.breakup import BreakUp, BreakUpSettings
from silent_loom.core.steps.tiling.quilt import Quilt, QuiltSettings
from silent_loom.core.steps.tiling.seamless import SEAMLESS, SeamlessSettings, joins
from silent_loom.core.ways.map_files import Map, load_all, save
from silent_loom.core.weave.step import DECISION_SIZE, CarryStep, Geometry, Sheet, Sources

_NO_SOURCES = cast(Sources, None)


def _guide(image: Image, size: int) -> dict[str, Image]:
    """What decides: the first map, at the decision size."""
    return {"base": at_most(image, size)}


def _manifest(hidden: Path, entries: list[dict[str, Any]], about: dict[str, Any]) -> None:
    text = json.dumps({**about, "files": entries}, indent=2, ensure_ascii=False)
    (hidden / MANIFEST).write_text(f"{text}\n", "utf-8")


@dataclass(frozen=True)
class _Run:
    """Files on their way through one step: what was read, and where to."""

    made_by: str
    started: float
    replaceable: dict[str, str]
    maps: list[Map]
    notes: list[str]

    @classmethod
    def of(
        cls, made_by: str, files: Sequence[Path], out: Path, normals: Sequence[Path], force: bool, limits: Limits | None
    ) -> _Run:
        started = time.perf_counter()
        if not files:
            raise LoomError("no file was named", made_by, "Name at least one picture.")
        replaceable = check_folder(out, force)
        return cls(made_by, started, replaceable, *load_all(files, normals, limits))

    def told(self, folder: Path, entries: list[dict[str, Any]], made: dict[str, Any]) -> dict[str, Any]:
        """What was made, with its manifest written."""
        whole = {**made, "notes": self.notes, "seconds": round(time.perf_counter() - self.started, 3)}
        _manifest(folder, entries, {"made_by": self.made_by, **whole})
        return {**whole, "files": [e["file"] for e in entries]}


def seamless_files(
    files: Sequence[Path],
    out: Path,
    *,
    method: str = "suggested",
    overlap: float = 0.2,
    overlap_y: float | None = None,
    fit_overlap: bool = False,
    bend: bool | None = None,
    normals: Sequence[Path] = (),
    force: bool = False,
    limits: Limits | None = None,
    task: Task = IDLE,
) -> dict[str, Any]:
    """Make maps seamless together: the first guides, all are moved alike.

    Whether both ends of an overlap are bent towards each other (``bend``) is the method's own choice where it is None.

    Returns
    -------
    dict
        method, why, tried, overlap, bent (directions whose ends were), size, seam_x_before, seam_y_before, seam_x_after,
        seam_y_after, contrast_x_after, contrast_y_after, repeats, notes, seconds, files.

    Raises
    ------
    LoomError
    """
    task.report(0.0, "reading")
    run = _Run.of("seamless", files, out, normals, force, limits)
    maps, notes = run.maps, run.notes
    guide = maps[0].image
    over_y = overlap if overlap_y is None else overlap_y
    s, why, tried = _chosen(guide, method, (overlap, over_y), fit_overlap, bend, task)
    before = Geometry(guide.size_mm)
    after = SEAMLESS.geometry(s, before, _NO_SOURCES)
    texels = after.size_mm  # one pixel of the files is one unit
    decision = SEAMLESS.decide(s, _guide(guide, DECISION_SIZE), before, task.part(0.3, 0.35))
    size = round(texels[0]), round(texels[1])
    sheet = Sheet(before, after, (float(size[0]), float(size[1])), _NO_SOURCES)
    entries: list[dict[str, Any]] = []
    figures: dict[str, Any] = {}
    with gathered(out, run.replaceable) as hidden:
        for i, m in enumerate(maps):
            task.report(0.35 + 0.6 * i / len(maps), m.path.name)
            done = m.through(lambda image: SEAMLESS.carry(s, _fitting(s, image, size), decision, sheet, task.part(0, 0)))
            if i == 0:
                figures = _figures(s, guide, done.image, decision, task)
            entries.append(save(hidden, done, task.part(0, 0)))
        notes += list(decision.warnings)
        made = {
            "method": s.method,
            "why": why,
            "tried": tried,
            "overlap": [s.overlap_x, s.overlap_y],
            "bent": sorted(k[-1] for k in decision.arrays if k.startswith(("shift_", "bend_"))),
            "size": list(size),
            **figures,
            "repeats": [s.grid_x, s.grid_y] if s.method == "motif" else None,
            "grid": s.grid if s.method == "motif" else None,
        }
        return run.told(hidden, entries, made)


def _chosen(
    guide: Image, method: str, overlaps: tuple[float, float], fit_overlap: bool, bend: bool | None, task: Task
) -> tuple[SeamlessSettings, str, dict[str, Any]]:
    # The settings of the step, why these, and the figures of what was tried
    why, tried = "", {}
    settings: dict[str, Any] = {"method": method, "overlap_x": overlaps[0], "overlap_y": overlaps[1]}
    if method == "suggested":
        told = suggest(guide, overlaps, task.part(0.05, 0.3))
        settings, why, tried = told.settings, told.why, told.figures
    elif method == "motif":
        settings = motif_settings(guide, task)
    elif fit_overlap and method != "mirror":
        x, y = fitted_overlap(guide, overlaps, task.part(0.05, 0.3))
        settings |= {"overlap_x": x, "overlap_y": y}
    if bend is not None:
        settings["bend"] = bend
    try:
        return SeamlessSettings(**settings), why, tried
    except ValueError as error:
        raise SettingError(str(error).split("\n")[-2].strip(), "seamless", "Overlaps lie between 0.02 and 0.5.") from None


def _fitting(s: SeamlessSettings, image: Image, size: tuple[int, int]) -> Image:
    """The image as the step wants it for a result of this size: a row or column may have to go, since pixels are whole."""
    if s.method in ("mirror", "motif"):
        return image
    from silent_loom.core.weave.step import whole

    w, h = whole(SEAMLESS.demand(s, Geometry(), Geometry(), (float(size[0]), float(size[1]))))
    pixels = image.pixels[: min(h, image.height), : min(w, image.width)]
    if pixels.shape[:2] != (h, w):
        pixels = np.pad(pixels, ((0, h - pixels.shape[0]), (0, w - pixels.shape[1]), (0, 0)), mode="edge")
    return replace(image, pixels=np.ascontiguousarray(pixels), size_mm=(float(w), float(h)))


def _figures(s: SeamlessSettings, guide: Image, done: Image, decision: Any, task: Task) -> dict[str, Any]:
    scale = min(1.0, 2048 / max(done.width, done.height))
    bx, by = seams(replace(_small(guide, scale), wraps=True), search=False, task=task)
    small = _small(done, scale)
    known = joins(s, decision, small.width, small.height)
    coming = _fitting(s, _small(guide, scale), (small.width, small.height))
    laid = SEAMLESS.open_sheet(s, coming, small.width, small.height, task)
    cx, cy = contrast_after(s, decision, coming, small, task)
    ax, ay = seams(replace(small, wraps=True), known, open_sheet=laid, search=False, task=task)
    after_x, after_y = with_broken((ax.figure, ay.figure), small, known, task)
    return {
        "seam_x_before": round(bx.figure, 4),
        "seam_y_before": round(by.figure, 4),
        "seam_x_after": round(after_x, 4),
        "seam_y_after": round(after_y, 4),
        "contrast_x_after": round(cx.figure, 3),
        "contrast_y_after": round(cy.figure, 3),
    }


def _small(image: Image, scale: float) -> Image:
    return image if scale >= 1 else resize(image, max(8, round(image.width * scale)), max(8, round(image.height * scale)))


def break_up_files(
    files: Sequence[Path],
    out: Path,
    *,
    repeat: tuple[int, int] = (4, 4),
    seed: int = 7,
    cell_mm: float = 0.0,
    turn_deg: float = 0.0,
    cells: str = "irregular",
    width_mm: float = 1000.0,
    normals: Sequence[Path] = (),
    force: bool = False,
    limits: Limits | None = None,
    task: Task = IDLE,
) -> dict[str, Any]:
    """Break seamless maps up into a larger sheet, all through the same cells.

    Parameters
    ----------
    width_mm : float
        Real width of one repeat; cells are measured by it.

    Returns
    -------
    dict
        size, repeat, cells, seed, notes, seconds, files.
    """
    run = _Run.of("break-up", files, out, normals, force, limits)
    maps, notes = run.maps, run.notes
    guide = maps[0].image
    bound = limits or Limits()
    bound.check("the larger sheet", guide.width * repeat[0], guide.height * repeat[1], 12)
    x, y = seams(replace(_small(guide, min(1.0, 1024 / max(guide.width, guide.height))), wraps=True), search=False, task=task)
    if max(x.figure, y.figure) > 3:
        notes.append(f"{files[0].name}: its edges do not meet (seam {max(x.figure, y.figure):.1f}): make it seamless first")
    size = (width_mm, width_mm * guide.height / guide.width)
    s = BreakUpSettings(
        repeat_x=repeat[0], repeat_y=repeat[1], seed=seed, cell_mm=cell_mm, turn_deg=turn_deg, cells=cast(Any, cells)
    )
    texels = guide.width * repeat[0], guide.height * repeat[1]
    with gathered(out, run.replaceable) as hidden:
        _, figures, entries = _larger(BreakUp(), s, maps, size, True, texels, hidden, task)
        made = {
            "size": list(texels),
            "repeat": list(repeat),
            **figures,
            "seed": seed,
        }
        return run.told(hidden, entries, made)


def grow_files(
    files: Sequence[Path],
    out: Path,
    *,
    times: tuple[float, float] = (2.0, 2.0),
    seed: int = 7,
    piece: float = 0.4,
    wraps: bool = False,
    normals: Sequence[Path] = (),
    force: bool = False,
    limits: Limits | None = None,
    task: Task = IDLE,
) -> dict[str, Any]:
    """Grow a larger, seamless sheet that does not repeat; all maps by the same pieces.

    Parameters
    ----------
    times : tuple of float
        How many times as wide and as high as the files.
    piece : float
        Width of a piece as a part of the shorter side.
    wraps : bool
        The files repeat already: pieces may be taken across their edges.

    Returns
    -------
    dict
        size, times, pieces, seed, seam_x_after, seam_y_after, notes, seconds, files.
    """
    run = _Run.of("grow", files, out, normals, force, limits)
    maps = run.maps
    guide = maps[0].image
    try:
        s = QuiltSettings(times_x=times[0], times_y=times[1], seed=seed, piece=piece)
    except ValueError as error:
        raise SettingError(
            str(error).split("\n")[2].strip().partition(" [")[0], "grow", "Times lie between 0.5 and 8, pieces 0.1 and 0.8."
        ) from None
    texels = round(guide.width * times[0]), round(guide.height * times[1])
    (limits or Limits()).check("the larger sheet", *texels, 12)
    with gathered(out, run.replaceable) as hidden:
        first, figures, entries = _larger(Quilt(), s, maps, guide.size_mm, wraps, texels, hidden, task)
        x, y = seams(_small(first, min(1.0, 2048 / max(texels))), search=False, task=task)
        made = {
            "size": list(texels),
            "times": list(times),
            **figures,
            "seed": seed,
            "seam_x_after": round(x.figure, 4),
            "seam_y_after": round(y.figure, 4),
        }
        return run.told(hidden, entries, made)


def _larger(
    step: CarryStep[Any],
    s: Any,
    maps: Sequence[Map],
    size_mm: tuple[float, float],
    wraps: bool,
    texels: tuple[int, int],
    out: Path,
    task: Task,
) -> tuple[Image, dict[str, Any], list[dict[str, Any]]]:
    """Every map through a step that makes a larger sheet, decided on the first: that map, figures, the files written."""
    before = Geometry(size_mm, wraps)
    after = step.geometry(s, before, _NO_SOURCES)
    guide = replace(maps[0].image, size_mm=size_mm, wraps=wraps)
    decision = step.decide(s, _guide(guide, round(step.decision_scale * DECISION_SIZE) or 8), before, task.part(0, 0.3))
    sheet = Sheet(before, after, (float(texels[0]), float(texels[1])), _NO_SOURCES)
    entries: list[dict[str, Any]] = []
    first = guide
    for i, m in enumerate(maps):
        task.report(0.3 + 0.7 * i / len(maps), m.path.name)
        done = m.through(
            lambda image: step.carry(s, replace(image, size_mm=size_mm, wraps=wraps), decision, sheet, task.part(0, 0))
        )
        entries.append(save(out, done, task.part(0, 0)))
        first = done.image if i == 0 else first
    return first, dict(decision.figures), entries
