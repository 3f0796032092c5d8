"""Photo report: what is right and wrong with a photo for this job, what it will do to the result, and what mends it."""

from __future__ import annotations

import importlib
import pkgutil
from dataclasses import asdict, dataclass, field
from functools import cache
from typing import Any, Protocol, cast

import numpy as np

from silent_loom.core.base.images import Floats
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.files import Picture
from silent_loom.core.report import findings as folder
from silent_loom.core.report.finding import Finding, Seen, seen

ORDER = {"bad": 0, "note": 1, "good": 2}


@dataclass(frozen=True)
class Report:
    """All findings on a photo, and pictures of where.

    Attributes
    ----------
    findings : list of Finding
    light : float32 array, about 96 along the longer side
        Illumination over its mean.
    clipped : float32 arrays, shape (16, 16)
        Share of clipped lights and darks by place.
    """

    findings: list[Finding]
    light: Floats
    clipped_lights: Floats
    clipped_darks: Floats
    figures: dict[str, Any] = field(default_factory=dict)

    def as_dict(self) -> dict[str, Any]:
        """For JSON, without the pictures."""
        return {"findings": [asdict(f) for f in self.findings], **self.figures}


class FindingKind(Protocol):
    """A kind of finding: a module of `findings`."""

    PLACE: float
    """Where it comes among the findings."""

    def find(self, seen: Seen, task: Task) -> list[Finding]:
        """What there is to say of a photo."""
        ...


@cache
def _kinds() -> tuple[FindingKind, ...]:
    """Every kind of finding, in the order in which they are looked for."""
    names = sorted(info.name for info in pkgutil.iter_modules(folder.__path__))
    found = [cast(FindingKind, importlib.import_module(f"{folder.__name__}.{name}")) for name in names]
    return tuple(sorted(found, key=lambda module: module.PLACE))


def report(picture: Picture, width_mm: float | None = None, task: Task = IDLE) -> Report:
    """Everything about a photo that matters for making a map set of it.

    Parameters
    ----------
    picture : Picture
    width_mm : float, optional
        Real width of the whole photo, when it is known.

    >>> from silent_loom.core.files.profile import SRGB
    >>> told = report(Picture(np.full((64, 128, 3), 90, np.uint8), None, SRGB, 8, "png"))
    >>> [f.code for f in told.findings][:2]
    ['sharpness', 'light']
    """
    photo = seen(picture, width_mm, task)
    found: list[Finding] = []
    for kind in _kinds():
        found += kind.find(photo, task)
        task.checkpoint()
    found.sort(key=lambda f: ORDER[f.level])
    light = photo.illumination
    lights, darks = photo.clipped
    return Report(found, np.exp(light - light.mean()).astype(np.float32), lights, darks, photo.figures)
