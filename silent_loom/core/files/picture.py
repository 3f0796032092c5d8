"""A decoded file: samples at their true depth, and what the file says about them."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import CodedImage, Floats, Image, Kind
from silent_loom.core.base.lazy_modules import later
from silent_loom.core.base.srgb import decode_table
from silent_loom.core.files.profile import LINEAR, SRGB, Curve, Transfer

# A file can be read while what computes with it is still being loaded
_codes = later("silent_loom.core.files.codes")
_resample = later("silent_loom.core.moving.resample")


@dataclass(frozen=True)
class Exif:
    """What a camera noted, as far as the geometry of the picture needs it.

    Attributes
    ----------
    focal_px : float or None
        Focal length in pixels of this file.
    focal_error : float
        Its relative uncertainty (1 standard deviation).
    """

    focal_px: float | None = None
    focal_error: float = 0.0


@dataclass(frozen=True)
class Picture:
    """Samples of a file, upright (the EXIF turn is done), with the file's own encoding.

    Attributes
    ----------
    samples : array, shape (H, W, C)
        uint8, uint16 or float32, grey or RGB, without alpha.
    alpha : array, shape (H, W), or None
        Same type as the samples, unassociated.
    transfer : Transfer
        Encoded values to linear Rec. 709 light, when the samples are colour.
    bits : int
        Bits a channel in the file: 8, 16 or 32.
    """

    samples: NDArray[Any]
    alpha: NDArray[Any] | None
    transfer: Transfer
    bits: int
    format: str
    exif: Exif = Exif()
    warnings: tuple[str, ...] = field(default=())

    @property
    def width(self) -> int:
        return int(self.samples.shape[1])

    @property
    def height(self) -> int:
        return int(self.samples.shape[0])

    @property
    def channels(self) -> int:
        return int(self.samples.shape[2]) + (self.alpha is not None)

    def read_as(self, how: str) -> Picture:
        """The same samples under another encoding: 'tagged' (as the file says), 'srgb' or 'linear'."""
        transfer = {"srgb": SRGB, "linear": LINEAR}.get(how, self.transfer)
        if transfer is self.transfer:
            return self
        if how not in self._others:  # kept, as what was made of it is kept with it
            self._others[how] = replace(self, transfer=transfer)
        return self._others[how]

    @cached_property
    def _others(self) -> dict[str, Picture]:
        return {}

    @property
    def encoding(self) -> str:
        """How the file says its samples are encoded, in a few words."""
        name = {"sRGB": "sRGB", "linear": "linear light", "profile": "its own colour profile"}.get(
            self.transfer.name, self.transfer.name
        )
        return f"{self.bits} bits, {name}"

    def colour(self) -> Floats:
        """Linear Rec. 709 light, shape (H, W, 3), unclamped; grey is repeated."""
        s = self.samples
        if s.shape[2] == 1:
            s = np.repeat(s, 3, 2)
        if s.dtype == np.float32:
            if self.transfer.name == "linear":
                out = s  # as it is: nobody writes into a picture's light
            else:
                out = np.stack([c(s[..., k]) for k, c in enumerate(self._curves())], -1).astype(np.float32)
        else:
            out = _codes.light_of(s, self._table())
        return self._to_709(out)

    def coded(self, size_mm: tuple[float, float]) -> Image:
        """`colour` as an image that stays in codes as long as nobody needs more."""
        s = self.samples
        if s.dtype == np.float32 or s.shape[2] != 3 or self.transfer.matrix is not None:
            return Image(self.colour(), Kind.COLOUR, size_mm)
        return CodedImage(np.ascontiguousarray(s), self._table(), self.colour, size_mm)

    def _curves(self) -> tuple[Curve, ...]:
        return self.transfer.curves if len(self.transfer.curves) == 3 else self.transfer.curves * 3

    def _table(self) -> Floats:
        """Light of every code of an integer picture, shape (3, 256 or 65536)."""
        levels = int(np.iinfo(self.samples.dtype).max) + 1
        if self.transfer is SRGB:
            return np.repeat(decode_table(levels)[None], 3, 0)
        grid = np.arange(levels) / (levels - 1.0)
        return np.stack([np.asarray(c(grid), np.float32) for c in self._curves()])

    def _to_709(self, light: Floats) -> Floats:
        if self.transfer.matrix is None:
            return np.ascontiguousarray(light)
        return np.ascontiguousarray(light @ self.transfer.matrix.T, np.float32)

    @cached_property
    def half(self) -> Floats:
        """`colour` averaged to half the size, kept: every smaller answer starts from it."""
        h, w = self.samples.shape[:2]
        if h % 2 or w % 2 or self.samples.dtype == np.float32 or self.samples.shape[2] != 3:
            out: Floats = _resample.reduce_area(self.colour(), max(1, round(w / 2)), max(1, round(h / 2)))
            return out
        return self._to_709(_codes.half_light_of(self.samples, self._table()))

    def data(self) -> Floats:
        """The numbers as they stand, integers over their full range as 0…1; shape (H, W, C) without alpha."""
        return _unit(self.samples)

    def directions(self, step: int = 1) -> Floats:
        """Samples of a normal map as vectors −1…1, not yet of unit length, shape (H, W, C); every so many texels of it.

        Files hold them as 0…1. Only floating-point files may hold them as they are, told by samples clearly below zero.
        """
        s = self.data()
        signed = self.bits == 32 and float(s.min()) < -0.01
        part = s[::step, ::step]
        return np.ascontiguousarray(part if signed else part * 2 - 1, np.float32)

    def alpha_plane(self) -> Floats | None:
        """Alpha 0…1, shape (H, W)."""
        return None if self.alpha is None else _unit(self.alpha)


def _unit(a: NDArray[Any]) -> Floats:
    if a.dtype == np.float32:
        return a
    out: Floats = a.astype(np.float32) / np.float32(np.iinfo(a.dtype).max)
    return out
