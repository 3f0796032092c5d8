"""A weave with the maps that a profile asks for: those that nothing makes yet are read off the surface, or delivery stops."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from difflib import get_close_matches
from typing import Any

from silent_loom.core.base.errors import LoomError
from silent_loom.core.base.images import Kind
from silent_loom.core.delivery.profile import Profile
from silent_loom.core.weave import registry, threads
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.rows.model import StepEntry, Weave
from silent_loom.core.weave.threads import ThreadSpec


def completed(evaluator: Evaluator, weave: Weave, wanted: Profile, leave: Collection[str] = ()) -> Weave:
    """A weave that makes what a profile asks for, as far as the surface itself says it.

    A map that is read off the relief (normal, occlusion, cavity, curvature, thickness, slope) is made from the finished height by
    a step at the end. What only the artist can say (metallic, opacity, emission …) keeps its neutral value. Files that the
    profile calls optional are left out as before.

    Parameters
    ----------
    evaluator, weave
    wanted : Profile
    leave : collection of str
        Maps that the artist leaves out.

    Raises
    ------
    LoomError
        The profile asks for a name that neither a row, nor a step, nor the list of maps knows; or for a map that cannot be
        made here, and that has no neutral value. The words say what there is, and what is near.
    """
    present: Mapping[str, ThreadSpec] = evaluator.plan(weave).threads
    for name in threads.order(wanted.insists_on() - set(leave)):
        if name in present:
            continue
        made = with_map(weave, name, present)
        if made is not weave:
            weave = made
            present = evaluator.plan(weave).threads
        elif name not in threads.THREADS or name in _read_off():
            _refuse(name, present, wanted)
    return weave


def with_map(weave: Weave, name: str, present: Mapping[str, ThreadSpec]) -> Weave:
    """A weave with a row at its end that reads a map off the relief.

    The same weave where no step does, or where its input is missing.

    >>> from silent_loom.core.weave.threads import spec
    >>> [r.step for r in with_map(Weave(), "cavity", {"height": spec("height")}).rows()]
    ['curvature']
    """
    step = registry.maker(name)
    if step is None:
        return weave
    settings = registry.asked_for(name)
    reads = registry.step(step).reads(registry.settings_of(step, settings))
    if not _relief(reads) or any(t not in present for t in reads):
        return weave
    return weave.model_copy(update={"steps": (*weave.steps, StepEntry(step=step, settings=settings))})


def check_maps(present: Mapping[str, Any], wanted: Profile, leave: Collection[str] = ()) -> None:
    """Refuse a profile that asks finished maps for one which they have not, and which has no neutral value.

    Raises
    ------
    LoomError
    """
    for name in threads.order(wanted.insists_on() - set(leave)):
        if name not in present and name not in threads.THREADS:
            _refuse(name, present, wanted)


def _relief(reads: Collection[str]) -> bool:
    """Whether a step reads nothing but the form of the surface, so that its result is no guess."""
    return bool(reads) and all(t == "height" or threads.spec(t).kind is Kind.NORMAL for t in reads)


def _read_off() -> set[str]:
    """Maps beyond the usual ones that are read off the relief, which say nothing where there is none."""
    found = set()
    fresh = (t for s in registry.steps().values() for t in (*s.writes(s.Settings()), *s.asked))
    for name in dict.fromkeys((*threads.THREADS, *fresh)):
        step = None if threads.spec(name).always else registry.maker(name)
        if step is not None and _relief(registry.step(step).reads(registry.settings_of(step, registry.asked_for(name)))):
            found.add(name)
    return found


def _refuse(name: str, present: Mapping[str, Any], wanted: Profile) -> None:
    can_be = _read_off() | set(threads.THREADS)
    near = get_close_matches(name, [*present, *sorted(can_be - set(present))], n=2, cutoff=0.6)
    there = ", ".join(threads.order(present)) or "nothing"
    if name in can_be:
        raise LoomError(
            f"the profile '{wanted.name}' asks for {name}, which is read off the height, and there is no height",
            name,
            f"There is {there}. Add a step that makes the height, or leave the map out.",
        )
    asked = f"Did you mean {' or '.join(near)}? " if near else ""
    raise LoomError(
        f"the profile '{wanted.name}' asks for this map, and nothing makes it",
        name,
        f"{asked}There is {there}. Mend the profile, add a step that makes the map, or leave it out.",
    )
