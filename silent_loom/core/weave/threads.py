"""The threads that every material may have: what kind each is and what stands in where it is missing."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from silent_loom.core.images import Image, Kind


@dataclass(frozen=True)
class ThreadSpec:
    """One thread's meaning.

    Attributes
    ----------
    name, title : str
        Key in a weave, and word on screen.
    kind : Kind
    neutral : tuple of float
        Value that stands in where nothing was made yet.
    unit : str
        Unit of the samples, empty for plain numbers.
    weight : float
        Its default share in the cost by which geometric steps decide.
    """

    name: str
    title: str
    kind: Kind
    neutral: tuple[float, ...]
    unit: str = ""
    weight: float = 0.0


THREADS: dict[str, ThreadSpec] = {
    t.name: t
    for t in (
        ThreadSpec("base", "Base colour", Kind.COLOUR, (0.18, 0.18, 0.18), weight=1.0),
        ThreadSpec("height", "Height", Kind.DATA, (0.0,), "mm", weight=1.0),
        ThreadSpec("normal", "Normal", Kind.NORMAL, (0.0, 0.0, 1.0), weight=0.5),
        ThreadSpec("roughness", "Roughness", Kind.DATA, (0.5,)),
        ThreadSpec("metallic", "Metallic", Kind.DATA, (0.0,)),
        ThreadSpec("occlusion", "Occlusion", Kind.DATA, (1.0,)),
        ThreadSpec("opacity", "Opacity", Kind.DATA, (1.0,)),
    )
}


def spec(name: str) -> ThreadSpec:
    """Meaning of a thread; any other name is a helper, plain data."""
    return THREADS.get(name) or ThreadSpec(name, name.replace("_", " ").capitalize(), Kind.DATA, (0.0,))


def neutral(name: str, width: int, height: int, size_mm: tuple[float, float], wraps: bool) -> Image:
    """The stand-in for a thread that nothing has made yet."""
    s = spec(name)
    pixels = np.empty((height, width, len(s.neutral)), np.float32)
    pixels[:] = s.neutral
    return Image(pixels, s.kind, size_mm, wraps)
