"""Embedded colour profiles: matrix and curve profiles applied exactly, at any depth (ICC.1:2022)."""

from __future__ import annotations

import struct
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.srgb import decode_srgb

_BRADFORD_D50_SRGB = np.array(
    [
        [0.4360747, 0.3850649, 0.1430804],
        [0.2225045, 0.7168786, 0.0606169],
        [0.0139322, 0.0971045, 0.7141733],
    ]
)
"""Rec. 709 primaries adapted to D50 by Bradford, the profile connection space of ICC."""

Curve = Callable[[NDArray[Any]], NDArray[Any]]


@dataclass(frozen=True)
class Transfer:
    """How encoded values become linear Rec. 709 light: a curve for each channel, then a matrix.

    Attributes
    ----------
    curves : tuple of callable
        One for each channel (one for grey); takes and gives 0…1.
    matrix : array, shape (3, 3), or None
        Applied to column vectors of linear channels; None for primaries that are already Rec. 709.
    """

    curves: tuple[Curve, ...]
    matrix: NDArray[np.float64] | None = None
    name: str = "sRGB"

    @property
    def plain(self) -> bool:
        return self.name == "sRGB"


SRGB = Transfer((decode_srgb,) * 3)
LINEAR = Transfer((lambda v: v,) * 3, None, "linear")


class TableProfile(Exception):
    """The profile works by tables, or not on RGB or grey; it needs a colour engine."""


def _s15(raw: bytes) -> float:
    return float(struct.unpack(">i", raw)[0]) / 65536.0


def _parametric(kind: int, p: list[float]) -> Curve:
    g, a, b, c, d, e, f = ([*p, 0, 0, 0, 0, 0, 0, 0])[:7]

    def curve(x: NDArray[Any]) -> NDArray[Any]:
        x = np.asarray(x, np.float64)
        if kind == 0:
            return np.sign(x) * np.abs(x) ** g
        power = np.maximum(a * x + b, 0) ** g
        if kind == 1:
            return np.where(x >= -b / a, power, 0)
        if kind == 2:
            return np.where(x >= -b / a, power + c, c)
        if kind == 3:
            return np.where(x >= d, power, c * x)
        return np.where(x >= d, power + e, c * x + f)

    return curve


def _curve(raw: bytes) -> Curve:
    if raw[:4] == b"para":
        kind = struct.unpack(">H", raw[8:10])[0]
        counts = {0: 1, 1: 3, 2: 4, 3: 5, 4: 7}
        if kind not in counts:
            raise TableProfile("unknown parametric curve")
        return _parametric(kind, [_s15(raw[12 + 4 * i : 16 + 4 * i]) for i in range(counts[kind])])
    if raw[:4] != b"curv":
        raise TableProfile("unknown curve type")
    count = struct.unpack(">I", raw[8:12])[0]
    if count == 0:
        return lambda v: v
    if count == 1:
        gamma = struct.unpack(">H", raw[12:14])[0] / 256.0
        return _parametric(0, [gamma])
    table = np.frombuffer(raw[12 : 12 + 2 * count], ">u2").astype(np.float64) / 65535.0
    if len(table) != count:
        raise TableProfile("curve cut short")
    grid = np.linspace(0, 1, count)
    return lambda v: np.interp(v, grid, table)


def parse(profile: bytes) -> Transfer:
    """Read a matrix-and-curve profile.

    Raises
    ------
    TableProfile
        When the profile works by tables, is not RGB or grey, or is damaged.

    >>> from silent_loom.core.files.tags import srgb_profile
    >>> parse(srgb_profile()).plain
    True
    """
    try:
        space, count = profile[16:20], struct.unpack(">I", profile[128:132])[0]
        tags: dict[bytes, bytes] = {}
        for i in range(min(count, 100)):
            name, offset, size = struct.unpack(">4sII", profile[132 + 12 * i : 144 + 12 * i])
            tags[name] = profile[offset : offset + size]
        if space == b"GRAY" and b"kTRC" in tags:
            return Transfer((_curve(tags[b"kTRC"]),), None, "grey profile")
        if space != b"RGB " or b"A2B0" in tags or not {b"rXYZ", b"gXYZ", b"bXYZ", b"rTRC"} <= tags.keys():
            raise TableProfile(space.decode("latin-1").strip() or "unknown")
        to_pcs = np.array([[_s15(tags[t][8 + 4 * k : 12 + 4 * k]) for t in (b"rXYZ", b"gXYZ", b"bXYZ")] for k in range(3)])
        curves = tuple(_curve(tags[t]) for t in (b"rTRC", b"gTRC", b"bTRC"))
    except (struct.error, KeyError, ValueError) as error:
        raise TableProfile("damaged") from error
    grid = np.linspace(0, 1, 256)
    close = all(np.abs(c(grid) - decode_srgb(grid)).max() < 1.5e-3 for c in curves)
    if close and np.abs(to_pcs - _BRADFORD_D50_SRGB).max() < 2e-3:
        return SRGB
    return Transfer(curves, np.linalg.inv(_BRADFORD_D50_SRGB) @ to_pcs, "profile")
