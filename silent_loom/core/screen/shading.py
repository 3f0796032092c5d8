"""A texel under a lamp: the shading of the form view, computed here to hold the screen to.

All of it in linear light; directions are unit vectors in the frame of the surface, x right, y up, z out.
"""

from __future__ import annotations

from functools import cache
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from silent_loom.core.base.srgb import encode_srgb

LEAST_ROUGHNESS = 0.045
"""Below it the highlight of a lamp without size would be smaller than any pixel."""
_STEPS = 48


def lamp_light(
    base: ArrayLike,
    normal: ArrayLike,
    roughness: ArrayLike,
    metallic: ArrayLike,
    *,
    to_light: ArrayLike,
    to_eye: ArrayLike,
    light: ArrayLike,
    specular: ArrayLike = 1.0,
) -> NDArray[np.float64]:
    """Light that a surface sends to the eye from one lamp far away.

    Parameters
    ----------
    base : array, shape (…, 3)
        Base colour, linear light, 0…1.
    normal : array, shape (…, 3)
    roughness, metallic, specular : array, shape (…)
        Perceptual roughness (its square is the α of the distribution), metallic, and weight of the highlight, all 0…1.
    to_light, to_eye : array, shape (3,)
    light : array, shape (3,)
        Irradiance on a surface that faces the lamp.

    Returns
    -------
    float64 array, shape (…, 3)

    Notes
    -----
    GGX distribution (Walter, Marschner, Li & Torrance, Microfacet models for refraction through rough surfaces, 2007) with
    height-correlated shadowing (Heitz, Understanding the masking-shadowing function in microfacet-based BRDFs, 2014),
    Fresnel after Schlick 1994 in its spherical Gaussian form (Lagarde 2012), reflectance 0.04 of what is no metal. What a
    rough surface scatters more than once is given back to the highlight (Turquin, Practical multiple scattering compensation
    for microfacet models, 2019); the diffuse part is Lambert's, of the light that was not reflected.

    >>> up = [0.0, 0.0, 1.0]
    >>> lamp_light([0.5, 0.5, 0.5], up, 1.0, 0.0, to_light=up, to_eye=up, light=[1.0, 1, 1]).round(3).tolist()
    [0.156, 0.156, 0.156]
    """
    colour, n = np.asarray(base, np.float64), np.asarray(normal, np.float64)
    metal, weight = np.asarray(metallic, np.float64)[..., None], np.asarray(specular, np.float64)[..., None]
    rough = np.clip(np.asarray(roughness, np.float64), LEAST_ROUGHNESS, 1.0)
    lamp, eye = np.asarray(to_light, np.float64), np.asarray(to_eye, np.float64)
    half = (lamp + eye) / np.linalg.norm(lamp + eye)
    nl, nv, nh = (np.clip(n @ d, 0.0, 1.0) for d in (lamp, eye, half))
    plain = 0.04 * weight * np.ones_like(colour)
    f0, f90 = plain * (1 - metal) + colour * metal, weight * (1 - metal) + metal
    grazing = 2.0 ** ((-5.55473 * float(half @ eye) - 6.98316) * float(half @ eye))
    alpha2 = rough**4
    distribution = alpha2 / (np.pi * (nh * nh * (alpha2 - 1) + 1) ** 2)
    masking = nl * np.sqrt(alpha2 + (1 - alpha2) * nv * nv) + nv * np.sqrt(alpha2 + (1 - alpha2) * nl * nl)
    glossy = (f0 * (1 - grazing) + f90 * grazing) * (distribution * 0.5 / np.maximum(masking, 1e-6))[..., None]
    glossy = glossy * (1 + f0 * (1 / _albedo(rough, nv) - 1)[..., None])
    left = 1 - (plain * (1 - grazing) + f90 * grazing)
    matt = colour * (1 - metal) / np.pi * left
    seen: NDArray[np.float64] = (glossy + matt) * nl[..., None] * np.asarray(light, np.float64)
    return seen


def _albedo(roughness: NDArray[np.float64], nv: NDArray[np.float64]) -> NDArray[np.float64]:
    """What a white rough mirror sends back in one bounce, by roughness and the cosine to the eye."""
    table = _albedo_table()
    r, v = np.clip(roughness, 0, 1) * _STEPS, np.clip(nv, 0, 1) * _STEPS
    i, j = np.minimum(r.astype(int), _STEPS - 1), np.minimum(v.astype(int), _STEPS - 1)
    a, b = r - i, v - j
    low = table[i, j] * (1 - b) + table[i, j + 1] * b
    high = table[i + 1, j] * (1 - b) + table[i + 1, j + 1] * b
    found: NDArray[np.float64] = low * (1 - a) + high * a
    return found


@cache
def _albedo_table() -> NDArray[np.float64]:
    """Integrated over half vectors drawn by the distribution of visible normals' plain form (Karis 2013), evenly laid."""
    count = 2048
    u1 = (np.arange(count) + 0.5) / count
    u2 = (np.arange(count) * 0.6180339887498949) % 1.0
    out = np.ones((_STEPS + 1, _STEPS + 1))
    for i in range(_STEPS + 1):
        alpha = max(LEAST_ROUGHNESS, i / _STEPS) ** 2
        cos_h = np.sqrt((1 - u1) / (1 + (alpha * alpha - 1) * u1))
        sin_h = np.sqrt(1 - cos_h**2)
        h = np.stack([sin_h * np.cos(2 * np.pi * u2), sin_h * np.sin(2 * np.pi * u2), cos_h], 1)
        for j in range(_STEPS + 1):
            nv = max(j / _STEPS, 1e-3)
            eye = np.array([np.sqrt(1 - nv * nv), 0.0, nv])
            vh = h @ eye
            nl = np.clip(2 * vh * cos_h - nv, 0, 1)
            a2 = alpha * alpha
            masking = 0.5 / np.maximum(nl * np.sqrt(a2 + (1 - a2) * nv * nv) + nv * np.sqrt(a2 + (1 - a2) * nl * nl), 1e-9)
            out[i, j] = np.where((nl > 0) & (vh > 0), 4 * masking * nl * vh / cos_h, 0).mean()
    return np.clip(out, 1e-3, 1)


def on_screen(light: ArrayLike, exposure: float = 1.0) -> NDArray[np.uint8]:
    """Codes of a screen for light, uint8, sRGB.

    Parameters
    ----------
    light : array, shape (…, 3)
        Linear light, 0 and above.
    exposure : float
        Factor laid on it.

    Notes
    -----
    Colours below 0.76 stay what they are but for the 4 % that a highlight of 0.04 adds everywhere; what is brighter is brought
    within the screen's range without a change of hue, and paled at last (Khronos PBR Neutral tone mapper, 2024).

    >>> on_screen([[0.0, 0.5, 4.0]]).tolist()
    [[150, 168, 253]]
    """
    colour: NDArray[Any] = np.asarray(light, np.float64) * exposure
    least = colour.min(-1, keepdims=True)
    colour = colour - np.where(least < 0.08, least - 6.25 * least * least, 0.04)
    peak = colour.max(-1, keepdims=True)
    start, room = 0.76, 0.24
    bent = 1 - room * room / (np.maximum(peak, start) + room - start)
    paler = 1 - 1 / (0.15 * (peak - bent) + 1)
    bright = colour * bent / np.maximum(peak, 1e-9)
    colour = np.where(peak < start, colour, bright * (1 - paler) + bent * paler)
    return np.rint(encode_srgb(np.clip(colour, 0, 1)) * 255).astype(np.uint8)
