"""Ready-made rows: groups that are good at their first touch, sized for the sheet that they are put on."""

from __future__ import annotations

import json
from collections.abc import Collection
from functools import cache
from importlib import resources
from typing import Any

from pydantic import BaseModel, ConfigDict, Field

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.weave import registry
from silent_loom.core.weave.rows import tree
from silent_loom.core.weave.rows.model import GroupEntry, Mask, StepEntry, Weave
from silent_loom.core.weave.rows.recipes import RecipeGroup, made

SPARES = "spare"
"""The setting of a step that names a mask of what has colour and no form."""


class Ready(BaseModel):
    """Rows that are put in together.

    Attributes
    ----------
    name, title, says : str
        Key, and what the screen shows.
    words : tuple of str
        By which somebody may look for them.
    needs : tuple of str
        Maps that have to be there.
    picture : str
        The step whose picture stands for them.
    group : dict
        A group of a recipe; a length that begins with '@' is a part of the sheet's width.
    keeps_out : str
        A mask that is made by hand: what it holds does not count in height and roughness, and each row of the group goes right
        below the row that makes what it changes. Nothing for rows that go in as a group.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    name: str
    title: str
    says: str
    words: tuple[str, ...] = Field(min_length=5)
    needs: tuple[str, ...] = ()
    picture: str
    group: dict[str, Any]
    keeps_out: str = ""


@cache
def ready() -> dict[str, Ready]:
    """All of them by name, in the order in which they are shown.

    >>> list(ready())[:2]
    ['grime', 'worn']
    """
    text = (resources.files("silent_loom.core") / "recipes" / "ready" / "rows.json").read_text("utf-8")
    return {r.name: r for r in map(Ready.model_validate, json.loads(text))}


def ready_group(name: str, width_mm: float, present: Collection[str]) -> GroupEntry:
    """The rows of one, as a group for a sheet of a width.

    Parameters
    ----------
    present : collection of str
        Maps that are there; rows that would change one that is not there are left out.

    Raises
    ------
    WeaveError
        There is none of this name, or a map that it needs is missing.

    >>> [r.step for r in ready_group("worn", 1000.0, ["base", "height"]).rows]
    ['wear', 'tone']
    """
    told = ready().get(name)
    if told is None:
        raise WeaveError(f"there are no ready-made rows called '{name}'", "add", f"There are {', '.join(ready())}.")
    lost = next((t for t in told.needs if t not in present), None)
    if lost is not None:
        raise WeaveError(f"it needs a {lost} to work on, and nothing makes one", told.title, "Add a step that makes it above.")
    sized = _sized(told.group, width_mm)
    rough = "roughness" in present
    sized["rows"] = [r for r in sized["rows"] if rough or r.get("settings", {}).get("into") != "roughness"]
    (entry,) = made((RecipeGroup.model_validate(sized),))
    assert isinstance(entry, GroupEntry)
    return entry


def with_ready(weave: Weave, name: str, width_mm: float, present: Collection[str]) -> Weave:
    """A weave with ready-made rows in it: see `ready_group`, and `Ready` for where they go.

    Raises
    ------
    WeaveError
        There is none of this name, or a map that it needs is missing.

    >>> from silent_loom.core.weave.rows.beginnings import woven_from
    >>> rows = with_ready(woven_from("gravel"), "worn", 500.0, ["base", "height"]).steps
    >>> rows[-1].name
    'Worn edges'
    """
    group = ready_group(name, width_mm, present)
    told = ready()[name]
    return (
        _kept_out(weave, group, told.keeps_out) if told.keeps_out else weave.model_copy(update={"steps": (*weave.steps, group)})
    )


def _kept_out(weave: Weave, group: GroupEntry, mask: str) -> Weave:
    """A mask by hand above whatever reads form out of colour, the rows of a group below what they change."""
    number = 1 + sum(
        r.settings.get("name", "").rpartition("_")[0] == mask or r.settings.get("name") == mask for r in weave.rows()
    )
    own = mask if number == 1 else f"{mask}_{number}"
    reading = [r for r in weave.rows() if SPARES in registry.fields(r.step)]
    by_hand = StepEntry(step=registry.able("mask"), settings={"name": own})
    if not reading:
        return weave.model_copy(update={"steps": (*weave.steps, by_hand)})
    for row in reading:
        if row.settings.get(SPARES, "none") == "none":
            weave = weave.with_settings(row.id, {SPARES: own})
    for extra in group.rows:
        assert isinstance(extra, StepEntry)
        into = extra.settings.get("into", "height")
        maker = next((r for r in reversed(reading) if into in registry.step(r.step).writes(_settings(r))), None)
        if maker is not None:
            limited = extra.model_copy(update={"mask": Mask(thread=own)})
            weave = weave.model_copy(update={"steps": tree.replaced(weave.steps, maker.id, (weave.at(maker.id), limited))})
    first = weave.at(reading[0].id)
    return weave.model_copy(update={"steps": tree.replaced(weave.steps, first.id, (by_hand, first))})


def _settings(row: StepEntry) -> Any:
    return registry.settings_of(row.step, row.settings)


def _sized(value: Any, width_mm: float) -> Any:
    if isinstance(value, dict):
        return {k: _sized(v, width_mm) for k, v in value.items()}
    if isinstance(value, list):
        return [_sized(v, width_mm) for v in value]
    if isinstance(value, str) and value.startswith("@"):
        return float(f"{float(value[1:]) * width_mm:.3g}")
    return value
