"""Changes made: each becomes one entry of a material's history."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Any

from pydantic import Field, TypeAdapter, ValidationError

from silent_loom.core.base.errors import SettingError
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.store.states import State
from silent_loom.store.store import Store
from silent_loom.work.changes.change import Change, Seen
from silent_loom.work.changes.of_groups import Dissolve, Fold, Group, RemoveDial, Rename, SetDial
from silent_loom.work.changes.of_rows import (
    Add,
    AddReady,
    Mix,
    Move,
    Note,
    OtherModel,
    OtherPhoto,
    Paste,
    Remove,
    SettingsChange,
    Switch,
)

AnyChange = Annotated[
    SettingsChange
    | Switch
    | Move
    | Add
    | AddReady
    | Remove
    | Mix
    | Note
    | Paste
    | OtherPhoto
    | OtherModel
    | Group
    | Dissolve
    | Fold
    | Rename
    | SetDial
    | RemoveDial,
    Field(discriminator="kind"),
]
"""What can be done to a material, told apart by its kind."""

_CHANGES: TypeAdapter[Sequence[Change]] = TypeAdapter(list[AnyChange])


def make(store: Store, evaluator: Evaluator, ident: str, change: Change) -> State:
    """Make one change on the state of a material that it was meant for.

    If the material has moved on meanwhile, the store keeps the change beside the line.

    Raises
    ------
    WeaveError, SettingError
        It cannot be made there; nothing is stored.
    """
    base = change.base or store.get(ident).head
    weave = store.weave_at(ident, base)
    after, label = change.made(Seen(weave, evaluator, {d: store.source_ref(d) for d in change.digests()}))
    return store.get(ident) if after == weave else store.change(ident, base, after, label)


def make_all(store: Store, evaluator: Evaluator, ident: str, changes: Sequence[Change]) -> State:
    """Make changes one after the other, each on what the one before it left.

    Raises
    ------
    WeaveError, SettingError
        One cannot be made; what was made before it stays.
    """
    state = store.get(ident)
    for change in changes:
        state = make(store, evaluator, ident, change.model_copy(update={"base": state.head}))
    return state


def read_changes(told: Any) -> Sequence[Change]:
    """Changes out of JSON: one, or a list of them.

    Raises
    ------
    SettingError
        It holds none, or something else; says which and what.

    >>> read_changes({"kind": "switch", "step_id": "normal", "on": False})
    [Switch(base=0, step_id='normal', kind='switch', on=False)]
    """
    try:
        return _CHANGES.validate_python(told if isinstance(told, list) else [told])
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"])
        words = f"this is no change: {first['msg'].lower()}"
        raise SettingError(words, where, "Write it as it is sent to the bench.") from None
