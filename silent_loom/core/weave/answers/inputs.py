"""What a value is made of: the one account that keys, what is held, computations and windows go by."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field

from silent_loom.core.base.errors import NotMade
from silent_loom.core.weave import threads
from silent_loom.core.weave.answers.plan import Plan, Row
from silent_loom.core.weave.step import Texels

Place = tuple[int, str, Texels]
"""A thread above the row at a position, at a size."""


@dataclass(frozen=True)
class Mixing:
    """What a row's own result meets.

    Attributes
    ----------
    start : int
        Position of the row, or of the first one of the group, that it comes in at.
    before : tuple, optional
        Place of the thread as it was; None where nothing made it, and it is neutral.
    mask : tuple, optional
        Place of the thread that the mask is made of.
    """

    start: int
    before: Place | None
    mask: Place | None


@dataclass(frozen=True)
class Inputs:
    """Everything that a value is made of.

    Attributes
    ----------
    row : int
        Position of the row that makes it.
    texels : tuple of float
        Size at which that row takes in what it reads.
    reads : mapping
        Places of the threads that it takes in, by name: of a step that moves pixels the thread itself, of the end of a group what
        the group made of it.
    coarser : tuple of mapping
        The same at the smaller sizes at which a step reads its inputs, too. They come of the same rows as ``reads``.
    mixing : Mixing, optional
        What the result meets; None where it takes the place of what was there.
    decides_on : mapping
        Places of the threads that the row's decision is made of.
    """

    row: int
    texels: Texels
    reads: Mapping[str, Place]
    coarser: tuple[Mapping[str, Place], ...] = ()
    mixing: Mixing | None = None
    decides_on: Mapping[str, Place] = field(default_factory=dict)

    def places(self) -> Iterator[Place]:
        """Everything but what the row decides on: that is looked at only where there is no decision yet."""
        yield from self.reads.values()
        for size in self.coarser:
            yield from size.values()
        if self.mixing is not None:
            yield from (p for p in (self.mixing.mask, self.mixing.before) if p is not None)


InputsOf = Callable[[Plan, Place], Inputs]
"""What a value is made of, as an evaluator with its limits says."""


def inputs_of(plan: Plan, place: Place, finer: float, decision_size: int) -> Inputs:
    """What a value is made of.

    Parameters
    ----------
    plan : Plan
    place : Place
    finer : float
        How many times finer than the value a map's step may ask for its inputs at most.
    decision_size : int
        Texels along the longer side at which steps decide.

    Raises
    ------
    NotMade
        No row makes the thread there.
    WeaveError
        The row that would make it cannot run.

    >>> from silent_loom.core.weave.answers.plan import planned
    >>> from silent_loom.core.weave.rows.model import StepEntry, Weave
    >>> plan = planned(Weave(steps=(StepEntry(step="blank"), StepEntry(step="tone", settings={"gamma": 2}))), None)
    >>> dict(inputs_of(plan, (2, "base", (64.0, 64.0)), 2.0, 256).reads)
    {'base': (1, 'base', (64.0, 64.0))}
    """
    at, thread, texels = place
    i = plan.maker(at, thread)
    if i < 0:
        raise NotMade(f"nothing makes {threads.spec(thread).title.lower()}", "weave", "Add a step that writes it.")
    row = plan.rows[i]
    if row.error:
        raise row.error
    asked = asked_texels(row, texels, finer)
    alone = row.step.geometric or row.ends_group
    reads = {t: (i, t, asked) for t in ((thread,) if alone else row.reads)}
    sizes = () if row.ends_group else row.step.coarser(row.settings, row.after, texels)
    coarser = tuple({t: (i, t, size) for t in row.reads} for size in sizes)
    mixing = None
    if not row.step.geometric and row.mixes(thread):
        start = row.first if row.ends_group else i
        mask = row.entry.mask
        mixing = Mixing(
            start,
            (start, thread, texels) if thread in plan.threads_at(start) else None,
            (start, mask.thread, texels) if mask is not None else None,
        )
    return Inputs(i, asked, reads, coarser, mixing, decided_on(row, i, decision_size))


def asked_texels(row: Row, texels: Texels, finer: float) -> Texels:
    """The size at which a row takes in what it makes a value of that size of.

    >>> from silent_loom.core.weave.answers.plan import planned
    >>> from silent_loom.core.weave.rows.model import StepEntry, Weave
    >>> plan = planned(Weave(steps=(StepEntry(step="blank"), StepEntry(step="seamless", settings={"overlap_x": 0.5}))), None)
    >>> asked_texels(plan.rows[1], (64.0, 64.0), 2.0)
    (128.0, 80.0)
    """
    asked = row.step.demand(row.settings, row.before, row.after, texels)
    return (
        asked if row.step.geometric or max(asked) <= finer * max(texels) else row.after.at_longer_side(round(finer * max(texels)))
    )


def decided_on(row: Row, i: int, decision_size: int) -> dict[str, Place]:
    """Places of the threads that the row at a position decides on; none where it decides nothing. A part of the decision size is
    enough for some steps.

    >>> from silent_loom.core.weave.answers.plan import planned
    >>> from silent_loom.core.weave.rows.model import StepEntry, Weave
    >>> plan = planned(Weave(steps=(StepEntry(step="blank"), StepEntry(step="light"))), None)
    >>> decided_on(plan.rows[1], 1, 256)
    {'base': (1, 'base', (64, 64))}
    """
    step = row.step
    if not step.decides or row.error:
        return {}
    reads = row.reads
    if step.geometric:
        weights = getattr(row.settings, "weights", None)
        weigh = weights() if callable(weights) else {}
        weighed = (t for t, meaning in row.present.items() if weigh.get(t, meaning.weight) > 0)
        reads = tuple(dict.fromkeys((*weighed, *row.reads))) if step.decision_scale else ()
    texels = row.before.at_longer_side(max(16, round(decision_size * step.decision_scale)))
    return {t: (i, t, texels) for t in reads}
