"""What an image is: float32 samples with a kind, a real size, and whether its edges meet."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float32]


class Kind(StrEnum):
    """How the samples of an image are to be understood.

    COLOUR is linear light with Rec. 709 primaries, unclamped, three channels. DATA is plain numbers (a height is data
    in millimetres around its middle). NORMAL is unit vectors, x right, y up, z out. ID is labels that never mix. VECTOR is
    directions in the plane of the sheet, x right, y up, at most of length 1: flow, grain. CHANNELS is several plain numbers
    at each place, packed together, which have nothing to do with each other and never mix as colour does.
    """

    COLOUR = "colour"
    DATA = "data"
    NORMAL = "normal"
    ID = "id"
    VECTOR = "vector"
    CHANNELS = "channels"


_CHANNELS = {
    Kind.COLOUR: (3, 3),
    Kind.DATA: (1, 1),
    Kind.NORMAL: (3, 3),
    Kind.ID: (1, 1),
    Kind.VECTOR: (2, 2),
    Kind.CHANNELS: (2, 8),
}
"""The fewest and the most channels that an image of each kind has."""


@dataclass(frozen=True)
class Image:
    """A sheet of samples.

    Attributes
    ----------
    pixels : float32 array, shape (H, W, C)
        C is 3 for COLOUR and NORMAL, 1 for DATA and ID, 2 for VECTOR, 2 to 8 for CHANNELS. Row 0 is the top. Never written
        to after construction.
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
        least, most = _CHANNELS[self.kind]
        if not least <= p.shape[2] <= most:
            raise ValueError(
                f"a {self.kind} image has {least if least == most else f'{least} to {most}'} channels, not {p.shape[2]}"
            )

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
        return Image(np.ascontiguousarray(pixels, dtype=np.float32), self.kind, self.size_mm, self.wraps)

    def plane(self) -> Floats:
        """The single channel of a DATA or ID image, shape (H, W)."""
        plane: Floats = self.pixels[..., 0]
        return plane


class CodedImage(Image):
    """Colour whose samples are still the codes of a file, turned into light where somebody looks at it.

    A photo is four times as large in light as in its file, and most of what is done with a whole one is to make it
    smaller: what can read codes (see `warp_homography`) does, everything else reads `pixels` as of any image.

    Parameters
    ----------
    codes : uint8 or uint16 array, shape (H, W, 3)
    table : float32 array, shape (3, 256) or (3, 65536)
        Light of every code of every channel.
    decoded : callable
        Gives the light of all codes, shape (H, W, 3).
    """

    codes: NDArray[np.uint8] | NDArray[np.uint16]
    table: Floats
    _decoded: Callable[[], Floats]

    def __init__(
        self,
        codes: NDArray[np.uint8] | NDArray[np.uint16],
        table: Floats,
        decoded: Callable[[], Floats],
        size_mm: tuple[float, float],
    ) -> None:
        self.__dict__.update(codes=codes, table=table, _decoded=decoded, kind=Kind.COLOUR, size_mm=size_mm, wraps=False)

    @cached_property
    def pixels(self) -> Floats:
        return self._decoded()

    @property
    def height(self) -> int:
        return int(self.codes.shape[0])

    @property
    def width(self) -> int:
        return int(self.codes.shape[1])

    @property
    def nbytes(self) -> int:
        """Of the light, once it is there; the codes are the photo's own."""
        return int(self.pixels.nbytes) if "pixels" in self.__dict__ else 0


def data(plane: Floats, like: Image) -> Image:
    """A DATA image of shape (H, W) on the sheet of ``like``.

    >>> data(np.array([[1.5, 2.0]], np.float32), Image(np.zeros((1, 2, 3), np.float32), Kind.COLOUR)).plane().tolist()
    [[1.5, 2.0]]
    """
    return Image(np.ascontiguousarray(plane, dtype=np.float32)[..., None], Kind.DATA, like.size_mm, like.wraps)
