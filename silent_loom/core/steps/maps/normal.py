"""Normal: the true slope of the height."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from pydantic import field_validator

from silent_loom.core.base.colour import encode, luminance
from silent_loom.core.base.images import Floats, Image, Kind, data
from silent_loom.core.base.kernels import kernel
from silent_loom.core.base.parallel import IDLE, Task, over_rows
from silent_loom.core.maps import sizes as by_size
from silent_loom.core.maps.integrate import height_of
from silent_loom.core.moving.resample import blur
from silent_loom.core.weave.decision import Decision
from silent_loom.core.weave.settings import Settings, ThreadName, setting
from silent_loom.core.weave.step import Geometry, MapStep, Sheet, Texels

EVEN: tuple[by_size.Handle, ...] = ((0.01, 1.0, 0.0), (0.1, 1.0, 0.0))
"""All sizes as they are."""


class NormalSettings(Settings):
    strength: float = setting(1.0, "1 is the true slope of the height in millimetres.", low=-20, high=20, soft=(0, 4), step=0.01)
    soften_mm: float = setting(
        0.0,
        "Smooths the height first; it stays as it is for everything else.",
        title="Soften",
        unit="mm",
        low=0,
        high=1000,
        soft=(0, 20),
        step=0.01,
    )
    sharpen: float = setting(0.0, "Raises the finest features, for this map only.", low=0, high=5, soft=(0, 2), step=0.01)
    sizes: tuple[by_size.Handle, ...] = setting(
        EVEN, "How much of each feature size shows in the slopes.", title="Detail by size", shape="sizes"
    )
    slopes: ThreadName = setting(
        "none",
        "Slopes that were read from light: they take the place of the height's own in the finest features.",
        title="Slopes read",
        shape="thread",
        kinds=(Kind.NORMAL,),
        also=("none",),
    )
    finer: float = setting(
        0.01,
        "Features up to this size take the slopes that were read.",
        title="Finer than",
        unit="of the sheet",
        low=0.001,
        high=0.5,
        soft=(0.001, 0.1),
        log=True,
    )
    reads_from: ThreadName = setting(
        "height",
        "The height it is made from; a picture's brightness is taken for height.",
        title="Made from",
        shape="thread",
        kinds=(Kind.DATA, Kind.COLOUR),
    )
    depth_mm: float = setting(
        2.0,
        "For a picture: from black to white.",
        title="Depth",
        unit="mm",
        low=0.001,
        high=1e4,
        soft=(0.1, 50),
        log=True,
    )

    @field_validator("sizes")
    @classmethod
    def _in_order(cls, value: tuple[by_size.Handle, ...]) -> tuple[by_size.Handle, ...]:
        return by_size.checked(value)

    @property
    def plain(self) -> bool:
        """Nothing but the slopes of what is read."""
        return self.soften_mm == 0 and self.sharpen == 0 and self.slopes == "none" and all(w == 1 for _, w, _ in self.sizes)


class Normal(MapStep[NormalSettings]):
    """Unit normals of the height field, x right, y up (green up, as in glTF)."""

    name = "normal"
    title = "Normal"
    words_for_it = ("bump", "slope", "relief", "green", "normal map", "tangent", "bumps", "lighting")
    sentence = "The slope of the height, as directions: x right, green up."
    Settings = NormalSettings

    def words(self, s: NormalSettings) -> str:
        return f"strength {s.strength:g}"

    def reads(self, s: NormalSettings) -> tuple[str, ...]:
        return (s.reads_from,) if s.slopes == "none" else (s.reads_from, s.slopes)

    def does_without(self, s: NormalSettings) -> tuple[str, ...]:
        return () if s.slopes == "none" else (s.slopes,)

    def halo(self, s: NormalSettings, after: Geometry, texels: Texels) -> int | None:
        return 2 if s.plain else None

    def writes(self, s: NormalSettings) -> tuple[str, ...]:
        return ("normal",)

    def run(
        self, s: NormalSettings, inputs: Mapping[str, Image], decision: Decision, sheet: Sheet, task: Task
    ) -> dict[str, Image]:
        height = inputs[s.reads_from]
        if height.kind is Kind.COLOUR:
            plane = encode(luminance(height.pixels, task), task) * np.float32(s.depth_mm)
        else:
            plane = height.plane()
        tx, ty = height.texel_mm
        if s.slopes in inputs:
            plane = _finest_from(plane, inputs[s.slopes], s.finer * max(height.size_mm), task)
        if any(w != 1 for _, w, _ in s.sizes):

            def weight(size: float) -> float:
                return by_size.along(s.sizes, size)[0]

            plane = by_size.weighed(np.ascontiguousarray(plane), (tx, ty), max(height.size_mm), height.wraps, weight, task)
        if s.soften_mm > 0:
            plane = blur(plane, (s.soften_mm / tx, s.soften_mm / ty), height.wraps, task)
        if s.sharpen > 0:
            fine = max(height.size_mm) / 400
            plane = plane + np.float32(s.sharpen) * (plane - blur(plane, (fine / tx, fine / ty), height.wraps, task))
        return {"normal": from_height(data(plane, height), s.strength, task)}


def _finest_from(plane: Floats, slopes: Image, finer_mm: float, task: Task) -> Floats:
    """A height whose finest features have slopes that were read; the part of those that no height can have is dropped."""
    n = slopes.pixels
    steep = np.maximum(n[..., 2], np.float32(0.1))
    (tx, ty), sigma = slopes.texel_mm, finer_mm / 4
    across, down = (np.asarray(d, np.float32) for d in (-n[..., 0] / steep, n[..., 1] / steep))
    read = height_of(across, down, (tx, ty), slopes.wraps)
    other = np.ascontiguousarray(read - plane)
    made: Floats = plane + other - blur(other, (sigma / tx, sigma / ty), slopes.wraps, task)
    return made


@kernel("f4[:,::1], f4, f4, b1, f4[:,:,::1], i8, i8")
def _normals(h, kx, ky, wraps, out, y0, y1):  # type: ignore[no-untyped-def]
    rows, cols = h.shape
    for y in range(y0, y1):
        if wraps:
            ya, yb, yc, yd = (y - 2) % rows, (y - 1) % rows, (y + 1) % rows, (y + 2) % rows
        else:
            ya, yb, yc, yd = max(y - 2, 0), max(y - 1, 0), min(y + 1, rows - 1), min(y + 2, rows - 1)
        for x in range(cols):
            if 2 <= x < cols - 2:
                xa, xb, xc, xd = x - 2, x - 1, x + 1, x + 2
            elif wraps:
                xa, xb, xc, xd = (x - 2) % cols, (x - 1) % cols, (x + 1) % cols, (x + 2) % cols
            else:
                xa, xb, xc, xd = max(x - 2, 0), max(x - 1, 0), min(x + 1, cols - 1), min(x + 2, cols - 1)
            gx = kx * (np.float32(8) * (h[y, xc] - h[y, xb]) - (h[y, xd] - h[y, xa]))
            gy = ky * (np.float32(8) * (h[yc, x] - h[yb, x]) - (h[yd, x] - h[ya, x]))
            n = np.float32(1) / np.sqrt(gx * gx + gy * gy + np.float32(1))
            out[y, x, 0], out[y, x, 1], out[y, x, 2] = -gx * n, gy * n, n


def from_height(height: Image, strength: float = 1.0, task: Task = IDLE) -> Image:
    """Normals of a height field.

    >>> slope = np.tile(np.float32([[[0], [1], [2], [3], [4], [5], [6], [7]]]), (8, 1, 1))
    >>> n = from_height(Image(slope, Kind.DATA, (8.0, 8.0))).pixels[4, 4]
    >>> n.astype(float).round(4).tolist()
    [-0.7071, 0.0, 0.7071]

    Parameters
    ----------
    height : Image
        DATA, millimetres.
    strength : float
        Factor on the slope.

    Returns
    -------
    Image
        NORMAL, unit vectors; y up, so a surface that rises towards the top of the picture leans down, green below half.

    Notes
    -----
    Central differences of fourth order (−1, 8, −8, 1)/12 over the true texel size: exact to the eye for anything that
    the texels can hold, so that different sizes of the same surface agree.
    """
    out: Floats = np.empty((height.height, height.width, 3), np.float32)
    tx, ty = height.texel_mm
    kx, ky = np.float32(strength / (12 * tx)), np.float32(strength / (12 * ty))
    plane = np.ascontiguousarray(height.plane())
    over_rows(height.height, lambda a, b: _normals(plane, kx, ky, height.wraps, out, a, b), task)
    return Image(out, Kind.NORMAL, height.size_mm, height.wraps)
