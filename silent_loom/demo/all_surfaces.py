"""Every known surface, by the name that a shot gives it."""

from __future__ import annotations

from collections.abc import Callable

from silent_loom.demo import stores, surfaces
from silent_loom.demo.surfaces import Surface

SURFACES: dict[str, Callable[..., Surface]] = {
    f.__name__: f
    for f in (
        surfaces.slate,
        surfaces.plaster,
        surfaces.hull,
        surfaces.tiles,
        surfaces.sailcloth,
        stores.rope,
        stores.cork,
        stores.kelp,
    )
}
