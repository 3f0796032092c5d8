"""A second material or photo, brought into a row that lays it over the first."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

from silent_loom.core.base.errors import SettingError
from silent_loom.core.base.images import Kind
from silent_loom.core.base.parallel import Task
from silent_loom.core.files import write
from silent_loom.core.screen.display import shown
from silent_loom.core.weave import threads
from silent_loom.core.weave.rows.model import SourceRef, Weave
from silent_loom.store.states import State
from silent_loom.store.store import Store
from silent_loom.work.desk import Desk

BROUGHT = ("base", "height", "normal", "roughness", "metallic", "occlusion", "specular", "opacity", "emission")
"""Maps of a second material that are brought in, where it has them."""


def laid_over(desk: Desk, store: Store, ident: str, step_id: str, material: str, size: int) -> State:
    """Bake the maps of another material, keep them as files of this one, and name them in a row.

    Raises
    ------
    SettingError
        It is the same material.
    """
    if material == ident:
        raise SettingError("a material is not laid over itself", "second material", "Choose another, or duplicate this one.")
    other = store.get(material)

    def work(weave: Weave, task: Task) -> tuple[dict[str, str], float, float]:
        plan = desk.evaluator.plan(weave)
        made: dict[str, str] = {}
        with tempfile.TemporaryDirectory(prefix="silent-loom-") as folder:
            for name in (n for n in BROUGHT if n in plan.threads):
                image = desk.evaluator.ask(weave, name, size, task)
                path = Path(folder) / f"{name}.png"
                colour = image.kind is Kind.COLOUR
                pixels = image.pixels if colour else shown(image, plan.spec(name))
                write(path, pixels, fmt="png", depth="16", colour=colour, task=task)
                with path.open("rb") as stream:
                    made[name], _ = store.add_source(stream, f"{other.name} {threads.spec(name).title.lower()}.png")
        return made, plan.geometry.size_mm[0], plan.spec("height").depth

    made, width, depth = desk.answer(material, work)
    maps = [{"thread": name, "source": digest} for name, digest in made.items()]
    values: dict[str, Any] = {"maps": maps, "width_mm": width, "depth_mm": depth}
    return _kept(store, ident, step_id, values, made.values(), f"Lay over: {other.name}")


def photo_over(store: Store, ident: str, step_id: str, digest: str) -> State:
    """Name a photo that is stored already in a row that lays it over the material."""
    values = {"maps": [{"thread": "base", "source": digest}]}
    return _kept(store, ident, step_id, values, [digest], "Lay over: a photo")


def _kept(store: Store, ident: str, step_id: str, values: dict[str, Any], digests: Any, words: str) -> State:
    state = store.get(ident)
    found: dict[str, SourceRef] = {d: store.source_ref(d) for d in digests}
    weave = state.weave.model_copy(update={"sources": {**state.weave.sources, **found}})
    weave = weave.with_settings(step_id, values)
    return store.change(ident, state.head, weave, words)
