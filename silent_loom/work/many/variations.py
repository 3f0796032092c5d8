"""Sheets of variations: one weave with other seeds and dials, and what lies between two of them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from silent_loom.core.base.parallel import Rank, Task
from silent_loom.core.weave.rows.dials import Variant, between, has_seeds, knobs, variants
from silent_loom.core.weave.rows.model import Weave
from silent_loom.store.states import State
from silent_loom.work.cards import pictured
from silent_loom.work.desk import Desk

MOST = 48
"""Variants of one sheet."""
SIZES = {"small": (256, 320, 240), "large": (768, 960, 720)}
"""Texels of the maps, and width and height of the picture."""


@dataclass(frozen=True)
class Choice:
    """One of a sheet, or what lies between two of it.

    Attributes
    ----------
    one, other : Variant
    share : float
        How far from the one to the other; 0 without one.
    """

    one: Variant
    other: Variant | None = None
    share: float = 0.0

    def of(self, weave: Weave) -> Weave:
        """The weave as it has it.

        Raises
        ------
        SettingError
        """
        first = self.one.of(weave)
        return first if self.other is None else between(first, self.other.of(weave), self.share)

    def words(self, weave: Weave) -> str:
        """For the history."""
        titles = {k.dial.id: k.dial.title for k in knobs(weave)}
        if self.other is not None:
            return f"Between two variations, {round(100 * self.share)} %"
        said = [f"{titles[d]} {v:.2f}" for d, v in self.one.dials if d in titles]
        return ", ".join(["Variation", *([f"seed {self.one.seed}"] if self.one.seed else []), *said])[:200]


class Variations:
    """Sheets of variations of stored materials."""

    def __init__(self, desk: Desk) -> None:
        self.desk = desk

    def about(self, ident: str) -> dict[str, Any]:
        """What of a material can vary: its dials, and whether anything in it goes by chance."""
        weave = self.desk.store.get(ident).weave
        dials = [
            {
                "id": k.dial.id,
                "name": k.name,
                "title": k.dial.title,
                "value": k.dial.value,
                "low": k.dial.low,
                "high": k.dial.high,
            }
            for k in knobs(weave)
        ]
        return {"dials": dials, "seeds": has_seeds(weave)}

    def sheet(self, ident: str, count: int, dials: Sequence[str], spread: float, seeds: bool, first: int) -> dict[str, Any]:
        """A sheet of a material as it stands now; its pictures are asked for one by one.

        Raises
        ------
        SettingError
            Nothing is there to vary.
        """
        state = self.desk.store.get(ident)
        made = variants(state.weave, min(count, MOST), dials, spread, seeds, first)
        return {"entry": state.head, "variants": [{"seed": v.seed, "dials": dict(v.dials)} for v in made]}

    def picture(self, ident: str, entry: int, choice: Choice, size: str) -> bytes:
        """A variation under light, PNG."""
        texels, width, height = SIZES[size]

        def work(weave: Weave, task: Task) -> bytes:
            return pictured(self.desk.evaluator, choice.of(weave), task, texels, width, height)

        return self.desk.answer(ident, work, entry=entry, rank=Rank.ASIDE)

    def keep(self, ident: str, entry: int, choice: Choice, anew: bool) -> State:
        """Make a variation the present state, or a material of its own.

        Raises
        ------
        Conflict
            The material has moved on since the sheet was made; the variation is then kept beside the line.
        """
        store = self.desk.store
        weave = store.weave_at(ident, entry)
        made, words = choice.of(weave), choice.words(weave)
        if not anew:
            return store.change(ident, entry, made, words)
        state = store.get(ident)
        return store.create(f"{state.name}, {words[:1].lower()}{words[1:]}"[:200], made, f"{words} of {state.name}", state.origin)


def choice_of(told: Mapping[str, Any]) -> Choice:
    """A choice as a page sends it."""

    def one(said: Mapping[str, Any]) -> Variant:
        return Variant(int(said.get("seed", 0)), tuple((str(k), float(v)) for k, v in dict(said.get("dials", {})).items()))

    other = told.get("other")
    return Choice(one(told), one(other) if other else None, float(told.get("share", 0.0)))
