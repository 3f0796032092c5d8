"""One thing about a photo, and the step that mends it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import cv2
import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import Task
from silent_loom.core.base.srgb import encode_srgb
from silent_loom.core.files import Picture
from silent_loom.core.files.smaller import smaller
from silent_loom.core.moving.resample import reduce_area
from silent_loom.core.weave import registry

SIDE = 1024
"""Texels along the longer side at which most of a photo is looked at."""


@dataclass(frozen=True)
class Cure:
    """The step that mends a finding, and its settings."""

    step: str
    settings: dict[str, Any]
    words: str
    at_most: bool = False
    """Less of a number does it, too: then nothing that was lowered already is raised again."""
    at_least: bool = False
    """More of a number does it, too."""

    def changes(self, settings: Mapping[str, Any]) -> dict[str, Any]:
        """What to set in a row of the step that has these settings."""
        if not self.at_most:
            return self.settings
        return {k: min(v, settings[k]) if isinstance(settings.get(k), int | float) else v for k, v in self.settings.items()}

    def done_by(self, settings: Mapping[str, Any]) -> bool:
        """Whether a row of the step that has these settings does so already. What an artist has placed (corners, a grid) counts,
        wherever it was placed."""
        if registry.can(self.step, "straighten") and settings.get("corners") is not None:
            return True
        if self.at_least:
            return all(settings.get(k, v - 1) >= v for k, v in self.settings.items())
        if self.at_most:
            return all(settings.get(k, v + 1) <= v for k, v in self.settings.items())
        return all(
            settings.get(k) is not None if isinstance(v, tuple | list) else settings.get(k) == v for k, v in self.settings.items()
        )


@dataclass(frozen=True)
class Finding:
    """One thing about a photo.

    Attributes
    ----------
    code : str
        'density', 'sharpness', 'noise', 'blocks', 'lights', 'darks', 'light', 'tilt', 'turn', 'border', 'motif',
        'courses', 'crop'.
    level : str
        'good', 'note' or 'bad'.
    title, says : str
        What it is, with its figure; what it will do to the result.
    figure : float
    cure : Cure or None
    """

    code: str
    level: str
    title: str
    says: str
    figure: float = 0.0
    cure: Cure | None = None


def cure(can: str, settings: dict[str, Any], words: str, *, at_most: bool = False, at_least: bool = False) -> Cure:
    """A cure by the step that can do something (`Step.can`).

    >>> cure("straighten", {"bulge": 0.1}, "Straighten").done_by({"bulge": 0.1})
    True
    """
    return Cure(registry.able(can), settings, words, at_most, at_least)


ENOUGH = 32_000_000
"""Pixels of a photo whose light is looked at; beyond it blocks of codes are averaged first."""


@dataclass
class Seen:
    """A photo as it is looked at, shared by all findings.

    Attributes
    ----------
    whole : array, shape (H, W, 3)
        Its codes, or sRGB values of a float photo; ``top`` is the highest of them.
    codes : float32 array
        The same at `SIDE`, 0…1; ``grey`` is their mean.
    image : Image
        Its light at `SIDE`, a millimetre a pixel of the photo.
    figures : dict
        What is measured on the way, for JSON.
    """

    picture: Picture
    width_mm: float | None
    whole: NDArray[Any]
    top: float
    codes: Floats
    image: Image
    figures: dict[str, Any] = field(default_factory=dict)
    clipped: tuple[Floats, Floats] = (np.zeros((1, 1), np.float32),) * 2
    """Share of clipped lights and darks by place."""
    illumination: Floats = field(default_factory=lambda: np.zeros((1, 1), np.float32))
    """The uneven light, in logarithms."""

    @property
    def grey(self) -> Floats:
        grey: Floats = self.codes.mean(2)
        return grey

    @property
    def size(self) -> tuple[int, int]:
        return self.picture.width, self.picture.height

    def lengths(self, *pixels: float) -> str:
        """Lengths on the photo in words: in millimetres where its real width is known, else in pixels."""
        if self.width_mm is None:
            return f"{' × '.join(f'{p:.0f}' for p in pixels)} pixels"
        mm = self.width_mm / self.picture.width
        return f"{' × '.join(f'{p * mm:.3g}' for p in pixels)} mm"


def seen(picture: Picture, width_mm: float | None, task: Task) -> Seen:
    """A photo made ready for looking at.

    >>> from silent_loom.core.base.parallel import IDLE
    >>> from silent_loom.core.files.profile import SRGB
    >>> ready = seen(Picture(np.full((64, 128, 3), 90, np.uint8), None, SRGB, 8, "png"), None, IDLE)
    >>> ready.size, round(float(ready.grey.mean()), 3)
    ((128, 64), 0.353)
    """
    w, h = picture.width, picture.height
    scale = min(1.0, SIDE / max(w, h))
    sw, sh = max(16, round(w * scale)), max(16, round(h * scale))
    codes = picture.samples
    if codes.dtype == np.float32:
        whole = encode_srgb(np.clip(picture.colour(), 0, 1)).astype(np.float32)
    else:
        whole = codes if codes.shape[2] == 3 else np.repeat(codes, 3, 2)
    top = 1.0 if whole.dtype == np.float32 else float(np.iinfo(codes.dtype).max)
    small_codes = cv2.resize(whole, (sw, sh), interpolation=cv2.INTER_AREA).astype(np.float32) / np.float32(top)
    task.checkpoint()
    less = smaller(picture, ENOUGH)
    light_source = less.half if less is picture and 2 * sw <= w + 1 and 2 * sh <= h + 1 else less.colour()
    small = reduce_area(light_source, sw, sh) if scale < 1 else light_source
    image = Image(np.ascontiguousarray(small), Kind.COLOUR, (float(w), float(h)))
    return Seen(picture, width_mm, whole, top, small_codes, image)


def box_corners(left: float, top: float, right: float, bottom: float) -> list[tuple[float, float]]:
    """Corners of a box in parts of the photo, clockwise from top left.

    >>> box_corners(0.1, 0.2, 0.9, 0.8)
    [(0.1, 0.2), (0.9, 0.2), (0.9, 0.8), (0.1, 0.8)]
    """
    a, b, c, d = (round(float(v), 5) for v in (left, top, right, bottom))
    return [(a, b), (c, b), (c, d), (a, d)]
