"""What an image is: float32 samples with a kind, a real size, and whether its edges meet."""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float32]


class Kind(StrEnum):
    """How the samples of an image are to be understood.

    COLOUR is linear light with Rec. 709 primaries, unclamped, three channels. DATA is plain numbers (a height is data
    in millimetres around its middle). NORMAL is unit vectors, x right, y up, z out. ID is labels that never mix.
    """

    COLOUR = "colour"
    DATA = "data"
    NORMAL = "normal"
    ID = "id"


@dataclass(frozen=True)
class Image:
    """A sheet of samples.

    Attributes
    ----------
    pixels : float32 array, shape (H, W, C)
        C is 3 for COLOUR and NORMAL, 1 for DATA and ID. Row 0 is the top. Never written to after construction.
    kind : Kind
        What the samples mean, and so how they are interpolated and mixed.
    size_mm : tuple of float
        Width and height of the sheet in millimetres, borders of the outer texels included.
    wraps : bool
        True when the right edge continues at the left one and the bottom at the top.
    """

    pixels: Floats
    kind: Kind
    size_mm: tuple[float, float] = (1000.0, 1000.0)
    wraps: bool = False

    def __post_init__(self) -> None:
        p = self.pixels
        if p.ndim != 3 or p.dtype != np.float32:
            raise ValueError(f"pixels must be float32 of shape (H, W, C), not {p.dtype} {p.shape}")
        want = 3 if self.kind in (Kind.COLOUR, Kind.NORMAL) else 1
        if p.shape[2] != want:
            raise ValueError(f"a {self.kind} image has {want} channels, not {p.shape[2]}")

    @property
    def height(self) -> int:
        return int(self.pixels.shape[0])

    @property
    def width(self) -> int:
        return int(self.pixels.shape[1])

    @property
    def texel_mm(self) -> tuple[float, float]:
        """Width and height of one texel in millimetres."""
        return self.size_mm[0] / self.width, self.size_mm[1] / self.height

    @property
    def nbytes(self) -> int:
        return int(self.pixels.nbytes)

    def with_pixels(self, pixels: Floats) -> Image:
        """The same sheet with other samples (same shape rules, same size in mm)."""
        return replace(self, pixels=np.ascontiguousarray(pixels, dtype=np.float32))

    def plane(self) -> Floats:
        """The single channel of a DATA or ID image, shape (H, W)."""
        plane: Floats = self.pixels[..., 0]
        return plane


def data(plane: Floats, like: Image) -> Image:
    """A DATA image of shape (H, W) on the sheet of ``like``."""
    return Image(np.ascontiguousarray(plane, dtype=np.float32)[..., None], Kind.DATA, like.size_mm, like.wraps)
