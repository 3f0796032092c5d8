"""A picture of a material for its card: a piece of the surface, laid out flat under a low light."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.srgb import encode_srgb
from silent_loom.core.moving.resample import resize

GREY = 0.18
"""Base colour where there is none: middle grey."""


def _at(maps: Mapping[str, Image], name: str, otherwise: float, shape: tuple[int, int]) -> Floats:
    return maps[name].pixels[..., 0] if name in maps else np.full(shape, otherwise, np.float32)


def lit(maps: Mapping[str, Image], width: int, height: int, copies: float = 1.0) -> NDArray[np.uint8]:
    """Shade a flat sheet of the material.

    Parameters
    ----------
    maps : mapping of str to Image
        Threads by name, one at least; a middle grey stands in for a base colour that there is not.
    width, height : int
        Of the picture.
    copies : float
        Repeats across its width.

    Returns
    -------
    uint8 array, shape (height, width, 3), sRGB

    Notes
    -----
    One sun from the upper left, 35° high, and an even sky, seen from straight above. Microfacet reflection with the GGX
    distribution and Smith's height-correlated shadowing (Walter et al. 2007; Heitz 2014), Fresnel after Schlick 1994.

    >>> from silent_loom.core.base.images import Kind
    >>> lit({"base": Image(np.full((4, 4, 3), 0.5, np.float32), Kind.COLOUR)}, 8, 8).shape
    (8, 8, 3)
    """
    any_map = next(iter(maps.values()))
    grey = np.full((any_map.height, any_map.width, 3), GREY, np.float32)
    base = maps.get("base") or Image(grey, Kind.COLOUR, any_map.size_mm, any_map.wraps)
    maps = {**maps, "base": base}
    w, h = max(8, round(width / copies)), max(8, round(width / copies * base.size_mm[1] / base.size_mm[0]))
    small = {k: resize(v, w, h) for k, v in maps.items() if k in ("base", "normal", "roughness", "metallic", "occlusion")}
    shape = (h, w)
    albedo = np.clip(small["base"].pixels, 0, 1)
    n = small["normal"].pixels if "normal" in small else np.broadcast_to(np.array([0, 0, 1], np.float32), (*shape, 3))
    rough = np.clip(_at(small, "roughness", 0.5, shape), 0.05, 1)
    metal, sky = (
        np.clip(_at(small, "metallic", 0, shape), 0, 1)[..., None],
        _at(small, "occlusion", 1, shape)[..., None],
    )
    view = np.array([0, 0, 1], np.float32)
    sun = np.array([-0.58, 0.58, 0.57], np.float32)
    sun /= np.linalg.norm(sun)
    half = (sun + view) / np.linalg.norm(sun + view)
    nl, nv, nh = np.clip(n @ sun, 0, 1), np.clip(n @ view, 0.02, 1), np.clip(n @ half, 0, 1)
    a2 = (rough * rough) ** 2
    d = a2 / (np.pi * (nh * nh * (a2 - 1) + 1) ** 2)
    v = 0.5 / (nl * np.sqrt(nv * nv * (1 - a2) + a2) + nv * np.sqrt(nl * nl * (1 - a2) + a2) + 1e-5)
    f0 = 0.04 * (1 - metal) + albedo * metal
    fresnel = f0 + (1 - f0) * (1 - float(half @ view)) ** 5
    diffuse = albedo * (1 - metal) / np.pi
    direct = (diffuse + fresnel * (d * v)[..., None]) * nl[..., None] * 4.4
    around = (diffuse * np.pi * 0.42 + f0 * 0.55 * (1 - 0.35 * rough[..., None])) * sky
    tile = encode_srgb(np.clip(direct + around, 0, 1))
    codes = np.clip(np.rint(tile * 255), 0, 255).astype(np.uint8)
    rows, cols = -(-height // h), -(-width // w)
    return np.ascontiguousarray(np.tile(codes, (rows, cols, 1))[:height, :width])
