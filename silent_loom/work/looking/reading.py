"""Reading maps: how values and colours are spread, at any row."""

from __future__ import annotations

from typing import Any

from silent_loom.core.base.errors import NotMade
from silent_loom.core.base.images import Kind
from silent_loom.core.base.parallel import Rank, Task
from silent_loom.core.files.png import png_bytes
from silent_loom.core.screen.display import histogram
from silent_loom.core.screen.reading import colour_plot, reach_of, spread
from silent_loom.core.weave.rows.model import Weave
from silent_loom.work.desk import Desk


class Reading:
    """What there is to read in a map of a stored material."""

    def __init__(self, desk: Desk) -> None:
        self.desk = desk

    def spread(self, ident: str, thread: str, size: int, below: str | None = None, **how: Any) -> dict[str, Any]:
        """Numbers of each channel, what is cut off, and a histogram (see `spread`)."""

        def work(weave: Weave, task: Task) -> dict[str, Any]:
            evaluator = self.desk.evaluator_for(weave, how.get("draft"), size)
            image, meaning = evaluator.ask(weave, thread, size, task, below=below), evaluator.meaning(weave, thread, below=below)
            counts = [] if image.kind is Kind.ID else histogram(image, meaning)
            reach = reach_of(image) if image.kind is Kind.COLOUR else 0.0
            facts = {"reach": reach, "title": meaning.title, "kind": str(image.kind), "low": meaning.low, "high": meaning.high}
            return {**spread(image, meaning), **facts, "histogram": counts}

        return self.desk.answer(ident, work, rank=Rank.ASIDE, **how)

    def colours(self, ident: str, thread: str, size: int, below: str | None = None, **how: Any) -> bytes:
        """The plot of hues and chroma as a PNG.

        Raises
        ------
        NotMade
            The thread holds no colour.
        """

        def work(weave: Weave, task: Task) -> bytes:
            evaluator = self.desk.evaluator_for(weave, how.get("draft"), size)
            image = evaluator.ask(weave, thread, size, task, below=below)
            if image.kind is not Kind.COLOUR:
                raise NotMade("only colours are spread over hues", thread, "Choose a map of colour.")
            return png_bytes(colour_plot(image)[0], colour=True)

        return self.desk.answer(ident, work, rank=Rank.ASIDE, **how)
