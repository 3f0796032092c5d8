"""A model put under a material: a source of its weave from then on, with a row that lays the material on it."""

from __future__ import annotations

from typing import BinaryIO

from silent_loom.core.weave import registry
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.store.states import State
from silent_loom.store.store import Store
from silent_loom.work.changes.making import make
from silent_loom.work.changes.of_rows import Add, OtherModel

END = 1_000_000
"""A place below every row."""


def put_under(
    store: Store,
    evaluator: Evaluator,
    ident: str,
    stream: BinaryIO,
    name: str,
    taken: tuple[str, str] = ("", ""),
    step_id: str = "",
    base: int = 0,
) -> State:
    """Keep a model and name it in the row that lays the material on one; such a row is added at the end where there is none.

    ``taken`` is the unit of the file and its axis that points up, empty where the file is believed. What has moved against
    a model that was there before stands in the history.

    Raises
    ------
    FileError
        It is no model; nothing is changed.
    WeaveError, SettingError
        The row lays nothing on.
    """
    digest = store.add_model_source(stream, name)
    state = store.get(ident)
    row = step_id or next((r.id for r in state.weave.rows() if registry.can(r.step, "lay on")), "")
    if not row:
        before = {r.id for r in state.weave.rows()}
        state = make(store, evaluator, ident, Add(step=registry.able("lay on"), to=END, base=base))
        row, base = next(r.id for r in state.weave.rows() if r.id not in before), state.head
    return make(store, evaluator, ident, OtherModel(base=base, step_id=row, digest=digest, unit=taken[0], up=taken[1]))
