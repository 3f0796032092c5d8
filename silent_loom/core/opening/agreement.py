"""What the maps of a set say of each other: heights against the slopes of its normals, occlusion against the sky over them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import IDLE
from silent_loom.core.maps.horizon import sky_of
from silent_loom.core.maps.integrate import height_of
from silent_loom.core.moving.resample import blur, reduce_area
from silent_loom.core.moving.slopes import slopes_of
from silent_loom.core.steps.maps.normal import from_height

SIDE = 256
"""Longer side at which maps are held against each other."""
RELIEF = 0.12
"""Steepness at which a relief of unknown depth is looked at: its slopes on the mean."""
TOLD = 0.25
"""By how much better a swapped set has to agree before that is said."""
GREY = ("height", "occlusion", "roughness")


@dataclass(frozen=True)
class Doubt:
    """Something about a set that its maps say together.

    Attributes
    ----------
    maps : tuple of str
        The maps it is about; with two of them, that they seem to have changed places.
    words : str
    sure : float
        0…1.
    mend : str
        'swap', 'invert' or '' where nothing is to be pressed.
    """

    maps: tuple[str, ...]
    words: str
    sure: float
    mend: str


def doubts(maps: Mapping[str, Floats]) -> list[Doubt]:
    """What speaks against the names of a set.

    Parameters
    ----------
    maps : mapping of str to float32 array
        'normal' as unit vectors x right, y up, shape (H, W, 3); 'height', 'occlusion', 'roughness', 'metallic' as 0…1, shape
        (H, W). All show the same area.

    Notes
    -----
    The relief is integrated from the normals (Frankot & Chellappa 1988); without normals each candidate is taken for the
    relief in turn. Height is what agrees with this relief, occlusion what agrees with the sky over it. The names are doubted
    where the other way round agrees clearly better.

    >>> doubts({"roughness": np.zeros((8, 8), np.float32)})
    []
    """
    small = {name: _small(m) for name, m in maps.items()}
    shapes = [m.shape[:2] for m in small.values()]
    h, w = (min(s[k] for s in shapes) for k in (0, 1)) if shapes else (0, 0)
    if min(h, w) < 16:
        return []
    small = {n: np.ascontiguousarray(m[:h, :w]) if m.shape[:2] == (h, w) else _to(m, w, h) for n, m in small.items()}
    grey = {n: small[n] for n in GREY if n in small and float(small[n].std()) > 0.004}
    as_height, as_sky = _scores(grey, small.get("normal"))
    turned = -as_height.get("height", 0.0)
    if "normal" in small and turned > max(0.35, *(v for n, v in as_height.items() if n != "height"), 0.0):
        sure = min(turned, 1.0)
        words = f"The height seems to be turned over: high for low, by its normals ({round(100 * sure)} % sure)."
        return [Doubt(("height",), words, sure, "invert")]
    out: list[Doubt] = []
    for a, b in (("height", "occlusion"), ("height", "roughness"), ("occlusion", "roughness")):
        if a not in grey or b not in grey:
            continue
        keep = _fits(a, a, as_height, as_sky) + _fits(b, b, as_height, as_sky)
        swap = _fits(b, a, as_height, as_sky) + _fits(a, b, as_height, as_sky)
        if swap > keep + TOLD:
            names = f"{a.capitalize()} and {b}"
            sure = float(np.clip((swap - keep) / 1.2, 0, 1))
            out.append(Doubt((a, b), f"{names} seem to have changed places ({round(100 * sure)} % sure).", sure, "swap"))
    out = sorted(out, key=lambda d: -d.sure)[:1]  # the others follow from it
    if not out:
        out += _gloss(grey, small)
    return out


def _small(m: Floats) -> Floats:
    side = max(m.shape[:2])
    if side <= SIDE:
        return np.ascontiguousarray(m, np.float32)
    return _to(m, max(8, round(m.shape[1] * SIDE / side)), max(8, round(m.shape[0] * SIDE / side)))


def _to(m: Floats, w: int, h: int) -> Floats:
    pixels = np.ascontiguousarray(m if m.ndim == 3 else m[..., None], np.float32)
    out = reduce_area(pixels, min(w, pixels.shape[1]), min(h, pixels.shape[0]))
    return out if m.ndim == 3 else out[..., 0]


def _banded(plane: Floats) -> Floats:
    """Without what is broader than a sixteenth of the sheet, which no slope tells well, and without single texels."""
    wide = max(plane.shape) / 16
    return np.asarray(blur(plane, 0.8, True) - blur(plane, wide, True), np.float32)


def _alike(a: Floats, b: Floats) -> float:
    x, y = _banded(a).ravel().astype(np.float64), _banded(b).ravel().astype(np.float64)
    spread = float(x.std() * y.std())
    return float((x * y).mean() / spread) if spread > 1e-12 else 0.0


def _scores(grey: Mapping[str, Floats], normal: Floats | None) -> tuple[dict[str, float], dict[str, dict[str, float]]]:
    """How well each map agrees with the relief, and, by what is taken for the height, with the sky over it."""
    relief: dict[str, Floats] = {}
    if normal is not None:
        unit = np.ascontiguousarray(normal / np.maximum(np.linalg.norm(normal, axis=2, keepdims=True), 1e-6), np.float32)
        slopes = slopes_of(unit, IDLE)
        relief[""] = height_of(slopes[..., 0], -slopes[..., 1], (1.0, 1.0), True)
    as_height = {n: _alike(m, relief[""]) if "" in relief else 0.0 for n, m in grey.items()}
    heights = relief if relief else dict(grey)
    as_sky = {k: {n: _alike(m, sky) for n, m in grey.items() if n != k} for k, h in heights.items() for sky in [_sky(h)]}
    return as_height, as_sky


def _sky(plane: Floats) -> Floats:
    """The light of an even sky on a relief that is brought to an ordinary steepness."""
    size = float(plane.shape[1]), float(plane.shape[0])
    image = Image(np.ascontiguousarray(plane[..., None], np.float32), Kind.DATA, size, True)
    dy, dx = (np.diff(plane, axis=k, append=np.take(plane, [0], axis=k)) for k in (0, 1))
    slope = float(np.sqrt(np.mean(dx**2 + dy**2)))
    steep = image.with_pixels(image.pixels * np.float32(RELIEF / max(slope, 1e-9)))
    normals = from_height(steep, task=IDLE).pixels
    return np.asarray(sky_of(steep.pixels[..., 0], normals, (1.0, 1.0), max(plane.shape) / 16).seen, np.float32)


def _fits(plane: str, role: str, as_height: Mapping[str, float], as_sky: Mapping[str, Mapping[str, float]]) -> float:
    """How well the map that is called so fits a role; with no normals the other candidate is the relief."""
    if role == "height":
        return as_height[plane] if "" in as_sky else max(as_sky[plane].values(), default=0.0)
    if role == "occlusion":
        return as_sky[""][plane] if "" in as_sky else 0.0
    return 0.0


def _gloss(grey: Mapping[str, Floats], small: Mapping[str, Floats]) -> list[Doubt]:
    """Roughness that rises where a surface is open and high, as smoothness does: what lies deep is seldom smoother."""
    rough = grey.get("roughness")
    if rough is None:
        return []
    sides = [_alike(rough, grey[n]) for n in ("occlusion", "height") if n in grey]
    metal = small.get("metallic")
    if metal is not None and 0.03 < float((metal > 0.5).mean()) < 0.97:
        on, off = float(rough[metal > 0.5].mean()), float(rough[metal <= 0.5].mean())
        sides.append(float(np.clip((on - off) * 2, -1, 1)))
    if not sides:
        return []
    score = float(np.mean(sides))
    if score < GLOSSY:
        return []
    sure = min(score, MOST_SURE)
    words = f"The roughness may be smoothness: it is highest where the surface is open ({round(100 * sure)} % sure)."
    return [Doubt(("roughness",), words, sure, "invert")]


MOST_SURE = 0.6
"""Of smoothness: a surface may well be roughest where it is open."""
GLOSSY = 0.7
"""Agreement with what is open and high from which on roughness is doubted."""
