"""A material as plain maps, and the notes of what could not be brought along."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.errors import FileError
from silent_loom.core.files import write
from silent_loom.core.weave import threads

Plane = NDArray[np.float32]
"""Shape (H, W, C); the first row is the top."""
COLOURS = ("base", "emission", "specular_colour")
MOST_MATERIALS = 200
"""Materials of one document that are taken in at a time."""
MOST = 8192
"""Texels along the longer side that a material made elsewhere is worked out to."""


def check_count(count: int, name: str) -> None:
    """Refuse a document with more materials than anybody wants to look through.

    Raises
    ------
    FileError

    >>> check_count(3, "deck.glb")
    """
    if count > MOST_MATERIALS:
        raise FileError(f"it holds {count} materials", name, f"At most {MOST_MATERIALS} are taken at once: export fewer.")


@dataclass
class Flat:
    """A material as plain maps.

    Attributes
    ----------
    name : str
    size : tuple of int
        Width and height in texels.
    maps : dict
        By thread; colours in linear light 0…1, normals as directions with green up, heights in mm.
    size_mm : tuple of float
        Of one repeat.
    cutout : bool
        Opacity is all or nothing.
    notes : list of str
        What was made otherwise than it stood, in words.
    left : list of str
        What could not be brought along.
    """

    name: str
    size: tuple[int, int]
    maps: dict[str, Plane] = field(default_factory=dict)
    size_mm: tuple[float, float] = (1000.0, 1000.0)
    two_sided: bool = False
    cutout: bool = False
    notes: list[str] = field(default_factory=list)
    left: list[str] = field(default_factory=list)

    def put(self, thread: str, value: Any) -> None:
        """A map from a plane, or from one value for all of it."""
        w, h = self.size
        channels = 3 if thread in COLOURS else len(threads.spec(thread).neutral)
        plane = np.asarray(value, np.float32)
        if plane.ndim == 0:
            plane = np.full((1, 1, channels), plane, np.float32)
        elif plane.ndim == 1:
            plane = plane.reshape(1, 1, -1)
        elif plane.ndim == 2:
            plane = plane[..., None]
        self.maps[thread] = np.ascontiguousarray(np.broadcast_to(plane[..., :channels], (h, w, channels)), np.float32)

    def depth_mm(self) -> float:
        """From the lowest to the highest place that its height can say; 10 without one."""
        height = self.maps.get("height")
        return 10.0 if height is None else max(float(2 * np.abs(height).max()), 0.001)


def written(flat: Flat, folder: Path) -> dict[str, Path]:
    """The maps as 16-bit PNG, encoded as open map sets are: colour sRGB, normals around a half, heights around their middle."""
    found: dict[str, Path] = {}
    for name, plane in flat.maps.items():
        path = folder / f"{name}.png"
        colour = name in COLOURS
        if colour:
            pixels = plane
        elif name == "normal":
            length = np.maximum(np.linalg.norm(plane, axis=-1, keepdims=True), 1e-9)
            pixels = plane / length * 0.5 + 0.5
        elif name == "height":
            pixels = plane / np.float32(flat.depth_mm()) + np.float32(0.5)
        else:
            pixels = plane
        write(path, np.ascontiguousarray(np.clip(pixels, 0, 1), np.float32), fmt="png", depth="16", colour=colour)
        found[name] = path
    return found
