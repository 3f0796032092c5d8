"""Break-up: a larger sheet of irregular cells or hexagons, each showing another part of the repeat, turned or not."""

from __future__ import annotations

import math
from collections.abc import Mapping
from functools import partial
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import Task, over_rows
from silent_loom.core.moving.gauss import Gauss, learn, sampled, scores_of
from silent_loom.core.moving.slopes import normals_of, slopes_of
from silent_loom.core.tiling.pieces.breaking import label_cells, show_cells
from silent_loom.core.tiling.pieces.follow import kept_to, motif_of
from silent_loom.core.tiling.pieces.pieces import BLOCK, framed
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, setting
from silent_loom.core.weave.step import CarryStep, Geometry, Sheet, Sources, Texels


class BreakUpSettings(Settings):
    repeat_x: int = setting(3, "How many repeats wide the larger sheet is.", title="Tiles across", low=1, high=64, soft=(1, 8))
    repeat_y: int = setting(3, "How many repeats high the larger sheet is.", title="Tiles down", low=1, high=64, soft=(1, 8))
    cells: Literal["irregular", "hexagons"] = setting("irregular", "Outline of the cells.")
    cell_mm: float = setting(
        0.0,
        "Width of a cell; half the repeat by default.",
        title="Cell size",
        unit="mm",
        low=0,
        high=1e6,
        soft=(0, 2000),
        empty="automatic",
    )
    follow: Literal["automatic", "freely"] = setting(
        "automatic",
        "Where elements lie on a grid or in courses, pieces are moved by whole steps of it, so that joints meet.",
        title="Keep to the motif",
        names={"automatic": "where there is one", "freely": "no, anywhere"},
    )
    stray: float = setting(
        0.7,
        "How far cells stray across from an even grid.",
        title="Uneven across",
        low=0,
        high=1,
        step=0.01,
        when={"cells": ["irregular"]},
    )
    stray_y: float | None = setting(
        None,
        "Part of the height that is laid over itself, where it differs.",
        title="Uneven down",
        low=0,
        high=1,
        step=0.01,
        when={"cells": ["irregular"]},
        empty="as across",
    )
    roam: float = setting(
        1.0,
        "How far across from its own place each cell may take its part of the repeat.",
        title="Taken from across",
        low=0,
        high=1,
        step=0.01,
    )
    roam_y: float | None = setting(
        None,
        "Part of the height that is laid over itself, where it differs.",
        title="Taken from down",
        low=0,
        high=1,
        step=0.01,
        empty="as across",
    )
    turns: Literal["freely", "quarters"] = setting(
        "freely",
        "Cells are turned by any angle up to the one below, or by quarter turns.",
        title="Turned",
        names={"freely": "by any angle", "quarters": "by quarter turns"},
    )
    turn_deg: float = setting(
        0.0,
        "Cells are turned by up to this much either way.",
        title="Turn up to",
        unit="°",
        low=0,
        high=180,
        step=1,
        when={"turns": ["freely"]},
    )
    join: float = setting(
        0.12, "Width over which cells go over into each other.", unit="of a cell", low=0.02, high=0.5, step=0.01
    )
    seed: int = setting(7, "Another seed, another arrangement.", low=0, high=1_000_000, soft=(0, 100))


