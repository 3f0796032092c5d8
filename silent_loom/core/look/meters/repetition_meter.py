"""Repetition meter: what the eye will catch from afar when a sheet is repeated."""

from __future__ import annotations

from dataclasses import dataclass

import cv2
import numpy as np

from silent_loom.core.base.colour import lab
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.lazy_modules import later
from silent_loom.core.moving.resample import blur, reduce_area

ndimage = later("scipy.ndimage")

SIDE = 192


def saliency(image: Image) -> Floats:
    """How far each spot stands out from the sheet, in robust standard deviations; about 192 texels a side.

    Notes
    -----
    Lightness and colour are band-passed at three sizes, from a twentieth to a fifth of the sheet (what is left at 4 × 4
    copies seen from afar); the size of each band is set against its own median over the sheet, so a regular motif,
    whose spots are all alike, does not count.

    >>> sheet = np.full((128, 128, 3), 0.5, np.float32)
    >>> sheet[40:60, 40:60] = 0.05
    >>> found = saliency(Image(sheet, Kind.COLOUR, wraps=True))
    >>> bool(found[50 * found.shape[0] // 128, 50 * found.shape[1] // 128] > np.median(found))
    True
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
    """0…1: 0 nothing stands out, over 0.5 it is seen from afar at 4 × 4.

    >>> sheet = np.full((256, 256, 3), 0.5, np.float32)
    >>> sheet[100:124, 100:124] = 0.05
    >>> repetition(Image(sheet, Kind.COLOUR, wraps=True)) > 0.5
    True
    """
    z = float(saliency(image).max())
    return float(1 - np.exp(-max(0.0, z - 4.0) / 5.0))


@dataclass(frozen=True)
class Spot:
    """A patch that the eye will find again in every repeat; places are parts of the sheet.

    Attributes
    ----------
    u, v, radius : float
        Its middle, and its size as a part of the longer side.
    strength : float
        0…1 as the figure.
    broad : bool
        Rather a difference in tone over a wide place than an odd element.
    """

    u: float
    v: float
    radius: float
    strength: float
    broad: bool


def spots(image: Image, most: int = 8) -> list[Spot]:
    """The patches that stand out, strongest first.

    >>> sheet = np.full((256, 256, 3), 0.5, np.float32)
    >>> sheet[100:124, 60:84] = 0.05
    >>> [(round(s.u, 2), round(s.v, 2)) for s in spots(Image(sheet, Kind.COLOUR, wraps=True), 4)][:1]
    [(np.float64(0.28), np.float64(0.44))]
    """
    z = saliency(image)
    h, w = z.shape
    labels, count = ndimage.label(np.pad(z > 4.0, 0))
    found = []
    for i in range(1, count + 1):
        part = labels == i
        y, x = np.argwhere(part).T
        top = float(z[part].max())
        radius = max(0.02, 1.4 * float(np.sqrt(part.sum() / np.pi)) / max(h, w))
        strength = float(1 - np.exp(-max(0.0, top - 4.0) / 5.0))
        found.append(Spot((x.mean() + 0.5) / w, (y.mean() + 0.5) / h, radius, round(strength, 3), radius > 0.12))
    found.sort(key=lambda s: -s.strength)
    return found[:most]


def copies(image: Image) -> float:
    """Share of the sheet that is seen again elsewhere on it, as it is or mirrored, 0…1.

    Notes
    -----
    Windows of a sixteenth of the sheet, overlapping by half, are looked for by normalised correlation in the rest of the
    sheet and in its mirror images; those found again with more than 0.94 count. A regular motif counts: see its lattice.

    >>> sheet = np.tile(np.random.default_rng(1).random((32, 32, 3), np.float32), (2, 2, 1))
    >>> round(copies(Image(sheet, Kind.COLOUR, wraps=True)), 2)
    1.0
    """
    side = 256
    w, h = (side, max(32, round(side * image.height / image.width)))
    small = reduce_area(image.pixels, w, h) if image.width > w else image.pixels
    planes = lab(small)[..., 0] if image.kind is Kind.COLOUR else small[..., 0]
    planes = np.ascontiguousarray(planes - blur(np.ascontiguousarray(planes), 10.0, True), np.float32)
    h, w = planes.shape
    n = max(12, min(h, w) // 10)
    ring = np.pad(planes, ((0, n), (0, n)), mode="wrap")
    found, total = 0, 0
    for y in range(0, h - n // 2, n):
        for x in range(0, w - n // 2, n):
            patch = ring[y : y + n, x : x + n]
            if patch.std() < 1e-3:
                continue
            total += 1
            best = 0.0
            for flip in (None, 0, 1):
                other = patch if flip is None else np.ascontiguousarray(np.flip(patch, flip))
                match = cv2.matchTemplate(ring, other, cv2.TM_CCOEFF_NORMED)
                if flip is None:
                    y0, x0 = max(0, y - n // 2), max(0, x - n // 2)
                    match[y0 : y + n // 2 + 1, x0 : x + n // 2 + 1] = 0
                    # The same window once more beyond the wrapped border
                    match[max(0, y + h - n // 2) :, :][:, x0 : x + n // 2 + 1] = 0
                    match[:, max(0, x + w - n // 2) :][y0 : y + n // 2 + 1] = 0
                best = max(best, float(match.max()))
            found += best > 0.94
    return found / total if total else 0.0
