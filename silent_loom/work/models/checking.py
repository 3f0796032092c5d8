"""What is known of a model: its facts, its layout as lines, what is wrong with it. Kept until others are looked at."""

from __future__ import annotations

from typing import Any

from silent_loom.core.base.bounded_memory import Memory
from silent_loom.core.base.parallel import Lane, Rank, Task
from silent_loom.core.files.png import png_bytes
from silent_loom.core.form.model import Model
from silent_loom.core.form.uv.check import as_data, check
from silent_loom.core.form.uv.outlines import outlines
from silent_loom.core.form.uv.stretch_picture import stretch_picture
from silent_loom.store.models import Models

PICTURE = 1024
"""Texels along a side of pictures of layouts."""
KEPT = 3
"""Models that are kept in memory."""


class Checking:
    """Looks at the models of a store."""

    def __init__(self, models: Models, lane: Lane) -> None:
        self._models, self._lane = models, lane
        self._kept: Memory[tuple[str, str, str], Model] = Memory(KEPT)

    def model(self, ident: str) -> Model:
        """The model itself.

        Raises
        ------
        Missing, FileError
        """
        known = (ident, *self._models.said(ident))  # refuses one that was thrown away, so memory does not show it
        found = self._kept.get(known)
        if found is None:
            found = self._models.model(ident)
            self._kept.put(known, found)
        return found

    def stretched(self, ident: str, uv: str) -> bytes:
        """Its stretch as a PNG of the layout.

        Raises
        ------
        LoomError
            It has no such UVs.
        """
        model = self.model(ident)
        task = Task(lane=self._lane, rank=Rank.TABLE)
        with self._lane.hold(task):
            return png_bytes(stretch_picture(model.corners, model.uv(uv).at_corners(), PICTURE, task), colour=True, fast=True)

    def told(self, ident: str, uv: str, size: int, wish: float) -> dict[str, Any]:
        """Facts, faults, and the layout as lines: for each island, its outline in UVs."""
        model = self.model(ident)
        task = Task(lane=self._lane, rank=Rank.TABLE)
        with self._lane.hold(task):  # a moving hand on another page goes first
            found = check(model, uv, size, wish, task)
        lines = outlines(model, found.layout, found.uv) if found.layout is not None else []
        x, y, z = model.size_mm
        return {
            "id": ident,
            "triangles": len(model),
            "meshes": list(model.meshes),
            "materials": [s.name for s in model.slots],
            "uv_sets": list(model.uvs),
            "vertex_colours": model.colours is not None,
            "size_mm": [x, y, z],
            "unit_mm": model.unit_mm,
            "unit_told": model.unit_told,
            "up": model.up,
            "check": as_data(found, model),
            "outlines": [[[[round(float(u), 5), round(float(v), 5)] for u, v in line] for line in island] for island in lines],
        }
