"""A weave laid on a model: its maps in the model's UV set, another one over it where a mask says so."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.images import Floats, Image, Kind
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.delivery.completing import completed
from silent_loom.core.delivery.files import Order, deliver
from silent_loom.core.delivery.fitting import Fit
from silent_loom.core.delivery.names import file_name
from silent_loom.core.delivery.packing import needed
from silent_loom.core.delivery.placing import check_folder
from silent_loom.core.delivery.profile import Profile
from silent_loom.core.form.bake.surface import Surface
from silent_loom.core.form.lay.laying import Laying, lay, repeats
from silent_loom.core.form.lay.places import Where, mask
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.answers.plan import flat_part
from silent_loom.core.weave.rows.model import Weave
from silent_loom.core.weave.threads import ThreadSpec

LEAST, MOST = 64, 8192
"""Texels along the longer side at which a sheet is made for a model."""


@dataclass(frozen=True)
class Layer:
    """A material and where on the model it lies.

    Attributes
    ----------
    evaluator, weave
    laying : Laying
    where : tuple of Where
        Masks that are multiplied; everywhere if there are none.
    """

    evaluator: Evaluator
    weave: Weave
    laying: Laying
    where: tuple[Where, ...] = ()


def sheet_size(surface: Surface, size_mm: tuple[float, float], laying: Laying) -> int:
    """Texels along the longer side of a sheet that has on the model as many of them as the model's texture has.

    >>> from silent_loom.core.form.model import plate
    >>> sheet_size(Surface(plate(), "", (1024, 1024), 1, []), (500.0, 250.0), Laying())
    512
    """
    pitch = surface.unit_mm / max(surface.size) if surface.unit_mm > 0 else size_mm[0] / 1024
    return int(np.clip(round(max(size_mm) * laying.scale / pitch), LEAST, MOST))


def laid_on(
    surface: Surface, layers: Sequence[Layer], wanted: Profile, padding: float = 0.0, task: Task = IDLE
) -> tuple[dict[str, Image], dict[str, ThreadSpec]]:
    """Maps of a model.

    Parameters
    ----------
    surface : Surface
        The model laid out (see `places.onto_itself`).
    layers : sequence of Layer
        From below; the first one lies everywhere.
    wanted : Profile
        Which maps are made.
    padding : float
        Texels around islands that are filled; all there are if 0.

    Returns
    -------
    maps, meanings
        Those of the first material; what their numbers mean covers what lies over it, too.

    Raises
    ------
    LoomError
        A weave cannot be evaluated, makes none of the maps, or a mask goes by what the model lacks.

    Notes
    -----
    Where a material lies over another, colours mix in linear light, heights in millimetres, directions as vectors, and
    numbers of IDs never.

    >>> from silent_loom.core.delivery.shelf import profile
    >>> from silent_loom.core.form.lay.places import onto_itself
    >>> from silent_loom.core.form.model import plate
    >>> try:
    ...     laid_on(onto_itself(plate(), (8, 8)), [], profile("plain"))
    ... except LoomError as error:
    ...     print(error.what)
    no material is laid on
    """
    if not layers:
        raise LoomError("no material is laid on", "", "Name one.")
    maps: dict[str, Image] = {}
    meanings: dict[str, ThreadSpec] = {}
    for k, layer in enumerate(layers):
        part = task.part(k / len(layers), (k + 1) / len(layers))
        sheets, told = _sheets(surface, layer, wanted, part.part(0.0, 0.5))
        if k:
            sheets = {n: s for n, s in sheets.items() if n in maps}
        if not sheets:
            raise LoomError("the material makes none of the maps that are asked for", wanted.name, "Choose another profile.")
        found = lay(surface, sheets, layer.laying, padding, part.part(0.5, 0.9)).maps
        if not k:
            maps, meanings = found, told
            continue
        meanings = {n: m.wider(told[n]) if n in found else m for n, m in meanings.items()}
        share = np.ones((surface.size[1], surface.size[0], 1), np.float32)
        for where in layer.where:
            share = share * mask(surface, where, padding, part.part(0.9, 1.0)).pixels
        maps = {n: _over(image, found[n], share) if n in found else image for n, image in maps.items()}
    return maps, meanings


def deliver_laid(
    surface: Surface,
    layers: Sequence[Layer],
    wanted: Profile,
    out: Path,
    name: str,
    titles: Sequence[str],
    *,
    padding: float = 0.0,
    hold: Callable[[], AbstractContextManager[Any]] = nullcontext,
    force: bool = False,
    task: Task = IDLE,
) -> dict[str, Any]:
    """Lay materials on a model and deliver its maps; the manifest.

    Parameters
    ----------
    surface, layers, padding
        See `laid_on`.
    out : path
        New or empty, unless ``force``.
    name : str
        First part of file names.
    titles : sequence of str
        What the materials are called.
    hold : callable
        Gives what is held while maps are computed; files are written outside of it.

    Raises
    ------
    LoomError
        Nothing can be laid on, or the folder is not empty.
    """
    check_folder(out, force)
    wanted = wanted.model_copy(update={"models": ()})  # a flat sheet with the material on it would show the layout
    with hold():
        maps, meanings = laid_on(surface, layers, wanted, padding, task.part(0.0, 0.9))
    (width, height), side = surface.size, next(iter(maps.values())).size_mm
    sheet_mm = layers[0].evaluator.plan(layers[0].weave).geometry.size_mm
    told = {
        "meshes": list(surface.model.meshes)[:50],
        "uv": surface.uv_name or next(iter(surface.model.uvs)),
        "by": layers[0].laying.by,
        "of": list(titles),
        "repeats": [round(v, 4) for v in repeats(surface, sheet_mm, layers[0].laying)],
    }
    return deliver(
        out,
        file_name(name),
        maps,
        wanted,
        meanings=meanings,
        about={"on_model": told},
        order=Order(Fit(width, height, max(width, height), (1, 1), side), True),
        force=force,
        task=task.part(0.9, 1.0),
    )


def _sheets(surface: Surface, layer: Layer, wanted: Profile, task: Task) -> tuple[dict[str, Image], dict[str, ThreadSpec]]:
    plan = layer.evaluator.plan(layer.weave)
    if (error := plan.error()) is not None:
        raise error
    weave = completed(layer.evaluator, flat_part(plan, layer.weave), wanted)  # the sheet of one that lies on a model already
    plan = layer.evaluator.plan(weave)
    names = needed(wanted, dict(plan.threads))
    size = sheet_size(surface, plan.geometry.size_mm, layer.laying)
    sheets = {}
    for k, name in enumerate(names):
        task.report(k / max(1, len(names)), plan.threads[name].title)
        sheets[name] = layer.evaluator.ask(weave, name, size, task.part(0.0, 0.0))
    return sheets, {n: plan.threads[n] for n in names}


def _over(below: Image, above: Image, share: Floats) -> Image:
    if below.kind is Kind.ID:
        return below.with_pixels(np.where(share > 0.5, above.pixels, below.pixels))
    mixed = below.pixels + (above.pixels - below.pixels) * share
    if below.kind is Kind.NORMAL:
        mixed = mixed / np.maximum(np.sqrt((mixed**2).sum(-1, keepdims=True)), 1e-6)
    return below.with_pixels(mixed.astype(np.float32))
