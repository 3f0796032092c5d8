"""Colour spaces that MaterialX documents name, as linear Rec. 709 light."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.srgb import decode_srgb

Pair = tuple[float, float]

D65: Pair = (0.3127, 0.3290)
D60: Pair = (0.32168, 0.33767)
GAMUTS: dict[str, tuple[Pair, Pair, Pair, Pair]] = {
    "rec709": ((0.64, 0.33), (0.30, 0.60), (0.15, 0.06), D65),
    "p3": ((0.680, 0.320), (0.265, 0.690), (0.150, 0.060), D65),
    "rec2020": ((0.708, 0.292), (0.170, 0.797), (0.131, 0.046), D65),
    "adobergb": ((0.64, 0.33), (0.21, 0.71), (0.15, 0.06), D65),
    "ap1": ((0.713, 0.293), (0.165, 0.830), (0.128, 0.044), D60),
    "ap0": ((0.7347, 0.2653), (0.0, 1.0), (0.0001, -0.077), D60),
}
"""x and y of red, green, blue and white."""
_BRADFORD = np.array([[0.8951, 0.2664, -0.1614], [-0.7502, 1.7135, 0.0367], [0.0389, -0.0685, 1.0296]])


@dataclass(frozen=True)
class Space:
    """A colour space: its primaries, and the power of its curve; 0 stands for the curve of sRGB."""

    gamut: str
    power: float = 1.0


_SPACES: dict[str, Space] = {
    "srgb_texture": Space("rec709", 0),
    "srgb_displayp3": Space("p3", 0),
    "lin_displayp3": Space("p3"),
    "lin_rec709": Space("rec709"),
    "lin_rec2020": Space("rec2020"),
    "lin_adobergb": Space("adobergb"),
    "adobergb": Space("adobergb", 563 / 256),
    "rec709_display": Space("rec709", 2.4),
    "g18_rec709": Space("rec709", 1.8),
    "g22_rec709": Space("rec709", 2.2),
    "gamma18": Space("rec709", 1.8),
    "gamma22": Space("rec709", 2.2),
    "gamma24": Space("rec709", 2.4),
    "g22_ap1": Space("ap1", 2.2),
    "acescg": Space("ap1"),
    "lin_ap1": Space("ap1"),
    "lin_ap0": Space("ap0"),
    "aces2065_1": Space("ap0"),
    # The names of the Color Interop Forum, which documents since 1.39 may use
    "lin_rec709_scene": Space("rec709"),
    "lin_p3d65_scene": Space("p3"),
    "lin_rec2020_scene": Space("rec2020"),
    "lin_adobergb_scene": Space("adobergb"),
    "lin_ap1_scene": Space("ap1"),
    "lin_ap0_scene": Space("ap0"),
    "srgb_rec709_scene": Space("rec709", 0),
    "srgb_p3d65_scene": Space("p3", 0),
    "srgb_ap1_scene": Space("ap1", 0),
    "g18_rec709_scene": Space("rec709", 1.8),
    "g22_rec709_scene": Space("rec709", 2.2),
    "g22_adobergb_scene": Space("adobergb", 563 / 256),
    "g22_ap1_scene": Space("ap1", 2.2),
}
_PLAIN = ("", "none", "raw", "data", "identity")
"""What says that numbers are to be taken as they are."""


def known(space: str) -> bool:
    """Whether a colour space is one that this module computes.

    >>> known("acescg"), known("my_camera_log")
    (True, False)
    """
    return space.lower() in _PLAIN or space.lower() in _SPACES


def linear(value: NDArray[np.float64], space: str) -> NDArray[np.float64]:
    """A colour in linear Rec. 709 light; its alpha stays, and so does a colour whose space is not `known`.

    Primaries are turned into each other by their chromaticities (SMPTE RP 177:1993), other white points by the Bradford
    transform (Lam 1985; ICC.1:2022 annex E).

    Parameters
    ----------
    value : array, shape (..., 3) or (..., 4)
    space : str
        As the document names it; capitals do not matter.

    >>> linear(np.array([[[0.5, 0.5, 0.5]]]), "srgb_texture").round(4).tolist()
    [[[0.214, 0.214, 0.214]]]
    >>> linear(np.array([[[1.0, 0.0, 0.0]]]), "lin_displayp3").round(3).tolist()
    [[[1.225, -0.042, -0.02]]]
    """
    found = _SPACES.get(space.lower())
    if found is None:
        return value
    colour, rest = value[..., :3], value[..., 3:]
    if found.power == 0:
        colour = decode_srgb(colour)
    elif found.power != 1:
        colour = np.sign(colour) * np.abs(colour) ** found.power
    if found.gamut != "rec709":
        colour = colour @ to_rec709(found.gamut).T
    return np.concatenate([colour, rest], axis=-1)


@cache
def to_rec709(gamut: str) -> NDArray[np.float64]:
    """Matrix from one set of primaries to Rec. 709, for column vectors of linear light; white stays white.

    >>> to_rec709("ap1").round(3).tolist()
    [[1.705, -0.622, -0.083], [-0.13, 1.141, -0.011], [-0.024, -0.129, 1.153]]
    """
    return np.asarray(np.linalg.inv(_to_xyz("rec709")) @ _to_xyz(gamut))


def _to_xyz(gamut: str) -> NDArray[np.float64]:
    """To XYZ with the white of D65."""
    *primaries, white = (np.array([x / y, 1.0, (1 - x - y) / y]) if y else np.array([x, y, 1 - x - y]) for x, y in GAMUTS[gamut])
    columns = np.stack(primaries, axis=1)
    matrix = columns * np.linalg.solve(columns, white)
    d65 = np.array([D65[0] / D65[1], 1.0, (1 - D65[0] - D65[1]) / D65[1]])
    cones = (_BRADFORD @ d65) / (_BRADFORD @ white)
    return np.asarray(np.linalg.inv(_BRADFORD) @ (cones[:, None] * _BRADFORD) @ matrix)
