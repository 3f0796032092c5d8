"""Which dense mesh belongs to which light one, by their names."""

from __future__ import annotations

import re

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.images import Floats
from silent_loom.core.form.bake.dense import Source
from silent_loom.core.form.model import Model

_ENDINGS = re.compile(r"[\s_.-]*(low|lo|lp|high|hi|hp|dense|light|lowpoly|highpoly)([\s_.-]*\d+)?$", re.I)


def stem(name: str) -> str:
    """What a mesh is called without what tells light from dense ones.

    >>> stem("Buoy_low"), stem("buoy-HP"), stem("ring_high_2"), stem("Chain")
    ('buoy', 'buoy', 'ring', 'chain')
    """
    bare = _ENDINGS.sub("", name.strip())
    return (bare or name).strip().lower()


def matched(model: Model, dense: Source) -> list[tuple[NDArray[np.bool_], Source]]:
    """Triangles of the light mesh and the dense meshes of the same name.

    Raises
    ------
    LoomError
        A light mesh has no dense one of its name.

    >>> from silent_loom.core.form.model import plate
    >>> [int(t.sum()) for t, _ in matched(plate(), Source((plate(),), {}))]
    [2]
    """
    found: list[tuple[NDArray[np.bool_], Source]] = []
    lacking: list[str] = []
    for name in dict.fromkeys(stem(n) for n in model.meshes):
        own = [k for k, n in enumerate(model.meshes) if stem(n) == name]
        parts: list[Model] = []
        pictures: dict[tuple[int, int], Floats] = {}
        for number, m in enumerate(dense.models):
            theirs = [k for k, n in enumerate(m.meshes) if stem(n) == name]
            if theirs:
                pictures |= {(len(parts), slot): p for (of, slot), p in dense.pictures.items() if of == number}
                parts.append(m.of(np.isin(m.triangle_mesh, theirs)))
        if not parts:
            lacking.append(model.meshes[own[0]])
            continue
        found.append((np.isin(model.triangle_mesh, own), Source(tuple(parts), pictures)))
    if lacking:
        there = ", ".join(dict.fromkeys(n for m in dense.models for n in m.meshes))
        raise LoomError(
            f"no dense mesh belongs to {', '.join(lacking[:5])}",
            "",
            f"Name them alike, but for _low and _high, or bake without matching names. The dense ones are called {there[:300]}.",
        )
    return found
