"""A smaller set made from a large one: each map by the filter that keeps what it means."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.moving.resample import normalise, reduce_area, resize


def reduced(
    maps: Mapping[str, Image], width: int, height: int, *, lost_length: bool = True, task: Task = IDLE
) -> dict[str, Image]:
    """Maps of one sheet at a smaller size.

    Parameters
    ----------
    maps : mapping of str to Image
        All of one size.
    width, height : int
        Texels of the result.
    lost_length : bool
        Let roughness take up what normals lose: what many directions scatter in one texel is seen as a rougher surface.

    Returns
    -------
    dict
        Colour averaged as light, normals as vectors, ids by the texel in the middle, everything else as numbers.

    Notes
    -----
    The mean of unit vectors is the shorter the more they differ. As a von Mises-Fisher lobe its length r stands for a
    concentration κ = (3r − r³) / (1 − r²) (Banerjee et al. 2005), and convolving lobes adds their variances: α² + 2/κ for the
    GGX distribution's α = roughness² (Han, Sun, Ramamoorthi & Grinspun, Frequency domain normal map filtering, 2007; the same
    sum as in Olano & Baker, LEAN mapping, 2010).

    >>> from silent_loom.core.base.images import Kind
    >>> maps = {"height": Image(np.arange(4, dtype=np.float32).reshape(1, 4, 1), Kind.DATA)}
    >>> reduced(maps, 2, 1)["height"].plane().tolist()
    [[0.5, 2.5]]
    """
    out = {name: resize(image, width, height, task) for name, image in maps.items() if name != "roughness" or not lost_length}
    if lost_length and "roughness" in maps:
        rough = resize(maps["roughness"], width, height, task)
        if "normal" in maps and width * height < maps["normal"].width * maps["normal"].height:
            rough = rough.with_pixels(rougher(rough.pixels, lost(maps["normal"], width, height)))
        out["roughness"] = rough
    return {name: out[name] for name in maps}


def lost(normal: Image, width: int, height: int) -> Floats:
    """2/κ of the normals that fall into each texel of a smaller sheet, shape (H, W, 1); 0 where all point one way.

    >>> flat = Image(np.tile(np.array([0, 0, 1], np.float32), (4, 4, 1)), Kind.NORMAL)
    >>> lost(flat, 2, 2).max()
    np.float32(0.0)
    """
    if width > normal.width or height > normal.height:
        return np.zeros((height, width, 1), np.float32)
    mean = reduce_area(normal.pixels, width, height)
    r2 = np.minimum(np.square(mean).sum(2, keepdims=True), 1)
    r = np.sqrt(r2)
    return np.asarray(2 * (1 - r2) / np.maximum(3 * r - r * r2, 1e-6), np.float32)


def rougher(roughness: Floats, spread: Floats) -> Floats:
    """Perceptual roughness with more variance: the fourth root of α² + 2/κ, at most 1.

    >>> rougher(np.float32([[0.3]]), np.float32([[0.0]])).astype(float).round(3).tolist()
    [[0.3]]
    """
    held = np.clip(roughness, 0, 1)
    more = np.minimum(np.sqrt(np.sqrt(held**4 + spread)), 1)
    return np.where(spread > 1e-9, np.maximum(more, roughness), roughness).astype(np.float32)


def squeezed(image: Image, width: int, height: int, task: Task = IDLE) -> Image:
    """A sheet that is not square on square texels that will be shown as a square as wide as it: normals follow the stretch.

    >>> squeezed(Image(np.arange(4, dtype=np.float32).reshape(1, 4, 1), Kind.DATA), 2, 1).plane().tolist()
    [[0.5, 2.5]]
    """
    done = resize(image, width, height, task)
    w, h = image.size_mm
    if image.kind is Kind.NORMAL:
        # Stretched down by w / h, so slopes along that way become smaller by as much
        done = done.with_pixels(normalise(done.pixels * np.array([1, h / w, 1], np.float32)))
    return replace(done, size_mm=(w, w))
