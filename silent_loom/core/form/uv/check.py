"""Whether the UVs of a model can carry a texture: what is wrong, in words, with what cures it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.form.model import Model, highest, lowest
from silent_loom.core.form.uv.faults import UNWRAP, Fault, Island, Look, densities
from silent_loom.core.form.uv.gaps import Gaps, gaps
from silent_loom.core.form.uv.islands import Islands, islands, uv_areas
from silent_loom.core.form.uv.raster import covers, rasterised
from silent_loom.core.form.uv.sewing import seams
from silent_loom.core.form.uv.stretch import Stretch, stretch

DRAWN = 2048
"""Texels along a side at most at which a layout is drawn to look for overlaps and gaps."""


@dataclass(frozen=True)
class UvCheck:
    """What was found.

    Attributes
    ----------
    uv : str
        Name of the set; empty where there is none.
    size : int
        Texels along a side that it was asked about.
    faults : tuple of Fault
        Grave ones first.
    islands : tuple of Island
    texels_per_cm : tuple of float
        Of the least dense island, in the middle by area, and of the densest.
    stretch : float
        L2 stretch of the whole layout, 1 where it is even.
    overlapping, empty : float
        Shares of the square.
    gap : float
        Empty texels between the nearest islands.
    smallest_mip : int
        Side of the smallest mip at which islands still keep apart.
    """

    uv: str
    size: int
    faults: tuple[Fault, ...]
    islands: tuple[Island, ...] = ()
    texels_per_cm: tuple[float, float, float] = (0.0, 0.0, 0.0)
    stretch: float = float("nan")
    overlapping: float = 0.0
    empty: float = 1.0
    gap: float = float("inf")
    smallest_mip: int = 1
    layout: Islands | None = field(default=None, compare=False, repr=False)

    @property
    def carries(self) -> bool:
        """A texture can be laid on as it is."""
        return not any(f.grave for f in self.faults)


def check(model: Model, uv: str = "", size: int = 2048, wish: float = 0.0, task: Task = IDLE) -> UvCheck:
    """Look at the UVs of a model.

    Parameters
    ----------
    model : Model
    uv : str
        Name of a set; the first one where none is named.
    size : int
        Texels along a side of the textures that it is to carry.
    wish : float
        Texels per centimetre that are wished; 0 where none are.

    Returns
    -------
    UvCheck
        One fault ``missing`` where there are no UVs at all.

    References
    ----------
    Sander, Snyder, Gortler & Hoppe (2001) for stretch.

    >>> from silent_loom.core.form.model import plate
    >>> found = check(plate(0.1), size=1000)
    >>> found.carries, found.texels_per_cm[1], round(found.stretch, 6)
    (True, 100.0, 1.0)
    """
    if not model.uvs:
        missing = Fault("missing", True, 1.0, "There are no UVs: no texture can be laid on.", UNWRAP, (), len(model))
        return UvCheck("", size, (missing,))
    name = uv or next(iter(model.uvs))
    task.report(0.05, "islands")
    layout = islands(model, name)
    corners = model.uv(name).at_corners()
    laid = (layout.of >= 0)[:, None, None]
    away = np.where(laid, corners, np.nan)
    seen, signed = stretch(model.corners, away), uv_areas(np.where(laid, corners, 0.0))
    task.report(0.3, "texels")
    drawn = min(size, DRAWN)
    shown = _shown(layout, away, drawn, task)
    task.report(0.6, "overlaps")
    over = _overlaps(layout, away, shown, task)
    apart = gaps(shown, layout.count)
    scaled = Gaps(apart.least * size / drawn, apart.empty)
    rows = _islands(model, layout, corners, seen, signed, scaled, size)
    task.report(0.9, "borders")
    look = Look(model, layout, corners, seen, signed, rows, size, wish)
    faults = (
        *look.missing(),
        *look.outside(),
        *look.overlapping(*over),
        *look.flipped(),
        *look.zero(),
        *look.stretched(),
        *look.density(),
        *look.gaps(scaled, drawn),
        *look.cut(seams(model, layout, name)),
    )
    return UvCheck(
        name,
        size,
        tuple(sorted(faults, key=lambda f: not f.grave)),
        rows,
        densities(rows),
        seen.whole(),
        over[0],
        scaled.empty,
        scaled.narrowest,
        scaled.mips(size),
        layout,
    )


def _shown(layout: Islands, uv: NDArray[np.float64], drawn: int, task: Task) -> NDArray[np.int32]:
    """Which island holds the centre of each texel, −1 where none does; the first of several."""
    seen = rasterised(uv, drawn, drawn, task)
    return np.where(seen.inside, layout.of[np.maximum(seen.triangle, 0)], -1).astype(np.int32)


def _overlaps(layout: Islands, uv: NDArray[np.float64], shown: NDArray[np.int32], task: Task) -> tuple[float, NDArray[np.int32]]:
    """Share of the texels in use that several places of the surface share, and the islands that do."""
    drawn = len(shown)
    count = covers(uv, drawn, drawn, task)
    twice = count > 1
    if not twice.any():
        return 0.0, np.zeros(0, np.int32)
    last = rasterised(uv[::-1], drawn, drawn, task)  # what lies below shows where the last triangle is drawn over the others
    below = np.where(last.inside, layout.of[::-1][np.maximum(last.triangle, 0)], -1)
    both = np.unique(np.concatenate([shown[twice], below[twice]]))
    return float(twice.sum() / (count > 0).sum()), both[both >= 0].astype(np.int32)


def _islands(
    model: Model,
    layout: Islands,
    corners: NDArray[np.float64],
    seen: Stretch,
    signed: NDArray[np.float64],
    apart: Gaps,
    size: int,
) -> tuple[Island, ...]:
    n, of = layout.count, layout.of
    laid = of >= 0
    where = of[laid]
    count = np.bincount(where, minlength=n)
    area = np.bincount(where, model.areas_mm2[laid], n)
    area_uv = np.bincount(where, np.abs(signed[laid]), n)
    mirrored = np.bincount(where, signed[laid], n) < 0
    ratio = np.where(np.isfinite(seen.ratio()), seen.ratio(), 1.0)
    spread = np.bincount(where, (ratio * model.areas_mm2)[laid], n) / np.maximum(area, 1e-300)
    low, high = np.full((n, 2), np.inf), np.full((n, 2), -np.inf)
    np.minimum.at(low, where, lowest(corners[laid]))
    np.maximum.at(high, where, highest(corners[laid]))
    firsts = np.full(n, len(model), np.int64)
    np.minimum.at(firsts, where, np.flatnonzero(laid))
    with np.errstate(divide="ignore", invalid="ignore"):
        dense = np.where(area > 0, np.sqrt(area_uv * size**2 / (area / 100)), 0.0)
    return tuple(
        Island(
            int(count[k]),
            float(area[k]),
            float(area_uv[k]),
            float(dense[k]),
            float(spread[k]) if area[k] > 0 else 1.0,
            bool(mirrored[k]),
            int(model.triangle_mesh[firsts[k]]),
            int(model.triangle_slot[firsts[k]]),
            (float(low[k, 0]), float(low[k, 1]), float(high[k, 0]), float(high[k, 1])),
            float(apart.least[k]),
        )
        for k in range(n)
    )


def as_data(found: UvCheck, model: Model) -> Mapping[str, Any]:
    """The check as plain data, for JSON.

    >>> from silent_loom.core.form.model import plate
    >>> as_data(check(plate(), size=64), plate())["carries"]
    True
    """
    low, middle, high = found.texels_per_cm
    return {
        "uv": found.uv,
        "size": found.size,
        "carries": found.carries,
        "texels_per_cm": {"least": _round(low), "middle": _round(middle), "most": _round(high)},
        "stretch": _round(found.stretch),
        "overlapping": _round(found.overlapping),
        "empty": _round(found.empty),
        "gap_texels": _round(found.gap),
        "smallest_mip": found.smallest_mip,
        "faults": [
            {
                "kind": f.kind,
                "grave": f.grave,
                "share": _round(f.share),
                "triangles": f.triangles,
                "words": f.words,
                "cure": f.cure,
                "islands": list(f.islands),
            }
            for f in found.faults
        ],
        "islands": [
            {
                "triangles": r.triangles,
                "area_cm2": _round(r.area_mm2 / 100),
                "share_of_square": _round(r.area_uv),
                "texels_per_cm": _round(r.texels_per_cm),
                "stretch": _round(r.stretch),
                "mirrored": r.mirrored,
                "mesh": model.meshes[r.mesh],
                "material": model.slots[r.slot].name,
                "box": [_round(v) for v in r.box],
                "gap_texels": _round(r.gap),
            }
            for r in found.islands
        ],
    }


def _round(value: float) -> float | None:
    return float(f"{value:.6g}") if np.isfinite(value) else None
