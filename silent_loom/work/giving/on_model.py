"""Materials of a library laid on models, and models written with delivered materials, for the command line and HTTP."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.delivery.files import Order, deliver
from silent_loom.core.delivery.fitting import Fit
from silent_loom.core.delivery.models.laid_on import Layer, laid_on
from silent_loom.core.delivery.names import file_name
from silent_loom.core.delivery.profile import Profile
from silent_loom.core.form.lay.laying import Laying
from silent_loom.core.form.lay.places import Where, onto_itself
from silent_loom.core.form.model import Model
from silent_loom.work.giving.alone import evaluator_of, opened


@dataclass(frozen=True)
class Over:
    """Another material over the first.

    Attributes
    ----------
    material : str
        As `opened` takes it.
    where : tuple of Where
    laying : Laying
    """

    material: str
    where: tuple[Where, ...]
    laying: Laying


def lay_material(
    material: str,
    model: Model,
    wanted: Profile,
    out: Path,
    size: int,
    laying: Laying,
    *,
    over: Sequence[Over] = (),
    uv: str = "",
    padding: float = 0.0,
    name: str = "",
    model_name: str = "model",
    data: Path | None = None,
    force: bool = False,
    task: Task = IDLE,
) -> dict[str, Any]:
    """Lay materials on a model and deliver the maps in its UV set; the manifest.

    Raises
    ------
    LoomError
        There is no such material, the model has no UVs, or the folder is not empty.
    """
    if wanted.square == "crop" or wanted.models:
        wanted = wanted.model_copy(update={"models": ()})  # a sheet with the material on it would show the UV layout
    surface = onto_itself(model, (size, size), uv)
    with ExitStack() as open_ones:
        layers, titles = [], []
        for what, where, how in [(material, (), laying), *((o.material, o.where, o.laying) for o in over)]:
            store, state = open_ones.enter_context(opened(what, data))
            layers.append(Layer(evaluator_of(store), state.weave, how, where))
            titles.append(state.name)
        maps, meanings = laid_on(surface, layers, wanted, padding, task.part(0.0, 0.8))
    side = next(iter(maps.values())).size_mm
    return deliver(
        out,
        file_name(name or f"{titles[0]} on {model_name}"),
        maps,
        wanted,
        meanings=meanings,
        about={"on_model": {"meshes": list(model.meshes)[:50], "uv": uv or next(iter(model.uvs)), "by": laying.by, "of": titles}},
        order=Order(Fit(size, size, size, (1, 1), side), True),
        force=force,
        task=task.part(0.8, 1.0),
    )