class BreakUp(CarryStep[BreakUpSettings]):
    """Random pieces of a seamless repeat, joined with their contrast kept.

    Notes
    -----
    The larger sheet is parted into the Voronoi cells of points on a grid that wraps: jittered ones (Worley 1996) or a
    triangular grid, whose cells are hexagons (Mikkelsen 2022). Every cell shows the repeat from another place and,
    if wanted, turned. Where cells meet, the Gaussian forms of their samples are blended with the deviation of the sum kept,
    and brought back to the histogram of the surface (Heitz & Neyret 2018), so the blend is as rich in contrast as the rest.
    The field is one for every thread: heights stay continuous, slopes turn with their cell, ids are never blended.

    References
    ----------
    Worley, A cellular texture basis function, SIGGRAPH 1996. Heitz & Neyret, High-performance by-example noise using a
    histogram-preserving blending operator, HPG 2018. Mikkelsen, Practical real-time hex-tiling, JCGT 11, 2022.
    """

    name = "breakup"
    can = frozenset({"break"})
    panel = "cells"
    title = "Break up"
    words_for_it = ("repetition", "random", "pieces", "larger", "variation", "break-up", "tiling")
    sentence = "Makes a larger sheet without visible repetition from irregular pieces of the repeat."
    version = 2
    decides = True
    decision_scale = 0.5
    Settings = BreakUpSettings

    def words(self, s: BreakUpSettings) -> str:
        return f"{s.repeat_x} × {s.repeat_y}, {s.cells}"

    def works_on(self, s: BreakUpSettings) -> Literal["both", "sheet", "model"]:
        return "sheet"

    def geometry(self, s: BreakUpSettings, before: Geometry, sources: Sources) -> Geometry:
        if not before.wraps:
            raise WeaveError("it needs a sheet whose edges meet", self.title, "Put Seamless above it.")
        return Geometry((before.size_mm[0] * s.repeat_x, before.size_mm[1] * s.repeat_y), True)

    def demand(self, s: BreakUpSettings, before: Geometry, after: Geometry, texels: Texels) -> Texels:
        return max(1.0, texels[0] / s.repeat_x), max(1.0, texels[1] / s.repeat_y)

    def decide(self, s: BreakUpSettings, inputs: Mapping[str, Image], geometry: Geometry, task: Task) -> Decision:
        size = geometry.size_mm[0] * s.repeat_x, geometry.size_mm[1] * s.repeat_y
        cells = layout(s, geometry.size_mm)
        figures: dict[str, Any] = {"cells": int(cells[..., 0].size), "cell_mm": round(size[0] / cells.shape[1], 3)}
        base, turned = inputs.get("base"), s.turns == "quarters" or s.turn_deg > 0
        warnings: tuple[str, ...] = ()
        if s.follow == "automatic" and base is not None:
            motif = motif_of(base, task)
            if motif is not None and turned:
                warnings = ("Its elements repeat, but turned pieces cannot keep to them: joints may not meet.",)
            elif motif is not None:
                cells = kept_to(cells, motif, geometry.size_mm)
            figures["keeps_to"] = "" if motif is None or turned else motif.words
        return Decision({"cells": cells}, figures, warnings)

    def carry(self, s: BreakUpSettings, image: Image, decision: Decision, sheet: Sheet, task: Task) -> Image:
        pixels = broken_up(image, decision.arrays["cells"], sheet.width, sheet.height, sheet.after.size_mm, s.join, s.cells, task)
        return Image(pixels, image.kind, sheet.size_mm, True)


def layout(s: BreakUpSettings, tile_mm: tuple[float, float]) -> NDArray[np.float64]:
    """The cells of a sheet.

    Returns
    -------
    array, shape (rows, columns, 5)
        Centre in mm (x, y), displacement into the repeat in mm (x, y), turn in radians.

    >>> layout(BreakUpSettings(), (1000.0, 1000.0)).shape[-1]
    5
    """
    w, h = tile_mm[0] * s.repeat_x, tile_mm[1] * s.repeat_y
    cell = s.cell_mm if s.cell_mm > 0 else 0.5 * min(tile_mm)
    columns = max(2, round(w / cell))
    rows = max(2, 2 * round(h / (cell * math.sqrt(0.75)) / 2))  # even, so that shifted rows wrap
    if rows * columns > 4_000_000:
        raise WeaveError("the cells are too small for so large a sheet", "Break up", "Make the cells larger.")
    rng = np.random.default_rng(s.seed)
    jitter = rng.uniform(-0.5, 0.5, (rows, columns, 2))
    roam, straying = (s.roam, s.roam if s.roam_y is None else s.roam_y), (s.stray, s.stray if s.stray_y is None else s.stray_y)
    shift = rng.uniform(-0.5, 0.5, (rows, columns, 2)) * roam
    turn = np.radians(s.turn_deg) * rng.uniform(-1, 1, (rows, columns))
    if s.turns == "quarters":
        turn = np.pi / 2 * rng.integers(0, 4, (rows, columns))
    j, i = np.mgrid[0:rows, 0:columns].astype(np.float64)
    stray_x, stray_y = (0.9 * v if s.cells == "irregular" else 0.0 for v in straying)
    x = (i + 0.25 + 0.5 * (j % 2) + stray_x * jitter[..., 0]) * w / columns
    y = (j + 0.5 + stray_y * jitter[..., 1]) * h / rows
    return np.stack([x, y, shift[..., 0] * tile_mm[0], shift[..., 1] * tile_mm[1], turn], -1)


