"""Two states of a surface held against each other, in numbers and as a picture."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from silent_loom.core.base.errors import NotMade
from silent_loom.core.base.images import Image
from silent_loom.core.base.parallel import Rank, Task
from silent_loom.core.delivery.proving.difference import as_filed, differences, picture_of
from silent_loom.core.moving.resample import resize
from silent_loom.core.weave.rows.model import Weave
from silent_loom.core.weave.threads import ThreadSpec
from silent_loom.work.desk import Desk
from silent_loom.work.giving.received import Receiving
from silent_loom.work.looking.sight import Sight


@dataclass(frozen=True)
class Side:
    """One of the two that are compared.

    Attributes
    ----------
    material : str
        Id of another material; the one that is asked about where it is empty.
    entry : int, optional
        A state of its history; the present one without it.
    sight : Sight
    delivery, mistake : str
        A delivery as its receiver has it, in place of a state, with a usual mistake made on purpose.
    """

    material: str = ""
    entry: int | None = None
    sight: Sight = field(default_factory=Sight)
    delivery: str = ""
    mistake: str = ""


class Comparing:
    """Differences between states, steps off and materials."""

    def __init__(self, desk: Desk, receiving: Receiving) -> None:
        self.desk, self.receiving = desk, receiving

    def difference(
        self, ident: str, thread: str, size: int, one: Side, other: Side, view: str = "", sequence: int = 0
    ) -> tuple[bytes, dict[str, Any]]:
        """How far a map of one side is from that of the other.

        Both are compared as a plain delivery writes them; a side of another shape is laid over the first one's texels.

        Returns
        -------
        picture : bytes
            RGB, row by row.
        facts : dict
            The numbers (see `Difference`), width, height, and ``resized``: whether the other had to be.
        """

        def work(weave: Weave, task: Task) -> tuple[bytes, dict[str, Any]]:
            first, meaning = self._map(weave, one.sight, thread, size, task)
            if other.delivery:
                second, theirs = self.receiving.one(other.delivery, thread, size, other.mistake)
            else:
                second, theirs = self._map(self._other(ident, other), other.sight, thread, size, task)
            if theirs.kind is not meaning.kind:
                raise NotMade(f"{meaning.title} is of another kind there", thread, "Compare another map.")
            resized = second.pixels.shape != first.pixels.shape
            if resized:
                second = resize(second, first.width, first.height)
            meaning = meaning.wider(theirs)
            found = differences(as_filed(first, meaning, task), as_filed(second, meaning, task), meaning)
            picture = picture_of(found)
            return picture.tobytes(), {
                **found.as_dict(),
                "width": first.width,
                "height": first.height,
                "resized": resized,
                "thread": thread,
            }

        entry = one.entry
        return self.desk.answer(one.material or ident, work, entry=entry, view=view, sequence=sequence, rank=Rank.ASIDE)

    def _other(self, ident: str, side: Side) -> Weave:
        store, material = self.desk.store, side.material or ident
        return store.get(material).weave if side.entry is None else store.weave_at(material, side.entry)

    def _map(self, weave: Weave, sight: Sight, thread: str, size: int, task: Task) -> tuple[Image, ThreadSpec]:
        seen = self.desk.seen(weave, sight)
        evaluator = self.desk.evaluator_for(seen, None, size)
        return evaluator.ask(seen, thread, size, task), evaluator.meaning(seen, thread)
