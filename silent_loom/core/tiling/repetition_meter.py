"""Repetition meter: what the eye will catch from afar when a sheet is repeated."""

from __future__ import annotations

import numpy as np

from silent_loom.core.colour import lab
from silent_loom.core.images import Floats, Image, Kind
from silent_loom.core.resample import blur, reduce_area

SIDE = 192


def saliency(image: Image) -> Floats:
    """How far each spot stands out from the sheet, in robust standard deviations; about 192 texels a side.

    Notes
    -----
    Lightness and colour are band-passed at three sizes, from a twentieth to a fifth of the sheet (what is left at 4 × 4
    copies seen from afar); the size of each band is set against its own median over the sheet, so a regular motif,
    whose spots are all alike, does not count.
    """
    scale = SIDE / max(image.width, image.height)
    w, h = max(16, round(image.width * min(1, scale))), max(16, round(image.height * min(1, scale)))
    small = reduce_area(image.pixels, w, h) if w < image.width or h < image.height else image.pixels
    planes = lab(small) if image.kind is Kind.COLOUR else small[..., :1] / (np.std(small) + 1e-6) * 10
    worst = np.zeros(planes.shape[:2], np.float32)
    for part in (0.02, 0.04, 0.08):
        s = part * max(planes.shape[:2])
        band = blur(planes, s, True) - blur(planes, 2.5 * s, True)
        size = np.sqrt(np.square(band).sum(2))
        middle = float(np.median(size))
        spread = 1.4826 * float(np.median(np.abs(size - middle))) + 0.15
        worst = np.maximum(worst, (size - middle) / spread)
    return worst


def repetition(image: Image) -> float:
    """0…1: 0 nothing stands out, over 0.5 it is seen from afar at 4 × 4."""
    z = float(saliency(image).max())
    return float(1 - np.exp(-max(0.0, z - 4.0) / 5.0))
