"""A weave baked into a folder of files for a receiver."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Mapping
from contextlib import AbstractContextManager, nullcontext
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from silent_loom.core.base.errors import Full, LoomError
from silent_loom.core.base.images import Image
from silent_loom.core.base.parallel import IDLE, Task
from silent_loom.core.delivery.baking.forecast import check_memory, memory_there
from silent_loom.core.delivery.baking.makers import How, maker
from silent_loom.core.delivery.beyond import check_limits, measured, packing_that_fits
from silent_loom.core.delivery.completing import completed
from silent_loom.core.delivery.files import Order, deliver_as_made
from silent_loom.core.delivery.fitting import Fit, fit
from silent_loom.core.delivery.package.beside import Worn
from silent_loom.core.delivery.packing import needed
from silent_loom.core.delivery.profile import Profile
from silent_loom.core.ways.squared import squared
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.answers.plan import Plan
from silent_loom.core.weave.rows.model import Weave

SPARE = 64 << 20
"""Bytes that a disk is to have left after a bake."""


@dataclass(frozen=True)
class BakeOrder:
    """How a weave is baked.

    Attributes
    ----------
    size : int
        Texels along the longer side.
    how : How
    skip_constant : bool
        Maps that are the same everywhere get no file; their values stand in the manifest.
    two_sided : bool
    version : int
    memory : int
        Bytes that may be used; 0 for three quarters of what the machine can give.
    leave : tuple of str
        Maps that the artist leaves out: the files are made as if the material had none of them.
    anyway : bool
        Bake even what goes beyond the limits of its receiver.
    fitting : bool
        Take the packing that fits, where the profile's own goes beyond those limits.
    """

    size: int = 1024
    how: How = field(default_factory=How)
    skip_constant: bool = False
    two_sided: bool = False
    version: int = 1
    memory: int = 0
    leave: tuple[str, ...] = ()
    anyway: bool = True
    fitting: bool = False

    def delivery(self, how: Fit, present: tuple[str, ...], worn: Worn | None) -> Order:
        """How the files of a weave with these threads are written."""
        return Order(how, True, self.version, self.skip_constant, self.two_sided, present, self.leave, self.anyway, worn)

    def kept(self, present: Mapping[str, Any]) -> dict[str, Any]:
        """Maps of a material, or what is known of them, without those that are left out."""
        return {name: known for name, known in present.items() if name not in self.leave}


def bake(
    evaluator: Evaluator,
    weave: Weave,
    wanted: Profile,
    folder: Path,
    name: str,
    order: BakeOrder,
    *,
    hold: Callable[[], AbstractContextManager[Any]] = nullcontext,
    about: Callable[[], Mapping[str, Any]] = dict,
    force: bool = False,
    task: Task = IDLE,
) -> dict[str, Any]:
    """Bake a weave.

    Parameters
    ----------
    evaluator, weave
    wanted : Profile
    folder : path
        New or empty, unless ``force``.
    name : str
        First part of every file name.
    order : BakeOrder
    hold : callable
        Gives what is held while one map is computed; files are written outside of it.
    about : callable
        More for the manifest.

    Returns
    -------
    dict
        The manifest.

    Raises
    ------
    LoomError
        It would need more memory or disk than there is (said before it is begun), nothing is made, or a file is in the way.
    """
    weave, wanted = _asked_for(evaluator, weave, wanted, order)
    plan = evaluator.plan(weave)
    names = needed(wanted, order.kept(plan.threads))
    how = fit(wanted, plan.geometry.size_mm, order.size)
    check_memory(how.width, how.height, order.how.supersample, order.memory or memory_there() * 3 // 4)
    check_disk(folder, disk_for(wanted, how))
    whole = maker(evaluator, weave, how.ask, order.how, task.part(0, 0))
    with hold():
        make = squared(whole, names, wanted, plan.geometry.size_mm, task.part(0, 0))

    more: dict[str, Any] = {"weave": weave.model_dump(mode="json"), **asdict(order.how), **_on_model(plan, weave)}
    alone = order.how.supersample == 1 and not order.how.lit  # no map is made from another one that is asked for as well
    with evaluator.holding(weave, names, how.ask * order.how.supersample) as kept:

        def held(thread: str) -> Image:
            with hold():
                image = make(thread)
            if alone:
                kept.made(thread)
            return image

        return deliver_as_made(
            folder,
            name,
            names,
            held,
            wanted,
            meanings=plan.threads,
            about=lambda: {**more, **about()},
            order=order.delivery(how, tuple(plan.threads), worn_by(evaluator, plan)),
            force=force,
            task=task,
        )


def worn_by(evaluator: Evaluator, plan: Plan) -> Worn | None:
    """The model that the maps of a weave lie on, if any."""
    on = plan.geometry.on
    return None if on is None else Worn(on.read(evaluator.sources), on.uv)


def _on_model(plan: Plan, weave: Weave) -> dict[str, Any]:
    """What a manifest says of the model that the maps lie on."""
    on = plan.geometry.on
    if on is None:
        return {}
    file = weave.sources[on.model].name if on.model in weave.sources else ""
    told = {"file": file, "sha256": on.model, "uv": on.uv, "by": on.laying.by}
    repeats = [round(plan.geometry.size_mm[k] / on.laying.scale / on.sheet_mm[k], 4) for k in (0, 1)]
    return {"on_model": {**told, "repeats": repeats}}


def _asked_for(evaluator: Evaluator, weave: Weave, wanted: Profile, order: BakeOrder) -> tuple[Weave, Profile]:
    """The weave with every map that is asked for, and the profile as it fits; what cannot be baked is refused here."""
    if (error := evaluator.plan(weave).error()) is not None:
        raise error
    wanted = wanted.without(order.leave)
    weave = completed(evaluator, weave, wanted, order.leave)
    plan = evaluator.plan(weave)
    names = needed(wanted, order.kept(plan.threads))
    if not names:
        raise LoomError("the material makes none of the maps that this profile asks for", wanted.name, "Choose another profile.")
    measure = measured(names, fit(wanted, plan.geometry.size_mm, order.size))
    if order.fitting and (taken := packing_that_fits(wanted, names, measure)):
        wanted = taken[-1].profile
        names = needed(wanted, order.kept(plan.threads))
    if not order.anyway:  # what can be said before hours of work: bytes are counted at the end
        check_limits(wanted, measure(wanted), names, measure)
    return weave, wanted


def disk_for(wanted: Profile, how: Fit) -> int:
    """Bytes that the files of a delivery take at most, about: as if nothing could be compressed.

    >>> from silent_loom.core.delivery.fitting import fit
    >>> from silent_loom.core.delivery.shelf import profile
    >>> disk_for(profile("plain"), fit(profile("plain"), (100.0, 100.0), 1024)) > 2**20
    True
    """
    each = {"8": 1, "16": 2, "half": 2, "float": 4}
    texels = how.width * how.height
    return sum(texels // f.share**2 * len(f.channels) * each[f.depth] for f in wanted.files)


def check_disk(folder: Path, need: int) -> None:
    """Refuse before anything is written what a disk cannot hold.

    Raises
    ------
    Full
    """
    there = folder.absolute()
    while not there.exists():
        there = there.parent
    free = shutil.disk_usage(there).free
    if free < need + SPARE:
        raise Full(
            f"the disk has {free / 1e9:.2f} GB left, and this bake may need {(need + SPARE) / 1e9:.2f} GB",
            str(folder),
            "Make room, choose another folder, or bake smaller.",
        )