def _ragged(n: int, length: float, cell: float, much: float, phase: float) -> NDArray[np.float64]:
    """How far the edges of cells lean at every texel of a side: a wavy line that wraps."""
    at = (np.arange(n) + 0.5) / n * 2 * np.pi
    k = max(1, round(length / cell))
    return much * (
        0.6 * np.sin(k * at + phase) + 0.3 * np.sin((2 * k + 1) * at + 2.3 * phase) + 0.15 * np.sin((5 * k + 2) * at + phase)
    )


def broken_up(
    image: Image,
    cells: NDArray[np.float64],
    width: int,
    height: int,
    size_mm: tuple[float, float],
    join: float,
    outline: str,
    task: Task,
) -> Floats:
    """One thread through the cells.

    Parameters
    ----------
    image : Image
        A repeat that wraps.
    cells : array
        See `layout`.
    width, height : int
        Texels of the larger sheet.
    size_mm : tuple of float
        Its size.
    join : float
        Width of the transitions as a part of a cell.
    outline : str
        'irregular' cells get ragged edges.

    >>> from silent_loom.core.base.parallel import IDLE
    >>> sheet = Image(np.random.default_rng(1).random((32, 32, 1), np.float32), Kind.DATA, (100.0, 100.0), True)
    >>> cells = layout(BreakUpSettings(), sheet.size_mm)
    >>> broken_up(sheet, cells, 64, 64, (200.0, 200.0), 0.2, "irregular", IDLE).shape
    (64, 64, 1)
    """
    slopes = image.kind is Kind.NORMAL
    pitch = image.size_mm[0] / image.width, image.size_mm[1] / image.height
    ratio = max(size_mm[0] / width / pitch[0], size_mm[1] / height / pitch[1])
    frame = math.ceil(BLOCK * max(1.0, ratio * max(pitch) / min(pitch))) + 4  # a turned block, from a middle in the repeat
    values = framed(slopes_of(image.pixels, task) if slopes else image.pixels, frame)
    plain = slopes or image.kind is Kind.ID
    tables = _IDENTITY if plain else learn(sampled(image.pixels), image.kind)
    mixed = values if plain else scores_of(values, tables, task)
    cell = size_mm[0] / cells.shape[1]
    tiles = round(size_mm[0] / image.size_mm[0]), round(size_mm[1] / image.size_mm[1])
    exact = width == tiles[0] * image.width and height == tiles[1] * image.height
    out = np.empty((height, width, values.shape[2]), np.float32)
    much = 0.09 * cell if outline == "irregular" else 0.0
    run = partial(
        show_cells,
        values,
        mixed,
        frame,
        image.width,
        image.height,
        _with_turns(cells),
        size_mm[0],
        size_mm[1],
        join * cell,
        _ragged(height, size_mm[1], cell, much, 0.7),
        _ragged(width, size_mm[0], cell, much, 1.9),
        pitch[0],
        pitch[1],
        exact,
        slopes,
        image.kind is Kind.ID,
        tables.back,
        tables.to_value,
        out,
    )
    over_rows(-(-height // BLOCK), run, task, least=2, cost=width * 64 * BLOCK * out.shape[2] * 2e-5)
    return normals_of(out, task) if slopes else out


_IDENTITY = Gauss(*(np.zeros((3, 3), np.float32),) * 2, np.zeros((3, 4), np.float32), np.zeros((3, 2), np.float32))


def outlines(s: BreakUpSettings, tile_mm: tuple[float, float], width: int, height: int, task: Task) -> Image:
    """The cells by themselves, a flat colour each, as they are joined on the surface.

    >>> from silent_loom.core.base.parallel import IDLE
    >>> outlines(BreakUpSettings(), (100.0, 100.0), 64, 64, IDLE).pixels.shape
    (64, 64, 3)
    """
    cells = layout(s, tile_mm)
    size = tile_mm[0] * s.repeat_x, tile_mm[1] * s.repeat_y
    rows, columns = cells.shape[:2]
    tones = np.random.default_rng(3).uniform(0.1, 0.8, (rows * columns, 3)).astype(np.float32)
    numbers = np.empty((height, width, 1), np.float32)
    cell = size[0] / columns
    much = 0.09 * cell if s.cells == "irregular" else 0.0
    lean = _ragged(height, size[1], cell, much, 0.7), _ragged(width, size[0], cell, much, 1.9)
    over_rows(height, partial(label_cells, cells, size[0], size[1], *lean, numbers), task)
    return Image(np.ascontiguousarray(tones[numbers[..., 0].astype(int)]), Kind.COLOUR, size, True)


def _with_turns(cells: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.ascontiguousarray(np.concatenate([cells, np.cos(cells[..., 4:5]), np.sin(cells[..., 4:5])], -1))
