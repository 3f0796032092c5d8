"""Materials of a library laid on models, and models written with delivered materials, for the command line and HTTP."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.delivery.models.laid_on import Layer, deliver_laid
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
    surface = onto_itself(model, (size, size), uv)
    with ExitStack() as open_ones:
        layers, titles = [], []
        for what, where, how in [(material, (), laying), *((o.material, o.where, o.laying) for o in over)]:
            store, state = open_ones.enter_context(opened(what, data))
            layers.append(Layer(evaluator_of(store), state.weave, how, where))
            titles.append(state.name)
        called = name or f"{titles[0]} on {model_name}"
        return deliver_laid(surface, layers, wanted, out, called, titles, padding=padding, force=force, task=task)
