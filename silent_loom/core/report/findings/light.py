"""Uneven light: slope, vignette, patches."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.images import Floats
from silent_loom.core.base.parallel import Task
from silent_loom.core.report.finding import Finding, Seen, cure
from silent_loom.core.report.findings.border import border
from silent_loom.core.steps.photo.light import evenness, illumination

PLACE = 3
"""Where it comes among the findings."""


BLOTCHY = 30.0
"""Per cent that light varies by in patches, from which taking a third of them out leaves a sheet blotchy."""


@dataclass(frozen=True)
class Light:
    """Uneven light taken apart: L* over the sheet."""

    total: float
    slope: float
    bright_side: str
    vignette: float
    patches: float


def _light(field_: Floats) -> Light:
    h, w = field_.shape
    v, u = np.mgrid[0:h, 0:w]
    u, v = (u + 0.5) / w * 2 - 1, (v + 0.5) / h * 2 - 1
    r2 = (u * u + v * v) / 2
    terms = np.stack([np.ones_like(u), u, v, r2 - r2.mean(), (r2 - r2.mean()) ** 2], -1).reshape(-1, 5)
    solved, *_ = np.linalg.lstsq(terms, field_.ravel(), rcond=None)
    plane = solved[1] * u + solved[2] * v
    radial = (terms[:, 3:] @ solved[3:]).reshape(h, w)
    rest = field_ - (terms @ solved).reshape(h, w)

    def span(a: NDArray[Any]) -> float:  # per cent of light between the 5th and the 95th percentile
        return float(100 * (np.exp(np.percentile(a, 95) - np.percentile(a, 5)) - 1))

    x, y = float(solved[1]), float(solved[2])
    angle = math.degrees(math.atan2(-y, x)) % 360
    names = ("right", "top right", "top", "top left", "left", "bottom left", "bottom", "bottom right")
    return Light(span(field_), span(plane), names[round(angle / 45) % 8], span(radial) * (1 if solved[3] < 0 else -1), span(rest))


def find(seen: Seen, task: Task) -> list[Finding]:
    """What there is to say of it.

    >>> from silent_loom.core.base.parallel import IDLE
    >>> from silent_loom.core.files.profile import SRGB
    >>> from silent_loom.core.report.finding import seen
    >>> import numpy as np
    >>> from silent_loom.core.files import Picture
    >>> codes = np.full((64, 128, 3), 90, np.uint8)
    >>> photo = seen(Picture(codes, None, SRGB, 8, "png"), None, IDLE)
    >>> [f.code for f in find(photo, IDLE)]
    ['light']
    """
    findings: list[Finding] = []
    left, up, right, low = border(seen.grey, seen.codes)
    bordered = max(left, up, right, low) > 0
    field_ = seen.illumination = illumination(seen.image, 0.3, 1.0, task)
    told = _light(field_)
    even = evenness(seen.image)
    seen.figures |= {
        "evenness": round(even, 3),
        "light_slope_percent": round(told.slope, 2),
        "light_from": told.bright_side,
        "vignette_percent": round(told.vignette, 2),
        "patches_percent": round(told.patches, 2),
    }
    if even > 3 or told.total > 12:
        kinds = [
            (told.slope, f"a slope of {told.slope:.0f} % from the {told.bright_side}"),
            (told.vignette, f"dark corners of {told.vignette:.0f} %"),
            (told.patches, f"patches of {told.patches:.0f} %"),
        ]
        words = ", ".join(k[1] for k in sorted(kinds, reverse=True) if k[0] > 5) or "mild"
        findings.append(
            Finding(
                "light",
                "bad" if even > 8 else "note",
                f"Uneven light: {words}",
                "Once tiled it shows as a grid of light and dark.",
                even,
                cure("light", {"amount": 1.0, "patches": 1.0}, "Even the light, its patches too", at_least=True)
                if told.patches > BLOTCHY and not bordered
                else cure("light", {"amount": 1.0}, "Even the light"),
            )
        )
    else:
        findings.append(Finding("light", "good", f"Even light ({even:.1f} L*)", "Nothing of it will show once tiled.", even))
    return findings
