"""Lists of rows to begin with, as data in the folder ``recipes``, with open slots for what is brought.

The files of the folder itself are what the application begins photos, map sets and empty sheets with. Those in ``surfaces`` are
recipes for the artist, a file a family: see `saved`.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from functools import cache
from importlib import resources
from typing import Any

from pydantic import BaseModel, ConfigDict, Field

from silent_loom.core.base.errors import WeaveError
from silent_loom.core.base.troubles import passed_over
from silent_loom.core.weave import registry
from silent_loom.core.weave.rows import tree
from silent_loom.core.weave.rows.beginnings import of_pattern
from silent_loom.core.weave.rows.model import Dial, Drive, Entry, GroupEntry, Mask, MixMode, SourceRef, StepEntry, Weave


class _Said(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class RecipeRow(_Said):
    """A row to be made."""

    step: str
    settings: dict[str, Any] = {}
    fill: dict[str, str] = Field({}, description="Settings that come from a slot, by the name of the slot.")
    when: str = Field("", description="Only where whoever begins says so.")
    unless: str = Field("", description="Not where a row above makes this thread.")
    needs: str = Field("", description="Only where a row above makes this thread.")
    on: bool = True
    mask: Mask | None = Field(None, description="Where it takes effect; see `Mask`.")
    amount: float = Field(1.0, ge=0, le=1)
    mix: MixMode = "replace"
    note: str = ""


class RecipePattern(_Said):
    """The relief, colours and finish of a pattern that a material may begin from, as groups of their own."""

    pattern: str
    seed: int | None = None
    settings: dict[str, Any] = {}


class RecipeDial(_Said):
    """A dial of a group; its rows are named by their paths within the group, the dial of a group inside by its title."""

    title: str
    value: float = 0.5
    low: float = 0.0
    high: float = 1.0
    drives: tuple[Drive, ...] = ()


class RecipeGroup(_Said):
    """A group to be made."""

    name: str
    rows: tuple[RecipeRow | RecipeGroup | RecipePattern, ...]
    dials: tuple[RecipeDial, ...] = ()
    folded: bool = False
    when: str = ""


class Recipe(_Said):
    """What a material may begin with."""

    name: str
    title: str
    says: str = ""
    family: str = Field("", description="Where it stands among the others.")
    words: tuple[str, ...] = Field((), description="By which somebody may look for it.")
    slots: tuple[str, ...] = Field((), description="What has to be brought: a photo, maps.")
    rows: tuple[RecipeRow | RecipeGroup | RecipePattern, ...]

    def step_names(self) -> list[str]:
        """Steps of its outermost rows, in order."""
        return [r.step for r in self.rows if isinstance(r, RecipeRow)]


@cache
def recipes() -> dict[str, Recipe]:
    """Every recipe that ships, by name.

    >>> sorted(recipes())
    ['photo', 'photo_by_light', 'set', 'sheet']
    """
    folder = resources.files("silent_loom.core") / "recipes"
    found: list[Recipe] = []
    for file in folder.iterdir():
        if file.name.endswith(".json"):
            with passed_over(f"recipes/{file.name}"):
                found.append(Recipe.model_validate_json(file.read_text("utf-8")))
    return {r.name: r for r in sorted(found, key=lambda r: r.name)}


def recipe(name: str) -> Recipe:
    """One recipe.

    Raises
    ------
    WeaveError
        There is none of this name.

    >>> recipe("photo").title
    'From a photo'
    """
    if name not in recipes():
        raise WeaveError(f"there is no recipe called '{name}'", "recipe", f"There are {', '.join(recipes())}.")
    return recipes()[name]


def begun(
    name: str,
    slots: Mapping[str, Any] | None = None,
    settings: Mapping[str, Mapping[str, Any]] | None = None,
    sources: Mapping[str, SourceRef] | None = None,
    when: Collection[str] = (),
) -> Weave:
    """A weave made from a recipe.

    Parameters
    ----------
    slots : mapping
        What fills its slots.
    settings : mapping
        Changed settings by name of step; of the first outermost row of that name.
    sources : mapping
        The files behind it.
    when : collection of str
        What whoever begins says, for rows that ask for it.

    Raises
    ------
    WeaveError, SettingError
        A slot is not filled, or a setting is wrong.

    >>> [row.step for row in begun("sheet").rows()][:2]
    ['blank', 'repair']
    """
    told, filled = recipe(name), slots or {}
    missing = [s for s in told.slots if s not in filled]
    if missing:
        raise WeaveError(f"it needs {', '.join(missing)}", told.title, "Bring what it is made from.")
    return Weave(steps=made(told.rows, filled, settings or {}, when), sources=dict(sources or {}))


def made(
    rows: tuple[RecipeRow | RecipeGroup | RecipePattern, ...],
    slots: Mapping[str, Any] | None = None,
    settings: Mapping[str, Mapping[str, Any]] | None = None,
    when: Collection[str] = (),
) -> tuple[Entry, ...]:
    """Rows of a weave from those of a recipe; see `begun`.

    >>> [type(entry).__name__ for entry in made(recipe("sheet").rows)][:1]
    ['StepEntry']
    """
    return _made(rows, slots or {}, settings or {}, when, set())


def _made(
    rows: tuple[RecipeRow | RecipeGroup | RecipePattern, ...],
    slots: Mapping[str, Any],
    settings: Mapping[str, Mapping[str, Any]],
    when: Collection[str],
    there: set[str],
) -> tuple[Entry, ...]:
    made: list[Entry] = []
    for row in rows:
        if isinstance(row, RecipePattern):
            made += of_pattern(row.pattern, row.seed, row.settings)
            continue
        if row.when and row.when not in when:
            continue
        if isinstance(row, RecipeGroup):
            inside = _made(row.rows, slots, {}, when, there)
            dials = tuple(
                Dial(
                    **dial.model_dump(exclude={"drives"}),
                    drives=tuple(_driving(inside, d) for d in dial.drives),
                )
                for dial in row.dials
            )
            made.append(GroupEntry(name=row.name, rows=inside, dials=dials, folded=row.folded))
            continue
        if (row.unless and row.unless in there) or (row.needs and row.needs not in there):
            continue
        first = not any(isinstance(e, StepEntry) and e.step == row.step for e in made)
        values = {**row.settings, **{k: slots[v] for k, v in row.fill.items()}, **(settings.get(row.step, {}) if first else {})}
        checked = registry.settings_of(row.step, values)
        there.update(registry.step(row.step).writes(checked))
        version = registry.step(row.step).version
        made.append(
            StepEntry(
                step=row.step,
                settings=values,
                on=row.on,
                version=version,
                mask=row.mask,
                amount=row.amount,
                mix=row.mix,
                note=row.note,
            )
        )
    return tuple(made)


def _driving(inside: Sequence[Entry], drive: Drive) -> Drive:
    """A drive whose row is named by its id, and the dial of a group by its own."""
    row = tree.find(inside, drive.row)
    dials = {d.title: d.id for d in getattr(tree.at(inside, row).entry, "dials", ())}
    return drive.model_copy(update={"row": row, "setting": dials.get(drive.setting, drive.setting)})


def starting_weave(digest: str, source: SourceRef, **settings: dict[str, Any]) -> Weave:
    """The weave that a new photo starts with.

    Parameters
    ----------
    digest, source
        The photo.
    **settings
        Changed settings by name of step.

    >>> photo = SourceRef(name="deck.png", format="png", width=640, height=480, bytes=1000)
    >>> [row.step for row in starting_weave("ab" * 32, photo).rows()][:2]
    ['photo', 'straighten']
    """
    return begun("photo", {"photo": digest}, settings, {digest: source})
