"""The colours of a weave changed as a word says, in OKLab, so that a change looks as large in every colour."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.srgb import decode_srgb, encode_srgb
from silent_loom.core.weave import registry
from silent_loom.core.weave.rows.model import StepEntry, Weave

_TO_LMS = np.array(
    [
        [0.4122214708, 0.5363325363, 0.0514459929],
        [0.2119034982, 0.6806995451, 0.1073969566],
        [0.0883024619, 0.2817188376, 0.6299787005],
    ]
)
_TO_LAB = np.array(
    [
        [0.2104542553, 0.7936177850, -0.0040720468],
        [1.9779984951, -2.4285922050, 0.4505937099],
        [0.0259040371, 0.7827717662, -0.8086757660],
    ]
)
ALIKE = 0.16
"""Colours nearer than this in OKLab belong to one thing: threads of one cloth, but not a brick and its joint."""


def oklab(colour: Sequence[float]) -> NDArray[np.float64]:
    """OKLab of an sRGB-encoded colour, 0…1 (Ottosson 2020, 'A perceptual color space for image processing').

    >>> oklab((1.0, 1.0, 1.0)).round(3).tolist()
    [1.0, 0.0, 0.0]
    """
    linear = decode_srgb(np.asarray(colour, np.float64))
    return np.asarray(_TO_LAB @ np.cbrt(_TO_LMS @ linear), np.float64)


def of_oklab(lab: NDArray[np.float64]) -> tuple[float, float, float]:
    """An sRGB-encoded colour, 0…1; chroma gives way where there is no such colour.

    >>> [round(c, 3) for c in of_oklab(oklab((0.2, 0.5, 0.8)))]
    [0.2, 0.5, 0.8]
    """
    for share in np.linspace(1.0, 0.0, 21):
        linear = np.linalg.inv(_TO_LMS) @ (np.linalg.inv(_TO_LAB) @ (lab * (1, share, share))) ** 3
        if linear.min() >= -1e-4 and linear.max() <= 1 + 1e-4:
            break
    r, g, b = (round(float(v), 4) for v in encode_srgb(np.clip(linear, 0, 1)))
    return r, g, b


def main_dyes(weave: Weave, named: Sequence[str] = ()) -> list[StepEntry]:
    """Rows that colour the surface itself: the first that lays colours, and those of nearly the same colours.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> len(main_dyes(woven_from("gravel"))) >= 1
    True
    """
    if named:
        return [weave.entry(weave.find(path)) for path in named]
    rows = [r for r in weave.rows() if registry.can(r.step, "dye") and r.mix == "replace" and _into_base(r)]
    if not rows:
        return []
    first = _middle(rows[0])
    return [r for i, r in enumerate(rows) if i == 0 or np.linalg.norm(_middle(r) - first) < ALIKE]


def recoloured(weave: Weave, rows: Sequence[StepEntry], colour: Sequence[float]) -> Weave:
    """Rows brought to a colour: their middle becomes it, what strays from the middle strays less in hue than in light.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> weave = woven_from("gravel")
    >>> red = recoloured(weave, main_dyes(weave), (0.6, 0.1, 0.1))
    >>> middle = of_oklab(_middle(main_dyes(red)[0]))
    >>> middle[0] > 2 * middle[1]
    True
    """
    if not rows:
        return weave
    target, middle = oklab(colour), np.mean([_middle(r) for r in rows], axis=0)
    keep = np.array([0.75, 0.4, 0.4])
    return _changed(weave, rows, lambda lab: target + (lab - middle) * keep)


def shifted(weave: Weave, rows: Sequence[StepEntry], light: float = 0.0, chroma: float = 1.0, warm: float = 0.0) -> Weave:
    """Rows made lighter (-1…1, in OKLab lightness), stronger in colour, warmer.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> weave = woven_from("gravel")
    >>> light = shifted(weave, main_dyes(weave), 0.2)
    >>> bool(_middle(main_dyes(light)[0])[0] > _middle(main_dyes(weave)[0])[0])
    True
    """
    by = np.array([light, 0.35 * warm, warm])
    return _changed(weave, rows, lambda lab: np.clip(lab * (1, chroma, chroma) + by, (0.03, -1, -1), (0.98, 1, 1)))


def _changed(weave: Weave, rows: Sequence[StepEntry], change: object) -> Weave:
    for row in rows:
        now = weave.entry(row.id)
        stops = [[at, *of_oklab(change(oklab(colour)))] for at, colour in _stops(now)]  # type: ignore[operator]
        weave = weave.with_settings(row.id, {"ramp": stops})
    return weave


def _stops(row: StepEntry) -> Iterator[tuple[float, tuple[float, ...]]]:
    settings = registry.settings_of(row.step, row.settings)
    for at, *colour in getattr(settings, "ramp", ()):
        yield at, tuple(colour)


def _middle(row: StepEntry) -> NDArray[np.float64]:
    return np.asarray(np.mean([oklab(c) for _, c in _stops(row)], axis=0), np.float64)


def _into_base(row: StepEntry) -> bool:
    return "base" in registry.step(row.step).writes(registry.settings_of(row.step, row.settings))
